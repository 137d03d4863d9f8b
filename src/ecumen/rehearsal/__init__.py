"""Rehearsals: what a plan would change for visitors and accounts, before anything is touched.

This room stands above the audit. It may ask everything; nothing below knows of it.
"""

from ecumen.rehearsal.rehearse import Fared, Fate, Meets, Rehearsal, Step, rehearse

__all__ = ["Fared", "Fate", "Meets", "Rehearsal", "Step", "rehearse"]
