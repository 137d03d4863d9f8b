"""The audit: what is wrong on a server, over all sites at once, each with its evidence."""

from ecumen.audit import checks
from ecumen.audit.check import CHECKS, Check
from ecumen.audit.finding import Audit, FailedCheck, Finding, Impact, Remedy, Toll
from ecumen.audit.run import audit

__all__ = [
    "CHECKS", "Audit", "Check", "FailedCheck", "Finding", "Impact", "Remedy", "Toll", "audit",
    "checks",
]  # fmt: skip
