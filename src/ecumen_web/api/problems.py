"""Core errors as responses: one clear line, under `detail`."""

from __future__ import annotations

from typing import Any

from rest_framework.exceptions import ValidationError
from rest_framework.response import Response
from rest_framework.views import exception_handler

from ecumen.errors import EcumenError


def handle(error: Exception, context: dict[str, Any]) -> Response | None:
    if isinstance(error, EcumenError):
        return Response({"detail": str(error)}, status=400)
    if isinstance(error, ValidationError):
        fields = error.detail if isinstance(error.detail, dict) else {"": error.detail}
        field, lines = next(iter(fields.items()))
        text = " ".join(str(line) for line in lines)
        return Response({"detail": f"{field}: {text}"}, status=400)
    return exception_handler(error, context)
