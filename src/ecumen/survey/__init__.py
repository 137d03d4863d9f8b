"""The survey: what was seen on one server at one time, and its file."""

from ecumen.survey.archive import read_survey, write_survey
from ecumen.survey.files import Acl, AclEntry, Entry, FileTable, Kind, acl_text, parse_acl
from ecumen.survey.filter import PacketFilter
from ecumen.survey.hosts import HOSTS_FILE, leading, led_by, parse_hosts
from ecumen.survey.labels import Labels, PolicyTexts
from ecumen.survey.model import (
    ROTATION_ENTRIES,
    ROTATION_FILE,
    Account,
    ConfigCheck,
    EngineRecord,
    Gap,
    Group,
    Listener,
    Mount,
    NameRecord,
    Survey,
)
from ecumen.survey.overlay import Delta, after
from ecumen.survey.seals import Certificate, SealFile

__all__ = [
    "HOSTS_FILE",
    "ROTATION_ENTRIES",
    "ROTATION_FILE",
    "Account",
    "Acl",
    "AclEntry",
    "Certificate",
    "ConfigCheck",
    "Delta",
    "EngineRecord",
    "Entry",
    "FileTable",
    "Gap",
    "Group",
    "Kind",
    "Labels",
    "Listener",
    "Mount",
    "NameRecord",
    "PacketFilter",
    "PolicyTexts",
    "SealFile",
    "Survey",
    "acl_text",
    "after",
    "leading",
    "led_by",
    "parse_acl",
    "parse_hosts",
    "read_survey",
    "write_survey",
]
