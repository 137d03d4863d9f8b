"""Rewriting of addresses: what the rules say, and what they make of a request."""

from ecumen.engines.httpd.rewriting.rules import Rewriting, Rule, RuleError, read_rule
from ecumen.engines.httpd.rewriting.run import (
    Action,
    NotEvaluated,
    Result,
    Subject,
    apply,
    location_of,
)

__all__ = [
    "Action",
    "NotEvaluated",
    "Result",
    "Rewriting",
    "Rule",
    "RuleError",
    "Subject",
    "apply",
    "location_of",
    "read_rule",
]
