"""The checks, by concern; importing one registers it."""

from ecumen.audit.checks import claims, doors, fronts, indexes, roots, served, states

__all__ = ["claims", "doors", "fronts", "indexes", "roots", "served", "states"]
