"""Signing in and out with Django's own accounts."""

from __future__ import annotations

from typing import cast

from django.conf import settings
from django.contrib.auth import authenticate, login, logout, update_session_auth_hash
from django.contrib.auth.models import User
from django.middleware.csrf import get_token
from django.utils import timezone
from django.utils.decorators import method_decorator
from django.views.decorators.csrf import csrf_protect
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.exceptions import Throttled
from rest_framework.permissions import AllowAny
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ecumen_web.front import TICKET, ticket
from ecumen_web.store.people import change_own, must_change
from ecumen_web.throttle import MARK, MARK_AGE, SignInTrial, mark_of


class SessionSerializer(serializers.Serializer[object]):
    """administers: whether visitors' addresses may be seen whole. must_change: nothing else can be
    done before an own password is chosen.
    """

    signed_in = serializers.BooleanField()
    name = serializers.CharField()
    administers = serializers.BooleanField()
    must_change = serializers.BooleanField()
    token = serializers.CharField()


class SignInSerializer(serializers.Serializer[object]):
    name = serializers.CharField(max_length=150)
    password = serializers.CharField(max_length=500, trim_whitespace=False)


class ProblemSerializer(serializers.Serializer[object]):
    detail = serializers.CharField()


class NewPasswordSerializer(serializers.Serializer[object]):
    old = serializers.CharField(max_length=500, trim_whitespace=False)
    new = serializers.CharField(max_length=500, trim_whitespace=False)


@method_decorator(csrf_protect, name="dispatch")
class SessionView(APIView):
    permission_classes = (AllowAny,)

    @extend_schema(responses=SessionSerializer)
    def get(self, request: Request) -> Response:
        """Who is signed in, and the token that changes must carry."""
        return _state(request)

    @extend_schema(
        request=SignInSerializer,
        responses={200: SessionSerializer, 400: ProblemSerializer, 429: ProblemSerializer},
    )
    def post(self, request: Request) -> Response:
        """Signs in."""
        given = SignInSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        name = given.validated_data["name"]
        address = request.META.get("REMOTE_ADDR", "")
        trial = SignInTrial.of(name, address, request.COOKIES.get(MARK))
        wait = trial.wait()
        if wait > 0:
            raise Throttled(wait=wait)
        password = given.validated_data["password"]
        user = authenticate(request._request, username=name, password=password)
        if user is None:
            trial.failed()
            return Response({"detail": "Name and password do not belong together."}, status=400)
        trial.succeeded()
        login(request._request, user)
        request._request.session["confirmed_at"] = timezone.now().timestamp()
        request.user = user
        response = _state(request)
        _set(response, MARK, mark_of(name), MARK_AGE)
        _set(response, TICKET, ticket(name), settings.SESSION_COOKIE_AGE)
        return response

    @extend_schema(request=None, responses={200: SessionSerializer})
    def delete(self, request: Request) -> Response:
        """Signs out."""
        logout(request._request)
        request.user = request._request.user
        response = _state(request)
        response.delete_cookie(TICKET, samesite="Strict")
        return response


class PasswordView(APIView):
    @extend_schema(
        request=NewPasswordSerializer, responses={200: SessionSerializer, 400: ProblemSerializer}
    )
    def post(self, request: Request) -> Response:
        """Changes one's own password; one's other sessions end."""
        given = NewPasswordSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        user = cast(User, request.user)
        change_own(user, given.validated_data["old"], given.validated_data["new"])
        update_session_auth_hash(request._request, user)
        return _state(request)


def _state(request: Request) -> Response:
    token = get_token(request._request)
    signed_in = bool(request.user and request.user.is_authenticated)
    name = request.user.get_username() if signed_in else ""
    whole = {
        "signed_in": signed_in,
        "name": name,
        "administers": signed_in and request.user.is_staff,
        "must_change": signed_in and must_change(cast(User, request.user)),
        "token": token,
    }
    return Response(whole)


def _set(response: Response, name: str, value: str, age: int) -> None:
    response.set_cookie(
        name, value, max_age=age, httponly=True, samesite="Strict", secure=settings.HTTPS
    )
