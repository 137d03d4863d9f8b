"""Logs: lines in the engines' own templates and in open forms, and what they count up to."""

from ecumen.logs.forms import form_of
from ecumen.logs.tally import Tally
from ecumen.logs.template import Form, TemplateError, line_format

__all__ = ["Form", "Tally", "TemplateError", "form_of", "line_format"]
