"""Core errors as responses: one clear line, under `detail`."""

from __future__ import annotations

import errno
import logging
from collections.abc import Mapping
from typing import Any, TypeVar

from django.db import DatabaseError, OperationalError
from django.db.models import Manager, Model, QuerySet
from rest_framework.exceptions import NotFound, ParseError, ValidationError
from rest_framework.parsers import JSONParser
from rest_framework.response import Response
from rest_framework.views import exception_handler

from ecumen.errors import EcumenError

log = logging.getLogger("ecumen.api")


class BoundedJSONParser(JSONParser):
    """JSON that no depth of brackets can turn into a failure of ours."""

    def parse(
        self, stream: Any, media_type: str | None = None, context: Mapping[str, Any] | None = None
    ) -> Any:
        try:
            return super().parse(stream, media_type, context)
        except RecursionError as error:
            raise ParseError("JSON parse error - it is nested too deeply") from error


_Row = TypeVar("_Row", bound=Model)


def one_of(rows: Manager[_Row] | QuerySet[_Row], missing: str, **by: Any) -> _Row:
    """The one row that is meant. Raises NotFound, in words: an address may name what is gone."""
    row = rows.filter(**by).first()
    if row is None:
        raise NotFound(missing)
    return row


def handle(error: Exception, context: dict[str, Any]) -> Response | None:
    if isinstance(error, EcumenError):
        return Response({"detail": str(error)}, status=400)
    if isinstance(error, ValidationError):
        fields = error.detail if isinstance(error.detail, dict) else {"": error.detail}
        # One clear line: the first fault, as each must be mended before the next is met.
        field, lines = next(iter(fields.items()))
        text = lines if isinstance(lines, str) else " ".join(str(line) for line in lines)
        about = "" if field in ("", "detail", "non_field_errors") else f"{field}: "
        return Response({"detail": f"{about}{text}"}, status=400)
    if isinstance(error, DatabaseError | OSError):
        told = _of_the_disk(error)
        if told is not None:
            log.error("%s", error)
            # "Insufficient Storage" (RFC 4918, section 11.5): the request was right, and can be
            # sent again.
            return Response({"detail": told}, status=507)
    return exception_handler(error, context)


def _of_the_disk(error: Exception) -> str | None:
    """What is said where records cannot be written down; None where that is not it."""
    code = error.errno if isinstance(error, OSError) else None
    text = str(error)
    if code == errno.ENOSPC or "disk is full" in text:
        return "There is no room left where the records are kept: make some, and try again."
    if code == errno.EROFS or "readonly database" in text:
        return "Where the records are kept, nothing can be written at present."
    if code == errno.EIO or (isinstance(error, OperationalError) and "disk I/O" in text):
        return "The disk that the records are kept on fails; the server's log says more."
    return None
