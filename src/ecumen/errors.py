"""The errors of the core.

EcumenError
├── SurveyError    a survey file that cannot be read
├── RequestError   a question that makes no sense
└── PlanError      a plan that cannot be read
"""


class EcumenError(Exception):
    """One clear line: what, where, what to do."""


class SurveyError(EcumenError):
    """The survey file is not one, or one of its parts is broken."""


class RequestError(EcumenError):
    """The address or the options of a request cannot be understood."""


class ChangedError(EcumenError):
    """Somebody else changed what an operation was about to change."""


class PlanError(EcumenError):
    """The plan is not one, or one of its operations makes no sense."""
