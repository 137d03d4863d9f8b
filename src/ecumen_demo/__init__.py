"""The demo server: made up, the same from the same seed, and a stand-in that answers for it."""

from ecumen_demo.scenario import DEMO, Moment, demo_survey
from ecumen_demo.standin import StandIn

__all__ = ["DEMO", "Moment", "StandIn", "demo_survey"]
