"""The one place that touches a server: it looks, and hands what it saw to the core."""

from ecumen_machine.probe import SPECS, EngineSpec, ProbeError, Progress, take_survey

__all__ = ["SPECS", "EngineSpec", "ProbeError", "Progress", "take_survey"]
