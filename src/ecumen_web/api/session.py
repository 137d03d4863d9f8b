"""Signing in and out with Django's own accounts."""

from __future__ import annotations

from django.contrib.auth import authenticate, login, logout
from django.middleware.csrf import get_token
from django.utils.decorators import method_decorator
from django.views.decorators.csrf import csrf_protect
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.permissions import AllowAny
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.throttling import ScopedRateThrottle
from rest_framework.views import APIView


class SessionSerializer(serializers.Serializer[object]):
    """administers: whether visitors' addresses may be seen whole."""

    signed_in = serializers.BooleanField()
    name = serializers.CharField()
    administers = serializers.BooleanField()
    token = serializers.CharField()


class SignInSerializer(serializers.Serializer[object]):
    name = serializers.CharField(max_length=150)
    password = serializers.CharField(max_length=500, trim_whitespace=False)


class ProblemSerializer(serializers.Serializer[object]):
    detail = serializers.CharField()


class SignInThrottle(ScopedRateThrottle):
    """Counts attempts to sign in, and nothing else."""

    scope_attr = "throttle_scope"

    def allow_request(self, request: Request, view: APIView) -> bool:
        return request.method != "POST" or super().allow_request(request, view)


@method_decorator(csrf_protect, name="dispatch")
class SessionView(APIView):
    permission_classes = (AllowAny,)
    throttle_classes = (SignInThrottle,)
    throttle_scope = "sign-in"

    @extend_schema(responses=SessionSerializer)
    def get(self, request: Request) -> Response:
        """Who is signed in, and the token that changes must carry."""
        return self._state(request)

    @extend_schema(
        request=SignInSerializer,
        responses={200: SessionSerializer, 400: ProblemSerializer, 429: ProblemSerializer},
    )
    def post(self, request: Request) -> Response:
        """Signs in."""
        given = SignInSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        user = authenticate(
            request._request,
            username=given.validated_data["name"],
            password=given.validated_data["password"],
        )
        if user is None:
            return Response({"detail": "Name and password do not belong together."}, status=400)
        login(request._request, user)
        request.user = user
        return self._state(request)

    @extend_schema(request=None, responses={200: SessionSerializer})
    def delete(self, request: Request) -> Response:
        """Signs out."""
        logout(request._request)
        request.user = request._request.user
        return self._state(request)

    def _state(self, request: Request) -> Response:
        token = get_token(request._request)
        signed_in = bool(request.user and request.user.is_authenticated)
        name = request.user.get_username() if signed_in else ""
        whole = {
            "signed_in": signed_in,
            "name": name,
            "administers": signed_in and request.user.is_staff,
            "token": token,
        }
        return Response(whole)
