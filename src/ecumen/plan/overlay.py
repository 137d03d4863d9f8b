"""A survey as it would be once a plan is done.

Source: chmod(2): the group bits are the mask where there is an ACL; setfacl(1): the mask becomes
the union of what it masks.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import replace

from ecumen.plan.operations import Operation, What
from ecumen.rights.walk import join
from ecumen.survey import (
    Acl,
    AclEntry,
    Entry,
    FileTable,
    Kind,
    Labels,
    PolicyTexts,
    Survey,
    parse_acl,
)
from ecumen.survey.files import KINDS

_SHIFTS = {"u": 6, "g": 3, "o": 0}
_BITS = {"r": 4, "w": 2, "x": 1}
_DIR = KINDS.index(Kind.DIR)


def overlaid(survey: Survey, operations: Iterable[Operation]) -> Survey:
    """The survey after these operations, in their order. Raises LookupError for a path, account
    or group that it does not hold.
    """
    changed: dict[str, Entry] = {}
    switches: dict[str, bool] = {}
    for operation in operations:
        if operation.what is What.SWITCH:
            switches[operation.path] = operation.value == "on"
            continue
        below = _below(survey.files, operation.path) if operation.below else ()
        for path in (operation.path, *below):
            entry = changed.get(path) or survey.files.get(path)
            changed[path] = _after(survey, operation, path, entry)
    whole = survey
    if changed:
        whole = replace(whole, files=survey.files.replacing(changed.values()))
    if switches and survey.labels.policy is not None:
        whole = replace(whole, labels=_turned(survey.labels, survey.labels.policy, switches))
    return whole


def cut_to(survey: Survey, tops: Iterable[str]) -> Survey:
    """The survey with these paths alone, all below them, and the folders on the way to them."""
    files = survey.files
    wanted: dict[str, None] = {"/": None}
    for top in tops:
        parts = top.split("/")
        wanted |= dict.fromkeys("/".join(parts[:n]) for n in range(2, len(parts) + 1))
        wanted |= dict.fromkeys(_below(files, top))
    entries = (files.get(path) for path in wanted)
    return replace(survey, files=FileTable(entry for entry in entries if entry is not None))


def _below(files: FileTable, top: str) -> Iterator[str]:
    stack = [top]
    while stack:
        folder = stack.pop()
        for name in files.children(folder):
            path = join(folder, name)
            yield path
            if files.kind[files.row(path)] == _DIR:
                stack.append(path)


def _turned(labels: Labels, policy: PolicyTexts, switches: dict[str, bool]) -> Labels:
    return replace(labels, policy=replace(policy, active={**policy.active, **switches}))


def _after(survey: Survey, operation: Operation, path: str, entry: Entry | None) -> Entry:
    value = operation.value
    if operation.what is What.FOLDER:
        return Entry(path, Kind.DIR, int(value, 8), 0, 0, listed=True)
    if operation.what is What.LINK:
        return Entry(path, Kind.LINK, 0o777, 0, 0, target=value)
    if entry is None:
        raise LookupError(f"the survey does not hold {path}")
    match operation.what:
        case What.MODE:
            return with_mode(entry, mode_after(entry.mode, value))
        case What.OWNER:
            return replace(entry, uid=survey.account_by_name[value].uid)
        case What.GROUP:
            return replace(entry, gid=survey.group_by_name[value].gid)
        case What.ACL:
            return with_acl_entry(survey, entry, value)
    return replace(entry, context=value)


def mode_after(mode: int, change: str) -> int:
    """A mode after `u+rx`, `go-w` or a whole mode in octal."""
    if change.isdigit():
        return int(change, 8)
    match = re.fullmatch(r"([ugo]+)([+-])([rwx]+)", change)
    assert match is not None
    bits = sum(_BITS[bit] << _SHIFTS[who] for who in set(match[1]) for bit in set(match[3]))
    return mode | bits if match[2] == "+" else mode & ~bits


def with_mode(entry: Entry, mode: int) -> Entry:
    """chmod(2): with an ACL its mask, owner and other entries follow the mode."""
    if entry.acl is None:
        return replace(entry, mode=mode)
    perms = {"user": mode >> 6 & 7, "mask": mode >> 3 & 7, "other": mode & 7}
    acl = tuple(
        replace(each, perms=perms[each.tag]) if each.id is None and each.tag in perms else each
        for each in entry.acl
    )
    return replace(entry, mode=mode, acl=acl)


def with_acl_entry(survey: Survey, entry: Entry, text: str) -> Entry:
    """setfacl -m: the entry is set, and the mask becomes the union of all that it masks."""
    tag, name, bits = text.split(":")
    ids = survey.account_by_name if tag == "user" else survey.group_by_name
    known = ids.get(name)
    if known is None:
        raise LookupError(f"the survey has no {tag} {name}")
    number = known.uid if tag == "user" else known.gid  # type: ignore[union-attr]
    (given,) = parse_acl(f"{tag}:{number}:{bits}")
    mode = entry.mode
    acl: Acl = entry.acl or (
        AclEntry("user", None, mode >> 6 & 7),
        AclEntry("group", None, mode >> 3 & 7),
        AclEntry("other", None, mode & 7),
    )
    kept = [each for each in acl if (each.tag, each.id) != (tag, number) and each.tag != "mask"]
    whole = [*kept, given]
    mask = 0
    for each in whole:
        if each.tag == "group" or (each.tag == "user" and each.id is not None):
            mask |= each.perms
    whole.append(AclEntry("mask", None, mask))
    order = {"user": 0, "group": 1, "mask": 2, "other": 3}
    whole.sort(key=lambda each: (order[each.tag], each.id is not None, each.id or 0))
    return replace(entry, mode=(mode & ~0o070) | mask << 3, acl=tuple(whole))
