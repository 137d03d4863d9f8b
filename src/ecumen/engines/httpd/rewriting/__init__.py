"""Rewriting of addresses: what the rules say, and what they make of a request."""

from ecumen.engines.httpd.rewriting.maps import MapTexts, RewriteMap, read_map
from ecumen.engines.httpd.rewriting.rules import RewriteRule, Rewriting, RuleError, read_rule
from ecumen.engines.httpd.rewriting.run import (
    Action,
    NotEvaluated,
    Result,
    RewriteSubject,
    apply,
    location_of,
    untouched,
)

__all__ = [
    "Action",
    "MapTexts",
    "NotEvaluated",
    "Result",
    "RewriteMap",
    "RewriteRule",
    "RewriteSubject",
    "Rewriting",
    "RuleError",
    "apply",
    "location_of",
    "read_map",
    "read_rule",
    "untouched",
]
