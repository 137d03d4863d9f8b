"""Who may sign in. Roles beyond `administers` there are none yet."""

from __future__ import annotations

from django.contrib.auth import get_user_model
from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.db import transaction

from ecumen.errors import EcumenError
from ecumen_web.store.models import PersonRecord


class PeopleError(EcumenError):
    """There is no such person, or the password is none."""


def any_there() -> bool:
    return bool(get_user_model().objects.filter(is_active=True).exists())


def is_there(name: str) -> bool:
    return bool(get_user_model().objects.filter(username=name).exists())


def _named(name: str) -> User:
    try:
        return get_user_model().objects.get(username=name)
    except User.DoesNotExist:
        raise PeopleError(f"{name}: nobody of this name may sign in") from None


@transaction.atomic
def add(name: str, password: str, *, administers: bool = False, must_change: bool = True) -> None:
    """Raises PeopleError where the name is taken or is none."""
    if is_there(name):
        raise PeopleError(f"{name}: there is such a person already")
    user = User(username=name, is_staff=administers)
    try:
        user.clean_fields(exclude=["password"])
    except ValidationError as error:
        raise PeopleError(f"{name}: {' '.join(error.messages)}") from error
    user.set_password(password)
    user.save()
    PersonRecord.objects.create(user=user, must_change=must_change)


def set_password(name: str, password: str) -> None:
    """By somebody else: it must be changed at the next signing in. All sessions end."""
    user = _named(name)
    user.set_password(password)
    user.is_active = True
    user.save()
    PersonRecord.objects.update_or_create(user=user, defaults={"must_change": True})


def close(name: str) -> None:
    """Nobody signs in by this name any more; all sessions end."""
    user = _named(name)
    user.is_active = False
    # Beside being inactive: whoever makes the account active again by hand must also set a
    # password.
    user.set_unusable_password()
    user.save()


def must_change(user: User) -> bool:
    return PersonRecord.objects.filter(user=user, must_change=True).exists()


def change_own(user: User, old: str, new: str) -> None:
    """Raises PeopleError that says what is wrong with the new one, or that the old one is wrong."""
    # A session that was left open is not enough to take an account over.
    if not user.check_password(old):
        raise PeopleError("The present password is another one.")
    if old == new:
        raise PeopleError("Choose a password that is not the present one.")
    try:
        validate_password(new, user)
    except ValidationError as error:
        raise PeopleError(" ".join(error.messages)) from error
    user.set_password(new)
    user.save()
    PersonRecord.objects.update_or_create(user=user, defaults={"must_change": False})
