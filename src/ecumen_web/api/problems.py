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
        first = next(iter(error.detail.items())) if isinstance(error.detail, dict) else None
        text = f"{first[0]}: {first[1][0]}" if first else str(error)
        return Response({"detail": text}, status=400)
    return exception_handler(error, context)
