"""The kernel's packet filter: does a visitor's packet reach a door, and does the answer leave?"""

from ecumen.doors.packet import Packet
from ecumen.doors.passing import Passing, passing
from ecumen.doors.ruleset import Ruleset

__all__ = ["Packet", "Passing", "Ruleset", "passing"]
