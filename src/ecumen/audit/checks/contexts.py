"""Security contexts: subtrees that differ from the rules, switches that are off, ports."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

from ecumen.audit.check import Found, check, mended
from ecumen.audit.checks.fronts import stopped
from ecumen.audit.checks.roots import MOST_SHOWN
from ecumen.audit.finding import Impact, Remedy
from ecumen.audit.scene import Front, Scene, Site
from ecumen.contexts.confinement import Confined, type_of
from ecumen.passage.follow import mend, say
from ecumen.passage.gates.context import spelt
from ecumen.plan.operations import Operation, What
from ecumen.survey import Entry


@dataclass(slots=True)
class Subtree:
    """A folder (or a file) from which on contexts are not those of the rules. count: of paths.

    readable: whether the web server may still read what lies there; None where nobody knows.
    """

    top: Entry
    actual: str
    expected: str
    count: int = 1
    readable: bool | None = None
    more: list[Entry] = field(default_factory=list)


def subtrees(scene: Scene) -> list[Subtree]:
    """Folded to the highest folder that explains what differs below it."""
    return scene.once("subtrees", lambda it: list(_subtrees(it).values()))


def _subtrees(scene: Scene) -> Mapping[str, Subtree]:
    confinement = scene.follower.confinement
    found: dict[str, Subtree] = {}
    if confinement.mode == "disabled" or confinement.rules is None:
        return found
    inside: dict[str, str] = {}
    files = scene.survey.files
    for path in sorted(files.paths, key=lambda each: each.replace("/", "\0")):
        entry = files.get(path)
        actual = type_of(entry.context) if entry else None
        if entry is None or actual is None:
            continue
        expected = confinement.expected(entry)
        wanted = type_of(expected.context)
        if not expected.sure or wanted is None or wanted == actual:
            continue
        around = path.rpartition("/")[0]
        top = inside.get(around)
        if top is not None and found[top].actual == actual:
            inside[path] = top
            found[top].count += 1
            continue
        inside[path] = path
        perms = confinement.perms_for(entry)
        readable = confinement.would(entry.context, entry.kind, perms)
        found[path] = Subtree(entry, actual, expected.context or "", readable=readable)
    return found


@check(
    "context.differs",
    Impact.DRIFT,
    "The security context is not the one that the rules give",
    needs=("files",),
)
def differs(scene: Scene) -> Iterator[Found]:
    """Outage where a front page is stopped by it."""
    hit: dict[str, list[tuple[Site, Front]]] = {}
    for site, front, step in _by_policy(scene):
        if step is not None and step.differs:
            hit.setdefault(step.entry.path, []).append((site, front))
    for tree in subtrees(scene):
        path = tree.top.path
        below = [
            each
            for at, found in hit.items()
            if at == path or at.startswith(f"{path}/")
            for each in found
        ]
        many = f" and {tree.count - 1} below" if tree.count > 1 else ""
        yield Found(
            path,
            [site for site, _ in below],
            [scene.entry(tree.top), *(scene.asked(front) for _, front in below[:MOST_SHOWN])],
            f"{path}{many} has the type {tree.actual}, where the rules give "
            f"{type_of(tree.expected)}",
            impact=Impact.OUTAGE if below else None,
            group=tree.actual,
            remedies=_restored(path, tree),
        )


def _restored(path: str, tree: Subtree) -> list[Remedy]:
    operation = Operation(What.CONTEXT, path, tree.expected)
    command = operation.shell.replace("chcon --no-dereference", "chcon --no-dereference -R", 1)
    return [Remedy("Give it the context of the rules, and all that lies below",
                   [operation.words], [], [command])]  # fmt: skip


def _by_policy(scene: Scene) -> Iterator[tuple[Site, Front, Confined | None]]:
    """Front pages that the policy stops, with the step at which it does."""
    confinement = scene.follower.confinement
    for site, front, block in stopped(scene):
        if front.gate == "context":
            yield site, front, confinement.step_at(block.facts.get("path", ""))


@check("context.switch-off", Impact.OUTAGE, "A policy switch forbids what the configuration wants")
def switch_off(scene: Scene) -> Iterator[Found]:
    confinement = scene.follower.confinement
    for site, front, block in stopped(scene):
        if front.gate != "context":
            continue
        ways: list[Mapping[str, bool]]
        if block.code == "context.connect":
            ways = list(confinement.connects(int(block.facts["port"]))[2])
        else:
            step = confinement.step_at(block.facts.get("path", ""))
            ways = [] if step is None or step.differs else list(step.switches)
        if not ways:
            continue
        names = " and ".join(sorted(ways[0]))
        operations = [
            Operation(What.SWITCH, name, "on" if on else "off") for name, on in ways[0].items()
        ]
        yield Found(
            f"{site.subject} {names}",
            [site],
            [scene.declared(site), scene.asked(front)],
            f"{site.name}: {say(block.code, block.facts)}",
            group=names,
            remedies=[
                Remedy(f"Turn {spelt(ways[0])}", [o.words for o in operations], [],
                       [o.shell for o in operations])
            ],
        )  # fmt: skip


@check("context.shut", Impact.OUTAGE, "The policy's own rules keep the web server out")
def shut(scene: Scene) -> Iterator[Found]:
    """The path has the context of the rules, and no switch lets the web server in."""
    for site, front, block in stopped(scene):
        if front.gate != "context" or block.code == "context.connect":
            continue
        step = scene.follower.confinement.step_at(block.facts.get("path", ""))
        if step is None or step.differs or step.switches:
            continue
        yield Found(
            f"{site.subject} {block.facts['path']}",
            [site],
            [scene.entry(step.entry), scene.asked(front)],
            f"{site.name}: {say(block.code, block.facts)}",
            group=step.type or "",
            remedies=mended(mend(block.code, block.facts)),
        )


@check("context.port", Impact.OUTAGE, "The policy does not let the engine listen on the port")
def port(scene: Scene) -> Iterator[Found]:
    confinement = scene.follower.confinement
    if not confinement.enforced or confinement.shipped:
        return
    for engine in scene.engines:
        for binding in engine.listens:
            if binding.port is None:
                continue
            allowed, type_ = confinement.binds(binding.port)
            if allowed is not False:
                continue
            command = f"semanage port -a -t http_port_t -p tcp {binding.port}"
            yield Found(
                f"{engine.kind} {binding.port}",
                [],
                [scene.line(binding.place)],
                f"The policy does not let {engine.kind} listen on port {binding.port}, which has "
                f"the type {type_}",
                remedies=[Remedy(f"Give port {binding.port} the type http_port_t", [], [],
                                 [command])],
            )  # fmt: skip
