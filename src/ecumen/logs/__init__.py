"""Access logs: lines in the engines' own templates, and what they count up to."""

from ecumen.logs.tally import Tally
from ecumen.logs.template import LineFormat, TemplateError, line_format

__all__ = ["LineFormat", "Tally", "TemplateError", "line_format"]
