"""What something new gets: owner, group, mode and ACL, by the folder in which it is made.

Source: acl(5), "Object creation and default ACLs"; open(2), mkdir(2), umask(2).
"""

from __future__ import annotations

from dataclasses import replace

from ecumen.rights.decide import Subject
from ecumen.rights.walk import join
from ecumen.survey import Acl, Entry, Kind

USUAL_UMASK = 0o022
_ASKED = {Kind.FILE: 0o666, Kind.DIR: 0o777}


def created(
    folder: Entry,
    subject: Subject,
    gid: int,
    name: str,
    kind: Kind = Kind.FILE,
    umask: int = USUAL_UMASK,
) -> Entry:
    """The entry that an account would make. gid: its primary group; kind: FILE or DIR.

    The mode is what programs usually ask for, 0666 or 0777.
    """
    asked = _ASKED[kind]
    made = Entry(join(folder.path, name), kind, asked & ~umask, subject.uid, gid)
    if folder.mode & 0o2000:
        inherited = 0o2000 if kind is Kind.DIR else 0
        made = replace(made, gid=folder.gid, mode=made.mode | inherited)
    if folder.default_acl is None:
        return made
    # With a default ACL the umask has no say.
    return _by_default(made, folder.default_acl, asked)


def _by_default(made: Entry, default: Acl, asked: int) -> Entry:
    """The default ACL, cut by the mode that was asked for."""
    masked = any(each.tag == "mask" for each in default)
    limits = {"user": asked >> 6 & 7, "other": asked & 7}
    limits["mask" if masked else "group"] = asked >> 3 & 7
    acl = tuple(
        replace(each, perms=each.perms & limits[each.tag])
        if each.id is None and each.tag in limits
        else each
        for each in default
    )
    perms = {each.tag: each.perms for each in acl if each.id is None}
    group = perms["mask"] if masked else perms["group"]
    mode = (made.mode & 0o7000) | perms["user"] << 6 | group << 3 | perms["other"]
    # One that says no more than the mode is not kept as an ACL.
    kept = acl if masked else None
    return replace(
        made,
        mode=mode,
        acl=kept,
        default_acl=default if made.kind is Kind.DIR else None,
    )
