"""What the logs say, joined to what the survey explains: whose lines, which causes, since when."""

from ecumen.causes.explain import Cause, Explainer, FailedRequests
from ecumen.causes.sources import LogOfSites, SourceKind, sources

__all__ = ["Cause", "Explainer", "FailedRequests", "LogOfSites", "SourceKind", "sources"]
