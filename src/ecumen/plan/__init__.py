"""Plans: typed operations on a server, the commands that do them, and what they would open."""

from ecumen.plan.opens import Opening, opens
from ecumen.plan.operations import Operation
from ecumen.plan.overlay import overlaid

__all__ = ["Opening", "Operation", "opens", "overlaid"]
