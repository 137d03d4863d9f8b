"""The survey file: a ZIP that any unzip opens, and the values in it.

Every part is checked against its JSON Schema (schemas/) when it is read.
"""

from __future__ import annotations

import io
import ipaddress
import json
import lzma
import pkgutil
import re
import struct
import zipfile
import zlib
from collections.abc import Callable, Iterable, Iterator
from dataclasses import asdict
from functools import cache
from typing import IO, Any

import fastjsonschema

from ecumen.errors import SurveyError
from ecumen.survey import columns
from ecumen.survey.files import FileTable, PlainRow, parse_acl
from ecumen.survey.filter import PacketFilter
from ecumen.survey.labels import Labels, PolicyTexts
from ecumen.survey.model import (
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
from ecumen.survey.seals import Certificate, SealFile

FORMAT = 2
# A hostile file must fill neither memory nor time. No part may unpack to more than so many bytes,
# and none of more than a few to many times what it takes packed.
LARGEST_PART = 256 << 20
LARGEST_TABLE = 8 << 30  # of paths
LARGEST_TEXT = 64 << 20
LARGEST_TEXTS = 2 << 30  # together
MOST_PARTS = 1_000_000
FREELY, MOST_TIMES = 16 << 20, 80
LONGEST_LINE = 1 << 20  # of the table, in bytes
# No moment is later than this (seconds since 1970, UTC): the year 9999 less a zone.
LAST_MOMENT = 253_370_000_000
AT_ONCE = 4096  # lines that are taken in together


@cache
def _checker(part: str) -> Callable[[Any], Any]:
    source = pkgutil.get_data("ecumen.survey", f"schemas/{part}.json")
    assert source is not None
    return fastjsonschema.compile(json.loads(source))


def _checked(part: str, value: Any, where: str) -> Any:
    try:
        return _checker(part)(value)
    except fastjsonschema.JsonSchemaException as error:
        raise SurveyError(f"{where}: {error}") from error


def _number(text: str) -> int | float:
    """To the schemas 1.0 and 1e3 are integers; so they are to everybody behind them."""
    number = float(text)
    return int(number) if number.is_integer() else number


_json = json.JSONDecoder(parse_float=_number).decode


def _parsed(text: bytes, where: str) -> Any:
    try:
        return _json(text.decode())
    except (ValueError, RecursionError) as error:
        raise SurveyError(f"{where}: not JSON ({error})") from error


# --- writing ---


def _engine_row(engine: EngineRecord) -> dict[str, Any]:
    return {
        "kind": engine.kind,
        "config": engine.config,
        "version": engine.version,
        "root": engine.root,
        "built_in": list(engine.built_in),
        "defines": list(engine.defines),
        "environment": None if engine.environment is None else dict(engine.environment),
        "declared": engine.declared,
        "running": engine.running,
        "loaded_at": engine.loaded_at,
        "domain": engine.domain,
        "own_view": list(engine.own_view),
        "check": None
        if engine.check is None
        else {"passes": engine.check.passes, "output": engine.check.output},
    }


def _labels_row(labels: Labels) -> dict[str, Any]:
    policy = None if labels.policy is None else asdict(labels.policy)
    return {"files": dict(labels.files), "policy": policy}


def _parts(survey: Survey) -> Iterator[tuple[str, Any]]:
    yield (
        "survey.json",
        {
            "format": FORMAT,
            "host": survey.host,
            "taken_at": survey.taken_at,
            "taken_by": survey.taken_by,
            "engines": [_engine_row(engine) for engine in survey.engines],
            "addresses": list(survey.addresses),
            "gaps": [{"what": g.what, "path": g.path, "why": g.why} for g in survey.gaps],
            "kernel": dict(survey.kernel),
            "mounts": [
                {
                    "path": m.path,
                    "kind": m.kind,
                    "read_only": m.read_only,
                    "no_exec": m.no_exec,
                    **({} if m.labels else {"labels": False}),
                }
                for m in survey.mounts
            ],
        },
    )
    yield (
        "accounts.json",
        {
            "accounts": [
                {"name": a.name, "uid": a.uid, "gid": a.gid, "home": a.home, "shell": a.shell}
                for a in survey.accounts
            ],
            "groups": [
                {"name": g.name, "gid": g.gid, "members": list(g.members)} for g in survey.groups
            ],
        },
    )
    yield (
        "listeners.json",
        [
            {"address": x.address, "port": x.port, "program": x.program, "pid": x.pid}
            for x in survey.listeners
        ],
    )
    yield (
        "names.json",
        [
            {
                "name": n.name,
                "addresses": None if n.addresses is None else list(n.addresses),
                "source": n.source,
                **({"first_for": list(n.first_for)} if n.first_for else {}),
                **({} if n.published is None else {"published": list(n.published)}),
                **({"aliases": list(n.aliases)} if n.aliases else {}),
            }
            for n in survey.names
        ],
    )
    yield "labels.json", _labels_row(survey.labels)
    yield "certificates.json", [_seal_row(each) for each in survey.seals]
    if survey.filter is not None:
        yield "filter.json", _filter_row(survey.filter)
    yield "logs.json", [{"path": path} for path in survey.logs]


def _filter_row(filter_: PacketFilter) -> dict[str, Any]:
    return {
        "nftables": list(filter_.rules),
        "devices": {name: list(each) for name, each in filter_.devices.items()},
        "forwards": filter_.forwards,
        "to_itself": filter_.to_itself,
        "older": list(filter_.older),
    }


def _filter(archive: zipfile.ZipFile) -> PacketFilter | None:
    """None where the survey knows nothing of it."""
    if "filter.json" not in archive.NameToInfo:
        return None
    row = _json_part(archive, "filter")
    devices = {name: tuple(each) for name, each in row["devices"].items()}
    return PacketFilter(
        tuple(row["nftables"]), devices, row["forwards"], row["to_itself"], tuple(row["older"])
    )


def _seal_row(file: SealFile) -> dict[str, Any]:
    """What says nothing is left out."""
    return {
        "path": file.path,
        "certificates": [_said(asdict(each)) for each in file.certificates],
    } | {name: value for name in _OF_FILE if (value := getattr(file, name))}


_OF_FILE = ("why", "key_digest", "key_why")
_LISTS = ("names", "addresses", "issuers")
_OFTEN = ("issuers", "addresses", "anchored", "itself", "stapled")


def _said(row: dict[str, Any]) -> dict[str, Any]:
    return {name: value for name, value in row.items() if value or name not in _OFTEN}


def _seal(row: dict[str, Any]) -> SealFile:
    certificates = tuple(
        Certificate(**{**each, **{name: tuple(each.get(name, ())) for name in _LISTS}})
        for each in row["certificates"]
    )
    return SealFile(row["path"], certificates, **{name: row.get(name, "") for name in _OF_FILE})


def _dated(name: str) -> zipfile.ZipInfo:
    """The same survey gives the same bytes: no part carries the time of writing."""
    info = zipfile.ZipInfo(name)
    info.compress_type = zipfile.ZIP_DEFLATED
    info.external_attr = 0o600 << 16
    return info


def write_survey(survey: Survey, stream: IO[bytes]) -> None:
    """Writes the whole survey file to a seekable binary stream."""
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED, compresslevel=6) as archive:
        for name, value in _parts(survey):
            archive.writestr(_dated(name), json.dumps(value, indent=1))
        for name, part in columns.parts_of(survey.files):
            info = _dated(f"files/{name}")
            if name.endswith(".npy"):
                # As it stands, so that it can be read where it lies.
                info.compress_type = zipfile.ZIP_STORED
            archive.writestr(info, json.dumps(part) if isinstance(part, dict) else part, None, 1)
        for path in sorted(survey.texts):
            name = "text/" + path.lstrip("/").encode("utf-8", "surrogateescape").decode(
                "utf-8", "backslashreplace"
            )
            archive.writestr(_dated(name), survey.texts[path])


# --- reading ---


# What the standard library raises for damaged archives, by no plan.
_DAMAGED = (
    zipfile.BadZipFile, OSError, RuntimeError, NotImplementedError, EOFError, zlib.error,
    struct.error, ValueError, LookupError, OverflowError, lzma.LZMAError, AttributeError, TypeError,
)  # fmt: skip


def _part(archive: zipfile.ZipFile, name: str, limit: int) -> zipfile.ZipInfo:
    """Raises SurveyError for a part that is missing, or a trap."""
    try:
        info = archive.getinfo(name)
    except KeyError:
        raise SurveyError(f"{name} is missing from the survey file") from None
    size, packed = info.file_size, info.compress_size
    if size > limit or size > FREELY + MOST_TIMES * packed:
        raise SurveyError(f"{name} would unpack to {size} bytes, more than is allowed")
    return info


def _read(archive: zipfile.ZipFile, name: str, limit: int = LARGEST_PART) -> bytes:
    info = _part(archive, name, limit)
    try:
        return archive.read(info)
    except _DAMAGED as error:
        raise SurveyError(f"{name} cannot be unpacked: {error}") from error


# The head of a member, up to its name and what stands behind that (APPNOTE.TXT, section 4.3.7).
_MEMBER = struct.Struct("<4s5H3L2H")


def _unpacked(archive: zipfile.ZipFile, info: zipfile.ZipInfo) -> bytes:
    """A part as `_read` gives it, for which the library takes three times as long: of small texts
    there are ten thousands.
    """
    name, size, packed = info.filename, info.file_size, info.compress_size
    plain = info.compress_type == zipfile.ZIP_DEFLATED and info.flag_bits & ~0x806 == 0
    if not plain or archive.fp is None or size > FREELY:
        return _read(archive, name, LARGEST_TEXT)
    try:
        archive.fp.seek(info.header_offset)
        head = archive.fp.read(_MEMBER.size)
        mark, _, flags, method, *_, named, more = _MEMBER.unpack(head)
        ours = mark == b"PK\3\4" and flags == info.flag_bits and method == info.compress_type
        data = archive.fp.read(named + more + packed)
        unpacking = zlib.decompressobj(-zlib.MAX_WBITS)
        text = unpacking.decompress(data[named + more :], size + 1)
        whole = len(text) == size and unpacking.eof and zlib.crc32(text) == info.CRC
        whole = whole and data[:named] == info.orig_filename.encode(_coding(flags))
    except _DAMAGED as error:
        raise SurveyError(f"{name} cannot be unpacked: {error}") from error
    if not ours or not whole:
        raise SurveyError(f"{name} cannot be unpacked: it is damaged")
    return text


def _coding(flags: int) -> str:
    return "utf-8" if flags & 0x800 else "cp437"


def _json_part(archive: zipfile.ZipFile, part: str) -> Any:
    name = f"{part}.json"
    return _checked(part, _parsed(_read(archive, name), name), name)


@cache
def _acl(text: str | None) -> Any:
    return None if text is None else parse_acl(text)


def _columns(archive: zipfile.ZipFile) -> FileTable:
    name = "files/columns.json"
    told = _checked("files", _parsed(_read(archive, name), name), name)
    return columns.table_of(told, lambda part: _read(archive, f"files/{part}", LARGEST_TABLE))


def _lines(archive: zipfile.ZipFile) -> FileTable:
    """Of the first format, in which each path is a line."""
    info = _part(archive, "files.jsonl", LARGEST_TABLE)
    try:
        part = archive.open(info)
    except _DAMAGED as error:
        raise SurveyError(f"files.jsonl cannot be unpacked: {error}") from error
    table = FileTable()
    number = 0

    def counted(lines: IO[str]) -> Iterator[str]:
        nonlocal number
        while line := lines.readline(LONGEST_LINE):
            number += 1
            yield line

    try:
        with io.TextIOWrapper(part, "utf-8") as lines:
            _add_lines(table, counted(lines))
    except fastjsonschema.JsonSchemaException as error:
        raise SurveyError(f"files.jsonl:{number}: {error}") from error
    except (ValueError, RecursionError, OverflowError) as error:
        raise SurveyError(f"files.jsonl:{number}: {error}") from error
    except _DAMAGED as error:
        raise SurveyError(f"files.jsonl cannot be unpacked: {error}") from error
    return table


# A line as most are written: what it holds keeps to the schema, which reads all others.
_STRING = r'[^"\\\x00-\x1f]*'
# Nanoseconds of today have 19 digits; what fits 64 bits for sure.
_NUMBER = r"(?:0|[1-8][0-9]{18}|[1-9][0-9]{0,17})"
_ID = r"(?:0|[1-9][0-9]{0,8})"
PLAIN = re.compile(
    rf'{{"path":"(/{_STRING})","kind":"(file|dir)","mode":"([0-7]{{4}})","uid":({_ID}),"gid":({_ID}),'
    rf'"size":({_NUMBER}),"mtime":(-?{_NUMBER}),"ctime":(-?{_NUMBER})'
    rf'(?:,"context":"({_STRING})")?(,"listed":true)?}}\n?'
)


def _add_lines(table: FileTable, lines: Iterable[str]) -> None:
    waiting: list[PlainRow] = []
    for line in lines:
        plain = PLAIN.fullmatch(line)
        if plain is not None:
            path, kind, mode, uid, gid, size, mtime, ctime, context, listed = plain.groups()
            row = (
                path, kind, int(mode, 8), int(uid), int(gid), int(size), int(mtime), int(ctime),
                listed is not None, context,
            )  # fmt: skip
            waiting.append(row)
            if len(waiting) < AT_ONCE:
                continue
        table.add_plain(waiting)
        waiting = []
        if plain is None:
            _add_checked(table, line)
    table.add_plain(waiting)


def _add_checked(table: FileTable, line: str) -> None:
    row = _checker("line")(_json(line))
    get = row.get
    table.add_row(
        row["path"],
        row["kind"],
        int(row["mode"], 8),
        row["uid"],
        row["gid"],
        get("size", 0),
        get("mtime", 0),
        get("ctime", 0),
        get("listed", False),
        get("context"),
        get("target"),
        _acl(get("acl")),
        _acl(get("default_acl")),
        tuple(get("flags", ())),
    )


def _texts(archive: zipfile.ZipFile) -> Iterable[tuple[str, bytes]]:
    left = LARGEST_TEXTS
    for info in archive.filelist:
        name = info.filename
        if name.startswith("text/") and not name.endswith("/"):
            text = _unpacked(archive, info)
            left -= len(text)
            if left < 0:
                raise SurveyError(f"the texts would unpack to more than {LARGEST_TEXTS} bytes")
            yield name[4:], text


def _labels(row: dict[str, Any]) -> Labels:
    policy = row.get("policy")
    known = PolicyTexts.__slots__
    texts = policy and PolicyTexts(**{key: policy[key] for key in known if key in policy})
    return Labels(row.get("files", {}), texts or None)


def _engine(row: dict[str, Any]) -> EngineRecord:
    known = {key: value for key, value in row.items() if key in EngineRecord.__slots__}
    for key in ("built_in", "defines"):
        known[key] = tuple(known.get(key, ()))
    check = known.get("check")
    if check is not None:
        known["check"] = ConfigCheck(check["passes"], check.get("output", ""))
    known["own_view"] = tuple(known.get("own_view", ()))
    return EngineRecord(**known)


def _address(text: str, where: str) -> str:
    """An address of either kind; of a link-local one its zone may stand behind."""
    try:
        ipaddress.ip_address(text.partition("%")[0])
    except ValueError:
        raise SurveyError(f"{where}: {text[:100]!r} is no address") from None
    return text


def read_survey(stream: IO[bytes]) -> Survey:
    """Reads a survey file. Raises SurveyError with the part (and line) that is wrong."""
    try:
        archive = zipfile.ZipFile(stream)
    except _DAMAGED as error:
        raise SurveyError(f"not a survey file ({error})") from error
    with archive:
        if len(archive.filelist) > MOST_PARTS:
            raise SurveyError(f"the survey file has more than {MOST_PARTS} parts")
        head = _json_part(archive, "survey")
        people = _json_part(archive, "accounts")
        return Survey(
            host=head["host"],
            taken_at=head["taken_at"],
            taken_by=head["taken_by"],
            engines=tuple(_engine(row) for row in head["engines"]),
            addresses=tuple(_address(a, "survey.json") for a in head["addresses"]),
            gaps=tuple(Gap(g["what"], g["path"], g["why"]) for g in head["gaps"]),
            kernel=head.get("kernel", {}),
            labels=_labels(_json_part(archive, "labels")),
            mounts=tuple(
                Mount(m["path"], m["kind"], m["read_only"], m["no_exec"], m.get("labels", True))
                for m in head.get("mounts", ())
            ),
            files=_lines(archive) if head["format"] == 1 else _columns(archive),
            accounts=tuple(
                Account(a["name"], a["uid"], a["gid"], a["home"], a.get("shell", ""))
                for a in people["accounts"]
            ),
            groups=tuple(
                Group(g["name"], g["gid"], tuple(g.get("members", ()))) for g in people["groups"]
            ),
            listeners=tuple(
                Listener(
                    _address(x["address"], "listeners.json"),
                    x["port"],
                    x.get("program"),
                    x.get("pid"),
                )
                for x in _json_part(archive, "listeners")
            ),
            names=tuple(
                NameRecord(
                    n["name"],
                    None
                    if n["addresses"] is None
                    else tuple(_address(a, "names.json") for a in n["addresses"]),
                    n.get("source", "dns"),
                    tuple(_address(a, "names.json") for a in n.get("first_for", ())),
                    None
                    if n.get("published") is None
                    else tuple(_address(a, "names.json") for a in n["published"]),
                    tuple(n.get("aliases", ())),
                )
                for n in _json_part(archive, "names")
            ),
            texts=dict(_texts(archive)),
            logs=tuple(log["path"] for log in _json_part(archive, "logs")),
            seals=tuple(map(_seal, _json_part(archive, "certificates"))),
            filter=_filter(archive),
        )
