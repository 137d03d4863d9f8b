"""What a question may be narrowed by, in its query."""

from __future__ import annotations

from typing import Any

from rest_framework import serializers
from rest_framework.request import Request


class Filters(serializers.Serializer[object]):
    # One field for each word of the query; what has no field is no filter, and is not read.
    # (No docstring: it would stand in the description of the API, at each that is derived.)

    @classmethod
    def of(cls, request: Request) -> dict[str, Any]:
        """The values. Raises ValidationError, which names the field, for one that is none."""
        given = cls(data=request.query_params)
        given.is_valid(raise_exception=True)
        return dict(given.validated_data)


def words(help_text: str, longest: int = 4096, exact: bool = False) -> serializers.CharField:
    """A text that may be left out. longest: in characters; the default is that of a path. exact:
    blanks at its ends are part of it, as in names of files.
    """
    return serializers.CharField(
        required=False, default="", allow_blank=True, max_length=longest, help_text=help_text,
        trim_whitespace=not exact,
    )  # fmt: skip
