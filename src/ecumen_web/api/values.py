"""Values of the core as answers: described by their types, written as they stand."""

from __future__ import annotations

from dataclasses import fields, is_dataclass
from datetime import datetime
from enum import Enum
from functools import cache
from typing import Any, TypeVar

from rest_framework.fields import DateTimeField
from rest_framework_dataclasses.serializers import DataclassSerializer
from rest_framework_dataclasses.types import Dataclass

T = TypeVar("T", bound=Dataclass)
_moment = DateTimeField()
_AS_IT_STANDS = (str, int, float, bool, type(None))


class ValueSerializer(DataclassSerializer[T]):
    # Of a value that is only given out. Its fields are there for the description of the API: made
    # and asked anew for each value, they take ten times as long as what they say.
    # (No docstring: it would stand in that description, at each value.)

    def to_representation(self, instance: T) -> Any:
        return plain(instance)


def plain(value: Any) -> Any:
    """A value in dictionaries, lists, texts and numbers."""
    kind: Any = type(value)
    if kind in _AS_IT_STANDS:
        return value
    names = _names(kind)
    if names is not None:
        return {name: plain(getattr(value, name)) for name in names}
    if isinstance(value, list | tuple | set | frozenset):
        return [plain(each) for each in value]
    if isinstance(value, dict):
        return {plain(key): plain(each) for key, each in value.items()}
    if isinstance(value, Enum):
        return value.value
    if isinstance(value, datetime):
        return _moment.to_representation(value)
    return value


@cache
def _names(kind: Any) -> tuple[str, ...] | None:
    return tuple(field.name for field in fields(kind)) if is_dataclass(kind) else None
