"""The paths of a survey file: their numbers in columns as NumPy writes them, and their names.

`files/columns.json` says what the numbers stand for: `folders`, `contexts`, `extras`.
`files/names` holds the name of each row, behind its folder and a slash, as bytes with NUL between.
`files/COLUMN.npy` holds a number for each row, of the type that `_OF_EACH` says (as in array).
`files/extra_row.npy`, `files/extra.npy`: rows with ACLs or flags, and which of the extras they are.
`files/target_row.npy`, `files/targets`: rows that are links, and their texts with NUL between.

Source: NumPy, "NEP 1, a simple file format for NumPy arrays", version 1.0; the arrays have one
dimension and little-endian numbers.
"""

from __future__ import annotations

import io
from array import array
from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from itertools import groupby
from typing import Any

import numpy as np
import numpy.typing as npt
from numpy.lib import format as npy

from ecumen.errors import SurveyError
from ecumen.survey.files import (
    COLUMNS,
    KINDS,
    Acl,
    Extra,
    FileTable,
    acl_text,
    parse_acl,
)

# Every row has these. folder: which of `folders`. listed: 1 for a folder whose children all stand
# in the table. The times are nanoseconds since 1970, UTC.
_OF_EACH = COLUMNS | {"listed": "B", "folder": "I"}
# Of few rows: which they are, and a number.
_SPARSE = {"extra_row": "I", "extra": "I", "target_row": "I"}
_KINDS = {"B": "|u1", "H": "<u2", "I": "<u4", "q": "<i8"}
_BYTES = ("utf-8", "surrogateescape")
_MOST = {"kind": len(KINDS) - 1, "mode": 0o7777, "listed": 1}

Numbers = npt.NDArray[Any]
Get = Callable[[str], bytes]


# --- writing ---


def parts_of(table: FileTable) -> Iterator[tuple[str, Any]]:
    """The parts by their names: bytes, or what is written as JSON. Raises SurveyError."""
    folders: dict[str, int] = {}
    folder_of: list[Numbers] = []
    names: list[bytes] = []
    for base, leaves, count in _runs(table):
        number = folders.setdefault(base[:-1], len(folders))
        folder_of.append(np.full(count, number, np.uint32))
        names.append(leaves)
    extras, sparse, targets = _few(table.extras)
    yield (
        "columns.json",
        {
            "rows": len(table),
            "folders": list(folders),
            "contexts": table.context_names,
            "extras": [_extra_row(each) for each in extras],
        },
    )
    whole = b"\0".join(names)
    if whole.count(b"\0") != max(len(table) - 1, 0):
        raise SurveyError("a path holds NUL, which no path does")
    yield "names", whole
    yield "targets", targets
    columns = {
        name: np.frombuffer(getattr(table, name), kind)
        for name, kind in _OF_EACH.items()
        if name != "folder"
    }
    columns["folder"] = np.concatenate(folder_of) if folder_of else np.zeros(0, np.uint32)
    for name, numbers in (columns | sparse).items():
        yield f"{name}.npy", _packed(numbers)


def _runs(table: FileTable) -> Iterator[tuple[str, bytes, int]]:
    """Rows that follow each other in one folder: what stands in front of their names, these, and
    how many.
    """
    first, grouped = table.runs
    try:
        split = (path.rpartition("/") for path in first)
        for folder, some in groupby(split, key=lambda each: each[0]):
            each = [leaf.encode(*_BYTES) for _, _, leaf in some]
            yield f"{folder}/", b"\0".join(each), len(each)
    except UnicodeEncodeError as error:
        raise SurveyError(f"a path holds what no path does: {error}") from error
    for base, names in grouped:
        yield base, names, names.count(b"\0") + 1


def _few(
    extras: Mapping[int, Extra],
) -> tuple[list[Extra], dict[str, Numbers], bytes]:
    """What few rows have: the different ones, the columns that say who has them, links' texts."""
    different: dict[Extra, int] = {}
    rows, numbers, links, texts = [], [], [], []
    for row, extra in sorted(extras.items()):
        if extra.target is not None:
            links.append(row)
            texts.append(extra.target.encode(*_BYTES))
            extra = replace(extra, target=None)
        if extra.acl or extra.default_acl or extra.flags:
            rows.append(row)
            numbers.append(different.setdefault(extra, len(different)))
    targets = b"\0".join(texts)
    if targets.count(b"\0") != max(len(texts) - 1, 0):
        raise SurveyError("the text of a link holds NUL, which none does")
    columns = {"extra_row": rows, "extra": numbers, "target_row": links}
    return list(different), {k: np.array(v, np.uint32) for k, v in columns.items()}, targets


def _extra_row(extra: Extra) -> dict[str, Any]:
    row: dict[str, Any] = {}
    if extra.acl:
        row["acl"] = acl_text(extra.acl)
    if extra.default_acl:
        row["default_acl"] = acl_text(extra.default_acl)
    if extra.flags:
        row["flags"] = list(extra.flags)
    return row


def _packed(numbers: Numbers) -> bytes:
    stream = io.BytesIO()
    told = numbers.astype(numbers.dtype.newbyteorder("<"), copy=False)
    npy.write_array(stream, told, version=(1, 0), allow_pickle=False)
    return stream.getvalue()


# --- reading ---


def table_of(told: dict[str, Any], get: Get) -> FileTable:
    """The table. told: columns.json, which keeps to its schema; get: any other part by its name.

    Raises SurveyError, and what get raises.
    """
    rows, folders, contexts = told["rows"], told["folders"], told["contexts"]
    columns = {name: _unpacked(get, name, kind, rows) for name, kind in _OF_EACH.items()}
    for name, most in {
        **_MOST, "context": len(contexts) - 1, "folder": len(folders) - 1,
    }.items():  # fmt: skip
        if rows and columns[name].max() > most:
            raise SurveyError(f"files/{name}.npy: there is no {name} of such a number")
    if rows and columns["size"].min() < 0:
        raise SurveyError("files/size.npy: a size is less than nothing")
    if len(set(folders)) < len(folders) or len(set(contexts)) < len(contexts):
        raise SurveyError("files/columns.json: a folder or a context stands there twice")
    if contexts[0] is not None:
        raise SurveyError("files/columns.json: the first context is not null")
    runs = _grouped(columns.pop("folder"), folders, get("names"), rows)
    extras = _extras(told["extras"], get, rows)
    arrays = {name: array(_OF_EACH[name], each.tobytes()) for name, each in columns.items()}
    return FileTable.whole(runs, arrays, contexts, extras)


def _unpacked(get: Get, name: str, kind: str, rows: int | None) -> Numbers:
    """A column; rows: how many numbers it must have, where that is known."""
    where, data = f"files/{name}.npy", get(f"{name}.npy")
    stream = io.BytesIO(data)
    try:
        if npy.read_magic(stream) != (1, 0):
            raise ValueError("not of version 1.0")
        shape, _, found = npy.read_array_header_1_0(stream)
    except Exception as error:
        # Whatever the library meets in a header that somebody made up.
        raise SurveyError(f"{where}: not an array ({error})") from error
    size = len(data) - stream.tell()
    wanted = np.dtype(_KINDS[kind])
    if found != wanted or len(shape) != 1 or size != shape[0] * wanted.itemsize:
        raise SurveyError(f"{where}: not a column of {wanted.str}")
    if rows is not None and shape[0] != rows:
        raise SurveyError(f"{where}: {shape[0]} numbers for {rows} paths")
    return np.frombuffer(data, wanted, offset=stream.tell()).astype(kind, copy=False)


def _grouped(
    folder_of: Numbers, folders: list[str], names: bytes, rows: int
) -> list[tuple[str, bytes]]:
    """Rows that follow each other in one folder: what stands in front of them, and their names."""
    ends = np.flatnonzero(np.frombuffer(names, np.uint8) == 0)
    if len(ends) != max(rows - 1, 0) or b"/" in names:
        raise SurveyError(f"files/names: not {rows} names")
    if not rows:
        return []
    # Where each name begins, and where one more would.
    begins = np.concatenate(([0], ends + 1, [len(names) + 1]))
    starts = np.flatnonzero(np.diff(folder_of, prepend=folder_of[0] + 1)).tolist()
    numbers = folder_of[starts].tolist()
    places = begins[[*starts, rows]].tolist()
    # A path that stood there twice would give two answers, by whichever way it is asked.
    seen: dict[int, set[bytes]] = {}
    found = []
    several = {number for number, runs in Counter(numbers).items() if runs > 1}
    for at, number in enumerate(numbers):
        some = names[places[at] : places[at + 1] - 1]
        known = seen.setdefault(number, set()) if number in several else set()
        before = len(known)
        known.update(some.split(b"\0"))
        if len(known) - before < some.count(b"\0") + 1:
            raise SurveyError(f"files/names: a path in {folders[number] or '/'} stands there twice")
        found.append((f"{folders[number]}/", some))
    return found


def _extras(told: list[dict[str, Any]], get: Get, rows: int) -> dict[int, Extra]:
    row_of, number_of, links = (
        _unpacked(get, name, kind, None).tolist() for name, kind in _SPARSE.items()
    )
    texts = get("targets").decode(*_BYTES).split("\0") if links else []
    if len(number_of) != len(row_of) or len(texts) != len(links):
        raise SurveyError("files/extra.npy, files/targets: not as many as there are rows of them")
    if any(row >= rows for row in (*row_of, *links)) or len(set(links)) < len(links):
        raise SurveyError("files/extra_row.npy, files/target_row.npy: there is no such row")
    if len(set(row_of)) < len(row_of) or any(number >= len(told) for number in number_of):
        raise SurveyError("files/extra.npy: there is no such extra")
    known = [
        Extra(None, _acl(e.get("acl")), _acl(e.get("default_acl")), tuple(e.get("flags", ())))
        for e in told
    ]
    found = {row: known[number] for row, number in zip(row_of, number_of, strict=True)}
    for row, text in zip(links, texts, strict=True):
        extra = found.get(row)
        found[row] = Extra(text, None, None, ()) if extra is None else replace(extra, target=text)
    return found


def _acl(text: str | None) -> Acl | None:
    return None if text is None else parse_acl(text)
