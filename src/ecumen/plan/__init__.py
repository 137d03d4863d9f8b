"""Plans: typed operations on a server, the commands that do them, and what they would open."""

from ecumen.plan.opens import Opener, Opening
from ecumen.plan.operations import Operation
from ecumen.plan.overlay import overlaid

__all__ = ["Opener", "Opening", "Operation", "overlaid"]
