"""May this account do that to this path, as access(2) would answer, and which step decides.

Read, write and execute are asked as access(2) asks them. Listing is reading a folder; creating and
deleting are asked of the folder around (unlink(2), open(2) with O_CREAT).

Source: access(2), path_resolution(7), acl(5), unlink(2), mount(8), chattr(1); measured.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

from ecumen.rights.created import created
from ecumen.rights.decide import READ, SEARCH, WRITE, Decision, Subject, decide, subject_of
from ecumen.rights.walk import Problem, Step, Walk, Walker
from ecumen.survey import Entry, Kind, Survey, acl_text

LETTERS: Mapping[str, int] = {"r": READ, "w": WRITE, "x": SEARCH}
WORDS = ("list", "create", "delete")
_WHOSE = {"owner": "the owner", "group": "the group", "other": "others"}
_IDS = re.compile(r"(user|group):(\d+):")
_NAMED = ((READ, "read"), (WRITE, "write"), (SEARCH, "execute"))


@dataclass(frozen=True, slots=True)
class Reach:
    """allowed: None where the survey does not hold it. step: the path component that decides.

    by: which part of it decided (root, owner, user, group, other; or mount, flag, link, sticky,
    path). line: the entry that did, as it stands.
    """

    allowed: bool | None
    step: str
    why: str
    by: str = "path"
    line: str = ""


def is_need(text: str) -> bool:
    """Whether this is something that can be asked for: letters of `rwx`, or one of the words."""
    return text in WORDS or (bool(text) and set(text) <= set(LETTERS))


class Reacher:
    """Answers for one survey. Accounts are known by their name, or by their number."""

    def __init__(self, survey: Survey) -> None:
        self.survey = survey
        self._walkers: dict[Subject, Walker] = {}

    def subject(self, name: str) -> Subject | None:
        """The account of that name or number; None where the survey has none."""
        known = subject_of(self.survey, name)
        if known is None and name.isascii() and name.isdecimal():
            account = self.survey.account_by_uid.get(int(name))
            known = subject_of(self.survey, account.name) if account else None
        return known

    def ask(self, subject: Subject, need: str, path: str) -> Reach:
        """need: as `is_need` has it. path: absolute; the last link is followed, but for deleting.

        Never raises.
        """
        if not path.startswith("/"):
            return Reach(None, path, "The path does not begin at /.")
        walker = self._walkers.get(subject)
        if walker is None:
            walker = self._walkers[subject] = Walker(self.survey, subject)
        if need in ("create", "delete"):
            return self._around(walker, need, path)
        walk = walker.walk(path)
        stopped = self._stopped(walk, walker)
        if stopped is not None:
            return stopped
        assert walk.entry is not None
        if need == "list":
            if walk.entry.kind is not Kind.DIR:
                return Reach(False, walk.entry.path, f"{walk.entry.path} is no folder.")
            return self._entry(walk.entry, subject, READ)
        return self._entry(walk.entry, subject, sum(LETTERS[letter] for letter in set(need)))

    # --- the way there ---

    def _stopped(self, walk: Walk, walker: Walker) -> Reach | None:
        """What keeps an account from ever getting there."""
        for step in walk.blocked:
            return self._shut(step, walker.subject)
        if walk.problem is None and walk.entry is not None:
            return None
        where = walk.physical
        match walk.problem:
            case Problem.UNSEEN | None:
                return Reach(None, where, f"The survey does not hold {where}.")
            case Problem.MISSING:
                return Reach(False, where, f"There is no {where}.")
            case Problem.NOT_FOLDER:
                return Reach(False, where, f"{where} is no folder, and more is asked behind it.")
            case Problem.LOOP:
                return Reach(False, where, "The links on the way are more than 40.")
            case Problem.TOO_LONG:
                return Reach(False, where, "The path, or a name in it, is too long.")

    def _shut(self, step: Step, subject: Subject) -> Reach:
        path = step.entry.path
        if step.protected:
            why = (
                f"The kernel does not follow the link {path}: it lies in a folder that everybody "
                "may write to, and belongs to somebody else."
            )
            return Reach(False, path, why, "link")
        assert step.decision is not None
        return self._denied(step.entry, step.decision, subject, "pass through")

    def _denied(self, entry: Entry, decision: Decision, subject: Subject, what: str) -> Reach:
        owner = f"{self.survey.user_name(entry.uid)}:{self.survey.group_name(entry.gid)}"
        why = (
            f"{subject.name} may not {what} {entry.path}, which belongs to {owner} with mode "
            f"{entry.mode:04o}: {self._told(decision)} decides."
        )
        return Reach(False, entry.path, why, decision.by, decision.line)

    def _told(self, decision: Decision) -> str:
        """What decided, in words."""
        if decision.by == "root":
            return "being root"
        if ":" in decision.line:
            return f"the ACL entry {_IDS.sub(self._named, decision.line)}"
        return f"what {_WHOSE[decision.by]} may ({decision.line.rpartition(' ')[2]})"

    def _named(self, entry: re.Match[str]) -> str:
        names = self.survey.user_name if entry[1] == "user" else self.survey.group_name
        return f"{entry[1]}:{names(int(entry[2]))}:"

    # --- the entry itself ---

    def _entry(self, entry: Entry, subject: Subject, need: int) -> Reach:
        barred = self._barred(entry, need)
        if barred is not None:
            return barred
        decision = decide(entry, subject, need)
        what = " and ".join(word for bit, word in _NAMED if need & bit)
        if entry.kind is Kind.DIR:
            what = what.replace("execute", "pass through")
        if not decision.allowed:
            return self._denied(entry, decision, subject, what)
        why = f"{subject.name} may {what} {entry.path}: {self._told(decision)} decides."
        if need & WRITE and "append-only" in entry.flags:
            why += " What is there stays: it can only be added to."
        return Reach(True, entry.path, why, decision.by, decision.line)

    def _barred(self, entry: Entry, need: int) -> Reach | None:
        """What forbids it to everybody, root too."""
        path = entry.path
        mount = self.survey.mount_of(path)
        on_disk = entry.kind in (Kind.FILE, Kind.DIR, Kind.LINK)
        if need & WRITE and on_disk and mount is not None and mount.read_only:
            why = f"{path} lies on {mount.path}, which is mounted to be read only."
            return Reach(False, path, why, "mount")
        if need & WRITE and "immutable" in entry.flags:
            why = f"{path} is marked immutable: nobody may change it."
            return Reach(False, path, why, "flag")
        runs = need & SEARCH and entry.kind is Kind.FILE
        if runs and mount is not None and mount.no_exec:
            why = f"{path} lies on {mount.path}, which is mounted so that nothing runs from it."
            return Reach(False, path, why, "mount")
        return None

    # --- the folder around ---

    def _around(self, walker: Walker, need: str, path: str) -> Reach:
        """Creating in a folder, or beside what is not there; deleting a name from its folder."""
        found = walker.walk(path, follow_last=need == "create")
        if need == "create" and found.entry is not None and found.entry.kind is Kind.DIR:
            stopped = self._stopped(found, walker)
            return stopped or self._made(walker.subject, found.entry)
        stopped = self._stopped(found, walker)
        missing = found.problem is Problem.MISSING and not found.blocked
        if need == "create" and missing:
            link = walker.walk(path, follow_last=False).entry
            if link is not None:
                return Reach(False, link.path, f"{link.path} is there already, as a link.")
            return self._beside(walker, path)
        if stopped is not None:
            return stopped
        assert found.entry is not None
        if need == "create":
            return Reach(False, found.entry.path, f"{found.entry.path} is there already.")
        return self._unlinked(walker, found.entry)

    def _beside(self, walker: Walker, path: str) -> Reach:
        """The folder in which a name that is not there would be made."""
        folder = path.rstrip("/").rpartition("/")[0] or "/"
        holder = walker.walk(folder)
        stopped = self._stopped(holder, walker)
        if stopped is not None:
            return stopped
        assert holder.entry is not None
        if holder.entry.kind is not Kind.DIR:
            return Reach(False, holder.entry.path, f"{holder.entry.path} is no folder.")
        return self._made(walker.subject, holder.entry)

    def _within(self, subject: Subject, folder: Entry) -> Reach:
        return self._entry(folder, subject, WRITE | SEARCH)

    def _made(self, subject: Subject, folder: Entry) -> Reach:
        """Making something in a folder, and what it gets."""
        found = self._within(subject, folder)
        account = self.survey.account_by_name.get(subject.name)
        if not found.allowed or account is None:
            return found
        new = created(folder, subject, account.gid, "new")
        owner = f"{self.survey.user_name(new.uid)}:{self.survey.group_name(new.gid)}"
        acl = f" and the ACL {_IDS.sub(self._named, acl_text(new.acl))}" if new.acl else ""
        got = f" A file made there belongs to {owner}, with mode {new.mode:04o}{acl}."
        return replace(found, why=found.why + got)

    def _unlinked(self, walker: Walker, entry: Entry) -> Reach:
        """unlink(2), rmdir(2): whether a folder is empty is not asked."""
        path, subject = entry.path, walker.subject
        if path in self.survey.mount_by_path or path == "/":
            return Reach(False, path, f"{path} is where a file system is mounted.", "mount")
        folder = self.survey.files.get(path.rpartition("/")[0] or "/")
        if folder is None:
            return Reach(None, path, f"The survey does not hold the folder around {path}.")
        within = self._within(subject, folder)
        if not within.allowed:
            return within
        for each in (folder, entry):
            flags = ("append-only",) if each is folder else ("append-only", "immutable")
            if any(flag in each.flags for flag in flags):
                why = f"{each.path} is marked so that nothing may be taken from it."
                return Reach(False, each.path, why, "flag")
        sticky = folder.mode & 0o1000 and subject.uid not in (0, entry.uid, folder.uid)
        if sticky:
            why = (
                f"{folder.path} is sticky: only the owners of the folder and of {path} may take "
                "it away."
            )
            return Reach(False, folder.path, why, "sticky")
        return within


def reach_of_all(
    reacher: Reacher, rows: Iterable[Mapping[str, object]]
) -> Iterable[dict[str, object]]:
    """Answers rows of the batch format, in their order. A row that cannot be read is unknown."""
    for row in rows:
        name, need, path = row.get("as"), row.get("need"), row.get("path")
        answer: dict[str, object] = {"id": row.get("id"), "allowed": None, "step": None}
        if not (isinstance(name, str) and isinstance(need, str) and isinstance(path, str)):
            yield answer | {"why": "as, need and path must be texts"}
            continue
        subject = reacher.subject(name)
        if subject is None:
            yield answer | {"why": f"the survey has no account {name}"}
        elif not is_need(need):
            yield answer | {"why": f"{need!r} cannot be asked for: use letters of rwx"}
        else:
            found = reacher.ask(subject, need, path)
            yield answer | {"allowed": found.allowed, "step": found.step, "why": found.why}
