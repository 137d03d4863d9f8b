"""What the logs say, joined to what the survey explains: whose lines, which causes, since when."""

from ecumen.causes.explain import Asked, Cause, Explainer
from ecumen.causes.sources import Source, SourceKind, sources

__all__ = ["Asked", "Cause", "Explainer", "Source", "SourceKind", "sources"]
