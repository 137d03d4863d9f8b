"""What a plan opens, told for whole tables, beside a look at each path for each account."""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import replace
from itertools import product

from ecumen.contexts.confinement import FOLLOW, LIST, PASS, Confinement
from ecumen.contexts.confinement import READ as READING
from ecumen.contexts.guard import guard_of
from ecumen.operations import Operation, done
from ecumen.operations.acl import AclGrant
from ecumen.operations.context import Context
from ecumen.operations.mode import Mode
from ecumen.operations.opens import Opener
from ecumen.operations.owner import Owner
from ecumen.operations.switch import Switch
from ecumen.operations.trial import Trial
from ecumen.passage import Follower, read_request
from ecumen.passage.remedies import mending
from ecumen.rights import READ, SEARCH, WRITE, Subject, decide, subjects_of
from ecumen.survey import Entry, FileTable, Kind, Survey
from tests.audit_test import ONE, labelled

TYPES = (
    "httpd_sys_content_t", "httpd_sys_content_t", "httpd_sys_rw_content_t", "var_t", "default_t",
    "user_home_t", "no_such_type_t",
)  # fmt: skip
WORKER = "www-data"
_DONE = {READ: "read", WRITE: "write", SEARCH: "pass or run"}


def grown(rng: random.Random) -> Survey:
    """Some folders and files of all owners, modes and types."""
    base = labelled(ONE, "httpd_sys_content_t")
    entries = {"/": Entry("/", Kind.DIR, 0o755, 0, 0, context="u:r:root_t:s0", listed=True)}
    folders = ["/"]
    for number in range(rng.randrange(3, 18)):
        path = f"{rng.choice(folders).rstrip('/')}/n{number}"
        kind = rng.choice([Kind.DIR, Kind.DIR, Kind.FILE, Kind.LINK])
        mode = (
            0o777 if kind is Kind.LINK else rng.choice([0o755, 0o750, 0o711, 0o700, 0o644, 0o666])
        )
        owner = rng.choice([0, 33, 1001, 1002])
        context = rng.choice([f"u:r:{rng.choice(TYPES)}:s0", None]) if rng.random() < 0.95 else None
        target = "/n0" if kind is Kind.LINK else None
        entries[path] = Entry(path, kind, mode, owner, owner, target=target, context=context)
        if kind is Kind.DIR:
            folders.append(path)
    return replace(base, files=FileTable(entries.values()))


def planned(rng: random.Random, survey: Survey) -> list[Operation]:
    """Each operation expects what those before it have made."""
    made: list[Operation] = []
    paths = [each.path for each in survey.files if each.kind is not Kind.LINK]
    draft = Trial(survey)
    for _ in range(rng.randrange(1, 4)):
        path, below = rng.choice(paths), rng.random() < 0.3
        entry = draft.entry(path)
        assert entry is not None
        account = survey.account_by_name[rng.choice(["ines", "otto", WORKER])]
        context = f"u:r:{rng.choice(TYPES[:6])}:s0"
        census = Context.census(draft, path) if below else None
        operation = rng.choice(
            [
                Mode.of(entry, rng.choice(["o+rx", "go-rwx", "u+rwx", "0751"])),
                Owner.of(draft, path, account),
                AclGrant.of(survey, entry, f"user:{WORKER}:r-x"),
                Context(path, Context.state(entry), context, census),
                Switch.of(draft, "httpd_read_user_content", on=rng.random() < 0.5),
            ]
        )
        draft.add(operation.simulate(draft))
        made.append(operation)
    return made


def may(survey: Survey, held: Confinement, who: Subject, path: str, need: int) -> bool:
    """One account, one path, with every folder on the way."""
    parts = path.strip("/").split("/")
    on_the_way = ["/"] if path != "/" else []
    on_the_way += ["/" + "/".join(parts[:n]) for n in range(1, len(parts))]
    for folder, wanted in [*product(on_the_way, [SEARCH]), (path, need)]:
        entry = survey.files.get(folder)
        if entry is None or not decide(entry, who, wanted).allowed:
            return False
        if (
            who.name == WORKER
            and held.would(entry.context, entry.kind, _perms(entry, wanted)) is False
        ):
            return False
    return True


def _perms(entry: Entry, need: int) -> tuple[str, ...]:
    match need, entry.kind:
        case _, Kind.DIR if need == SEARCH:
            return PASS
        case _, Kind.DIR if need == READ:
            return LIST
        case _, Kind.DIR:
            return ("getattr", "search", "write", "add_name")
        case _, Kind.LINK if need == READ:
            return FOLLOW
        case _ if need == READ:
            return READING
        case _ if need == WRITE:
            return ("getattr", "open", "write")
    return ("getattr", "execute")


def plainly(survey: Survey, plan: list[Operation]) -> Iterator[tuple[bool, str, str, int, str]]:
    """gains, what, account, how many paths, the first of them."""
    after = done(survey, plan)
    tops = {each.at for each in plan} - {""}
    paths = [
        each.path for each in survey.files
        if any(each.path == top or each.path.startswith(top.rstrip("/") + "/") for top in tops)
    ]  # fmt: skip
    was, now = Confinement(survey), Confinement(after)
    for who, need in product(subjects_of(survey), _DONE):
        pairs = [
            (path, may(survey, was, who, path, need), may(after, now, who, path, need))
            for path in paths
        ]
        for gains in (True, False):
            changed = [
                path for path, one, two in pairs if (two and not one) is gains and one != two
            ]
            if changed:
                yield gains, _DONE[need], who.name, len(changed), sorted(changed)[0]


def test_what_opens_is_what_each_path_tells(seed: int) -> None:
    rng = random.Random(seed)
    told = by_policy = 0
    for _ in range(60):
        survey = grown(rng)
        plan = planned(rng, survey)
        guard = guard_of(Confinement(survey), [WORKER])
        assert guard is not None
        found = Opener(survey, guard=guard).opens(plan)
        mine = {
            (each.gains, each.what, account, each.paths)
            for each in found
            for account in each.accounts
        }
        theirs = {row[:4] for row in plainly(survey, plan)}
        assert mine == theirs, plan
        told += len(mine)
        by_policy += mine != {
            (each.gains, each.what, account, each.paths)
            for each in Opener(survey).opens(plan)
            for account in each.accounts
        }
    assert told > 40
    assert by_policy > 8


def test_the_context_of_the_rules_opens_what_the_policy_kept_shut() -> None:
    whole = Follower(labelled(ONE, "var_t"))
    (way,) = mending(whole, read_request("http://a.test/", to="192.0.2.10")).ways
    assert [operation.what for operation in way.operations] == ["context"]
    assert [each.words for each in way.openings if each.gains] == [
        f"{WORKER} may then read /srv/a/index.html"
    ]
