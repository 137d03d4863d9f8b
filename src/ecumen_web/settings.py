"""Django's settings: from the environment, with safe defaults.

ECUMEN_HOME: where records are kept. ECUMEN_HOSTS: further host names that may be asked for,
separated by commas. ECUMEN_HTTPS: `1` where a proxy in front speaks TLS. ECUMEN_PROXY: the address
from which that proxy asks; what others say of forwarding is not believed. ECUMEN_IDLE: minutes
after which a session that nobody uses ends. ECUMEN_ANSWER_WITHIN: seconds after which an answer is
given up. ECUMEN_COUNTRIES: a database of addresses and their countries.
"""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from csp.constants import NONE, SELF

from ecumen_machine.keeper import KeeperDoor
from ecumen_web.home import HomeError, home, secret


def _number(name: str, usual: int, what: str) -> int:
    given = os.environ.get(name, "")
    if given and not (given.isascii() and given.isdecimal() and 0 < int(given) < 100_000):
        raise HomeError(f"{name}={given}: write a whole number of {what}")
    return int(given) if given else usual


HOME = home()
APP = Path(__file__).parent / "app"
SURVEYS = HOME / "surveys"
_COUNTRIES = os.environ.get("ECUMEN_COUNTRIES", "")
COUNTRIES = Path(_COUNTRIES) if _COUNTRIES else None
LARGEST_UPLOAD = 2 << 30  # bytes

SECRET_KEY = secret("secret-key")
DEBUG = False
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]"] + [
    name for name in os.environ.get("ECUMEN_HOSTS", "").split(",") if name
]
ROOT_URLCONF = "ecumen_web.urls"
WSGI_APPLICATION = "ecumen_web.wsgi.application"
USE_TZ = True
TIME_ZONE = "UTC"
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "rest_framework",
    "drf_spectacular",
    "csp",
    "ecumen_web.store",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "csp.middleware.CSPMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "ecumen_web.sessions.sessions",
    "ecumen_web.api.seals.calendars",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "ecumen_web.kept.kept",
    "ecumen_web.answering.answered_apart",
]
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": HOME / "ecumen.sqlite3",
        # Each thread keeps its own: opening one takes longer than most questions.
        "CONN_MAX_AGE": None,
        "OPTIONS": {
            "timeout": 20,
            "transaction_mode": "IMMEDIATE",
            "init_command": "PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL;",
        },
    }
}
CACHES = {
    "default": {
        "BACKEND": "django.core.cache.backends.locmem.LocMemCache",
        # Who guesses with thousands of names must not push out what was counted.
        "OPTIONS": {"MAX_ENTRIES": 1_000_000},
    }
}
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator"},
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
]

HTTPS = os.environ.get("ECUMEN_HTTPS") == "1"
PROXY = os.environ.get("ECUMEN_PROXY", "127.0.0.1" if HTTPS else "")
# Whether an account still stands, and has this password, is asked of the records each time.
SESSION_ENGINE = "django.contrib.sessions.backends.cached_db"
SESSION_COOKIE_HTTPONLY = CSRF_COOKIE_HTTPONLY = True
SESSION_COOKIE_SAMESITE = CSRF_COOKIE_SAMESITE = "Strict"
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = HTTPS
SESSION_COOKIE_AGE = 12 * 3600
IDLE = _number("ECUMEN_IDLE", 30, "minutes") * 60  # seconds
SECURE_REFERRER_POLICY = "same-origin"
SECURE_CROSS_ORIGIN_OPENER_POLICY = "same-origin"
X_FRAME_OPTIONS = "DENY"
# The scheme is what the trusted proxy says of it; all others' words are stripped by the server.
SECURE_HSTS_SECONDS = 365 * 24 * 3600 if HTTPS else 0
CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": [NONE],
        "script-src": [SELF],
        "style-src": [SELF],
        "font-src": [SELF],
        "img-src": [SELF, "data:"],
        "connect-src": [SELF],
        "base-uri": [NONE],
        "form-action": [SELF],
        "frame-ancestors": [NONE],
    }
}

STATIC_URL = "/static/"
WHITENOISE_ROOT = APP if APP.is_dir() else None
# Names of built files hold a hash of their contents.
WHITENOISE_IMMUTABLE_FILE_TEST = r"^/assets/.+$"

DATA_UPLOAD_MAX_MEMORY_SIZE = 10 << 20
REST_FRAMEWORK = {
    "DEFAULT_AUTHENTICATION_CLASSES": ["rest_framework.authentication.SessionAuthentication"],
    "DEFAULT_PERMISSION_CLASSES": ["rest_framework.permissions.IsAuthenticated"],
    "DEFAULT_RENDERER_CLASSES": ["rest_framework.renderers.JSONRenderer"],
    "DEFAULT_PARSER_CLASSES": ["ecumen_web.api.problems.BoundedJSONParser"],
    # Names that are no UTF-8 hold lone surrogates, which only escapes can carry.
    "UNICODE_JSON": False,
    "DEFAULT_SCHEMA_CLASS": "drf_spectacular.openapi.AutoSchema",
    "EXCEPTION_HANDLER": "ecumen_web.api.problems.handle",
}
SPECTACULAR_SETTINGS = {
    "TITLE": "Ecumen",
    "VERSION": "1",
    "COMPONENT_SPLIT_REQUEST": True,
    "SERVE_INCLUDE_SCHEMA": False,
    "ENUM_NAME_OVERRIDES": {"VerdictEnum": "ecumen.passage.verdict.Verdict"},
}
# What stands in for servers that are not this machine, by the origin of their surveys: the members
# of `ecumen_web.reached.Substitute`.
REACHED: dict[str, dict[str, Any]] = {}
ANSWER_WITHIN = _number("ECUMEN_ANSWER_WITHIN", 60, "seconds")
# The way to logs through the part that keeps root's right to read, where the server was root's.
KEEPER: KeeperDoor | None = None
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {"plain": {"format": "%(levelname)s %(name)s %(message)s"}},
    "handlers": {"console": {"class": "logging.StreamHandler", "formatter": "plain"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
    # That more is asked at once than there are threads is nothing to say, a line each time.
    "loggers": {"waitress.queue": {"level": "ERROR"}},
}
