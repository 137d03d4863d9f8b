"""Operations on real trees: what is simulated is what is done, and what is done can be undone."""

from __future__ import annotations

import importlib
import itertools
import json
import os
import pkgutil
import random
import subprocess
import tempfile
from collections import Counter
from collections.abc import Callable, Container
from dataclasses import replace
from pathlib import Path

import pytest

import ecumen.operations
from ecumen.errors import PlanError
from ecumen.operations import (
    KINDS,
    Operation,
    Plan,
    PlanGround,
    Standing,
    done,
    read_operation,
    read_plan,
    stands,
    written,
)
from ecumen.operations.acl import AclGrant
from ecumen.operations.attribute import Attribute
from ecumen.operations.context import Context
from ecumen.operations.file import File
from ecumen.operations.folder import Folder
from ecumen.operations.link import Link
from ecumen.operations.mode import Mode
from ecumen.operations.owner import Owner, OwningGroup
from ecumen.operations.plan import standings
from ecumen.operations.remove import Remove
from ecumen.operations.rename import Rename
from ecumen.operations.revoke import AclRevoke
from ecumen.operations.switch import Switch
from ecumen.operations.trial import Trial
from ecumen.survey import Account, Entry, Group, Kind, Survey
from ecumen_machine.files import Collector
from ecumen_machine.hands import MachineHands
from tests.builders import server
from tests.hands import PlainHands

ACCOUNTS = (Account("games", 5, 60, "/"), Account("www-data", 33, 33, "/"))
GROUPS = (Group("games", 60), Group("www-data", 33))
TYPES = ("u:r:a_t:s0", "u:r:b_t:s0")


def surveyed(top: Path) -> Survey:
    collector = Collector()
    collector.trees([str(top)])
    files = collector.table()
    texts = {
        each.path: Path(each.path).read_bytes()
        for each in files
        if each.kind is Kind.FILE and each.path.startswith(f"{top}/")
    }
    return replace(server(""), files=files, accounts=ACCOUNTS, groups=GROUPS, texts=texts)


def grown(top: Path, rng: random.Random) -> None:
    folders = [top]
    top.mkdir()
    for number in range(rng.randint(4, 9)):
        path = rng.choice(folders) / f"n{number}"
        match rng.randrange(4):
            case 0:
                path.symlink_to("n0")
                continue
            case 1:
                path.write_text("")
                path.chmod(rng.choice([0o644, 0o4755, 0o2755, 0o2644, 0o600]))
            case _:
                path.mkdir()
                folders.append(path)
                path.chmod(rng.choice([0o755, 0o750, 0o2775, 0o1777]))
        if rng.random() < 0.3:
            subprocess.run(["setfacl", "-m", "u:games:r-x", "--", str(path)], check=True)
        if rng.random() < 0.5:
            os.setxattr(path, "security.selinux", f"{rng.choice(TYPES)}\0".encode())


def chosen(rng: random.Random, top: Path, survey: Survey, draft: Trial) -> Operation:
    """An operation on the tree as it is once those before are done."""
    paths = [e.path for e in survey.files if f"{e.path}/".startswith(f"{top}/")]
    entry = rng.choice([e for e in map(draft.entry, paths) if e is not None])
    link = entry.kind is Kind.LINK
    below = rng.random() < 0.4
    account, group = rng.choice(ACCOUNTS), rng.choice(GROUPS)
    new = f"{top}/new{rng.randrange(1000)}"
    inner = list(draft.below(entry.path)) if below else []
    but = tuple(rng.sample(inner, min(len(inner), rng.randint(0, 2))))
    only = rng.choice(["", "files", "folders"])
    kinds: list[Callable[[], Operation]] = [
        lambda: Owner.of(draft, entry.path, account, below=below, but=but),
        lambda: OwningGroup.of(draft, entry.path, group, below=below, but=but),
        lambda: Context(
            entry.path, Context.state(entry), rng.choice(TYPES),
            Context.census(draft, entry.path) if below else None,
        ),
        lambda: Switch.of(draft, "reads", on=rng.random() < 0.5),
        lambda: Folder.of(survey, new, rng.choice(["0755", "2770"]), account),
        lambda: Link(new, rng.choice(["n0", "a 'b", "\udcff"])),
    ]  # fmt: skip
    if entry.path != str(top):
        kinds.append(lambda: Rename.of(draft, entry.path, f"{new}-\udcfe 'x"))
        kinds.append(lambda: Remove.of(draft, entry.path))
    data = rng.choice([b"", b"a\n'b' $(x)", b"\xff\xc3\xa9%s\\"])
    kinds.append(lambda: File.of(draft, new, data, rng.choice(["0640", "4755"]), 5, 60))
    if entry.kind is Kind.FILE:
        kinds += [lambda: File.of(draft, entry.path, data)] * 2
    if not link:
        change = rng.choice(["o+x", "go-rwx", "u+s", "0751", "ug+rw"])
        if change == "u+s":
            change = f"{entry.mode | 0o4000:04o}"
        kinds += [lambda: Mode.of(entry, change)] * 2
        if below:
            tree = rng.choice(["0644", "0750", "2771"])
            kinds += [lambda: Mode.tree(draft, entry.path, tree, only=only, but=but)] * 2
        grant = rng.choice(["user:games:r-x", "group:www-data:rwx"])
        kinds += [lambda: AclGrant.of(survey, entry, grant)] * 2
        if any(each.id == 5 for each in entry.acl or ()):
            kinds += [lambda: AclRevoke.of(survey, entry, "user:games")] * 3
    return rng.choice(kinds)()


def shape(entry: Entry) -> tuple[object, ...]:
    """All that operations touch."""
    acl = entry.acl if entry.acl and len(entry.acl) > 3 else None
    return entry.kind, entry.mode, entry.uid, entry.gid, entry.target, acl, entry.context


def shapes(survey: Survey, known: Container[str] | None = None) -> dict[str, tuple[object, ...]]:
    """known: paths that were there before; of others the context is left out, which is the
    folder's where a kernel enforces, and none here.
    """
    return {
        each.path: (
            *shape(each if known is None or each.path in known else replace(each, context=None)),
            survey.texts.get(each.path),
        )
        for each in survey.files
    }


class RealHands(MachineHands):
    """Those of the agent; switches are remembered alone."""

    def __init__(self, **switches: bool) -> None:
        self.switches = switches
        self.top, self.numbers = tempfile.mkdtemp(), itertools.count()

    def aside(self, path: str) -> str:
        return f"{self.top}/aside/{next(self.numbers)}"

    def switch(self, name: str) -> bool | None:
        return self.switches.get(name)

    def turn(self, name: str, on: bool) -> None:
        self.switches[name] = on


@pytest.mark.server
@pytest.mark.apart
@pytest.mark.parametrize("kind", [PlainHands, RealHands])
def test_what_is_simulated_is_done_and_comes_back(
    tmp_path: Path, seed: int, kind: type[PlainHands | RealHands]
) -> None:
    kinds = Counter[str]()
    for number in range(45):
        rng = random.Random(seed * 1000 + number)
        top = tmp_path / f"t{number}"
        grown(top, rng)
        before = surveyed(top)
        draft, hands = Trial(before), kind(reads=False)
        plan: list[Operation] = []
        for _ in range(rng.randint(1, 4)):
            operation = chosen(rng, top, before, draft)
            draft.add(operation.simulate(draft))
            plan.append(operation)
        told = done(before, plan)
        assert stands(before, plan) in (Standing.DUE, Standing.DONE)
        kept = []
        for operation in plan:
            kinds[operation.what] += 1
            again = read_operation(json.loads(json.dumps(written(operation))))
            assert again == operation
            kept.append(again.keep(hands))
            by_shell = rng.random() < 0.5 and not isinstance(again, Switch | Remove)
            if by_shell:
                if again.standing(hands) is Standing.DUE:
                    held = surveyed(top)
                    subprocess.run(["bash", "-c", again.shell()], check=True)
                    if isinstance(again, File) and again.was:
                        # A command keeps nothing aside: what it made is looked at, and put back.
                        assert shapes(surveyed(top)) == shapes(done(held, [again])), again
                        there, entry = Path(again.path), held.files.get(again.path)
                        assert entry is not None
                        there.write_bytes(held.texts[again.path])
                        os.chmod(there, entry.mode)
                        again.forward(hands, kept[-1])
            else:
                again.forward(hands, kept[-1])
            assert again.standing(hands) is Standing.DONE, again
            again.forward(hands, kept[-1])
        there = set(before.files.paths)
        assert shapes(surveyed(top), there) == shapes(told, there), plan
        assert all(hands.switch(name) == on for name, on in draft.delta.switches.items())
        for operation, was in reversed(list(zip(plan, kept, strict=True))):
            operation.backward(hands, was)
        assert shapes(surveyed(top)) == shapes(before), plan
        assert hands.switches == {"reads": False}
    # What has changes take effect touches no file.
    elsewhere = {"reload", "start", "stop", "hosts", "rotation", "new-homes"}
    assert set(kinds) == set(KINDS) - elsewhere, kinds


def test_a_plan_knows_that_it_is_stale_and_that_it_is_done() -> None:
    survey = server("", ("0750 ines /srv/a/", "0640 ines /srv/a/x"))
    folder, file = survey.files.get("/srv/a"), survey.files.get("/srv/a/x")
    assert folder is not None
    assert file is not None
    plan = [Mode.of(folder, "o+x"), Mode.of(file, "o+r"), Link("/srv/b", "a")]
    assert standings(survey, plan) == [Standing.DUE] * 3
    made = done(survey, plan)
    assert stands(made, plan) is Standing.DONE
    assert stands(done(survey, plan[:1]), plan) is Standing.DUE
    for other in (Mode.of(folder, "0700"), Link("/srv/b", "elsewhere")):
        assert stands(done(survey, [other]), plan) is Standing.STALE
    tree = Owner.of(Trial(survey), "/srv/a", ACCOUNTS[0], below=True)
    assert tree.standing(Trial(survey)) is Standing.DUE
    moved = Owner.of(Trial(survey), "/srv/a/x", ACCOUNTS[1])
    assert stands(done(survey, [moved]), [tree]) is Standing.STALE


def test_the_plan_format_comes_back_as_it_was_and_takes_nothing_else() -> None:
    ground = PlanGround("quay", 1_700_000_000, "ab")
    nasty = "/srv/\udcff\n'$(x)"
    operations: tuple[Operation, ...] = (
        Mode(nasty, "0750", "4751"), Owner(nasty, "0", "5", (("0", 3), ("7", 1)), "games"),
        Folder("/srv/new", "0755", 5, 60), Switch("reads", "", "on"), Link("/l", nasty),
    )  # fmt: skip
    plan = Plan("a title", ground, operations, ("a finding",))
    assert read_plan(plan.write()) == plan
    data = json.loads(plan.write())
    whole = data["operations"]
    for wrong in (
        {"what": "mode", "path": "/a", "was": "0644", "to": "o+x; rm"},
        {"what": "mode", "path": "a", "was": "0644", "to": "0645"},
        {"what": "acl", "path": "/a", "was": "user::rwx", "to": "user::rwx",
         "name": "user:a b:r--"},
        {"what": "run", "path": "/a"}, {"path": "/a"}, 7, None,
        {"what": "switch", "name": "a;b", "was": "on", "to": "off"},
        {"what": "link", "path": "/a", "target": "b", "shell": "rm"},
    ):  # fmt: skip
        data["operations"] = [*whole, wrong]
        with pytest.raises(PlanError):
            read_plan(json.dumps(data))
    for text in ("", "[]", "{}", "[" * 100_000, '{"format": 2}'):
        with pytest.raises(PlanError):
            read_plan(text)


def test_every_kind_has_its_verbs() -> None:
    """A kind that lacks one cannot be made; the table of kinds holds all that are written."""
    assert all(not kind.__abstractmethods__ for kind in KINDS.values())

    names = [each.name for each in pkgutil.iter_modules(ecumen.operations.__path__)]
    written = {
        kind
        for name in names
        for kind in vars(importlib.import_module(f"ecumen.operations.{name}")).values()
        if isinstance(kind, type) and issubclass(kind, Operation) and "what" in vars(kind)
    }
    assert written == set(KINDS.values())
    assert issubclass(Mode, Attribute)


@pytest.mark.parametrize(
    ("was", "to", "symbolic"),
    [
        ("0750", "0751", "o+x"), ("0777", "0700", "go-rwx"), ("0640", "0604", "g-r,o+r"),
        ("0644", "4644", "04644"), ("0644", "0644", "0644"),
    ],
)  # fmt: skip
def test_a_mode_is_told_by_what_differs(was: str, to: str, symbolic: str) -> None:
    assert Mode("/a", was, to).shell() == f"chmod {symbolic} -- /a"
