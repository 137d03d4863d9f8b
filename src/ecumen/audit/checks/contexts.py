"""Security contexts: subtrees that differ from the rules, switches that are off, ports."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from ecumen import codes
from ecumen.audit.check import MOST_SHOWN, Found, check, mended, remedy_of
from ecumen.audit.finding import Impact, Remedy
from ecumen.audit.scene import Front, Scene, Site
from ecumen.audit.stopped import stopped
from ecumen.contexts.confinement import Confined, type_of
from ecumen.contexts.cures import spelt
from ecumen.engines.sites import Block
from ecumen.engines.tree import Place
from ecumen.operations.context import Context
from ecumen.operations.operation import Operation
from ecumen.operations.switch import Switch
from ecumen.operations.trial import Trial
from ecumen.operations.ways import Way
from ecumen.passage.words import mend, say
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


def subtrees(scene: Scene) -> list[Subtree]:
    """Folded to the highest folder that explains what differs below it."""
    return list(_folded(scene)[0].values())


def _folded(scene: Scene) -> tuple[Mapping[str, Subtree], Mapping[str, str]]:
    """The subtrees by their tops, and for every path that differs the top of its own."""
    return scene.once("subtrees", _subtrees)


def _subtrees(scene: Scene) -> tuple[Mapping[str, Subtree], Mapping[str, str]]:
    confinement = scene.follower.confinement
    found: dict[str, Subtree] = {}
    inside: dict[str, str] = {}
    if confinement.mode == "disabled" or confinement.rules is None:
        return found, inside
    files = scene.survey.files
    may_label = all(mount.labels for mount in scene.survey.mounts)
    # Each folder right in front of what is in it: so a subtree is known by its top.
    for path in sorted(files.paths, key=lambda each: each.replace("/", "\0")):
        entry = files.get(path)
        actual = type_of(entry.context) if entry else None
        if entry is None or actual is None:
            continue
        expected = confinement.expected(entry)
        wanted = type_of(expected.context)
        if not expected.sure or wanted is None or wanted == actual:
            continue
        # What the mount or the kind of file system gives cannot be given otherwise.
        mount = None if may_label else scene.survey.mount_of(path)
        if mount is not None and not mount.labels:
            continue
        around = path.rpartition("/")[0]
        top = inside.get(around)
        # Of another type than its top it is a subtree of its own within: one relabelling would not
        # say both.
        if top is not None and found[top].actual == actual:
            inside[path] = top
            found[top].count += 1
            continue
        inside[path] = path
        perms = confinement.perms_for(entry)
        readable = confinement.would(entry.context, entry.kind, perms)
        found[path] = Subtree(entry, actual, expected.context or "", readable=readable)
    return found, inside


@check(
    "context.differs",
    Impact.DRIFT,
    "The security context is not the one that the rules give",
    needs=("files",),
)
def differs(scene: Scene) -> Iterator[Found]:
    """Outage where a front page is stopped by it."""
    trees, inside = _folded(scene)
    hit: dict[str, list[tuple[Site, Front]]] = defaultdict(list)
    for stop in stopped_by_policy(scene):
        if stop.step is not None:
            top = inside.get(stop.step.entry.path, "")
            hit[top].append((stop.site, stop.front))
    for path, tree in trees.items():
        below = hit.get(path, [])
        many = f" and {tree.count - 1} below" if tree.count > 1 else ""
        yield Found(
            path,
            [site for site, _ in below],
            [scene.entry(tree.top), *(scene.asked(front) for _, front in below[:MOST_SHOWN])],
            f"{path}{many} has the type {tree.actual}, where the rules give "
            f"{type_of(tree.expected)}",
            impact=Impact.OUTAGE if below else None,
            group=tree.actual,
            remedies=_restored(scene, path, tree),
        )


def _restored(scene: Scene, path: str, tree: Subtree) -> list[Remedy]:
    below = Context.census(Trial(scene.survey), path) if tree.count > 1 else None
    operation = Context(path, Context.state(tree.top), tree.expected, below)
    openings = scene.follower.opener.opens([operation])
    return [remedy_of(Way("Give it the context of the rules", [operation], openings))]


@dataclass(frozen=True, slots=True)
class PolicyStop:
    """A front page that the policy stops. step: at which; None for a connection. ways: sets of
    switches any of which would let it through.
    """

    site: Site
    front: Front
    block: Block
    step: Confined | None
    ways: Sequence[Mapping[str, bool]]

    @property
    def mislabelled(self) -> bool:
        """Whether the context is not that of the rules: to be put right before any switch."""
        return self.step is not None and self.step.differs


def stopped_by_policy(scene: Scene) -> Iterator[PolicyStop]:
    """Every front page whose first obstacle is the policy."""
    confinement = scene.follower.confinement
    for site, front, block in stopped(scene):
        if front.gate != "context":
            continue
        if block.code == codes.CONTEXT_CONNECT:
            ways = confinement.connects(int(str(block.facts["port"])))[2]
            yield PolicyStop(site, front, block, None, ways)
            continue
        step = confinement.step_at(block.path)
        yield PolicyStop(site, front, block, step, step.switches if step is not None else ())


@check("context.switch-off", Impact.OUTAGE, "A policy switch forbids what the configuration wants")
def switch_off(scene: Scene) -> Iterator[Found]:
    for stop in stopped_by_policy(scene):
        # A switch that lets the wrong type in opens it to everything of that type; the label is put
        # right first.
        if not stop.ways or stop.mislabelled:
            continue
        turned, site = stop.ways[0], stop.site
        names = " and ".join(sorted(turned))
        trial = Trial(scene.survey)
        operations: list[Operation] = [Switch.of(trial, name, on=on) for name, on in turned.items()]
        yield Found(
            f"{site.subject} {names}",
            [site],
            [scene.declared(site), scene.asked(stop.front)],
            f"{site.name}: {say(stop.block.code, stop.block.facts)}",
            group=names,
            remedies=[remedy_of(Way(f"Turn {spelt(turned)}", operations))],
        )


@check("context.shut", Impact.OUTAGE, "The policy's own rules keep the web server out")
def shut(scene: Scene) -> Iterator[Found]:
    """The path has the context of the rules, and no switch lets the web server in."""
    for stop in stopped_by_policy(scene):
        if stop.step is None or stop.ways or stop.mislabelled:
            continue
        site, block = stop.site, stop.block
        yield Found(
            f"{site.subject} {stop.step.entry.path}",
            [site],
            [scene.entry(stop.step.entry), scene.asked(stop.front)],
            f"{site.name}: {say(block.code, block.facts)}",
            group=stop.step.type or "",
            remedies=mended(mend(block.code, block.facts)),
        )


@dataclass(frozen=True, slots=True)
class PortUse:
    """A port on which an engine wants to listen. allowed: None where the policy does not say."""

    engine: str
    port: int
    place: Place
    type: str
    allowed: bool | None


def ports(scene: Scene) -> list[PortUse]:
    """Every port that the configuration names, once for each engine, with the policy's leave."""
    found = {}
    for engine in scene.engines:
        for binding in engine.listens:
            if binding.port is not None and (engine.kind, binding.port) not in found:
                allowed, type_ = scene.follower.confinement.binds(binding.port)
                use = PortUse(engine.kind, binding.port, binding.place, type_, allowed)
                found[engine.kind, binding.port] = use
    return [found[key] for key in sorted(found)]


@check("context.port", Impact.OUTAGE, "The policy does not let the engine listen on the port")
def port(scene: Scene) -> Iterator[Found]:
    confinement = scene.follower.confinement
    if not confinement.enforced or confinement.shipped:
        return
    for use in ports(scene):
        if use.allowed is not False:
            continue
        command = f"semanage port -a -t http_port_t -p tcp {use.port}"
        yield Found(
            f"{use.engine} {use.port}",
            [],
            [scene.line(use.place)],
            f"The policy does not let {use.engine} listen on port {use.port}, which has the type "
            f"{use.type}",
            remedies=mended(f"Give port {use.port} the type http_port_t", commands=[command]),
        )
