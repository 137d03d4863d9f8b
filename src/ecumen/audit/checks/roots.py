"""Document roots: missing, shared, nested, loose, and links that lead out of them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from itertools import islice

from ecumen import codes
from ecumen.audit.check import MOST_SHOWN, Found, changed_modes, check, mended
from ecumen.audit.finding import Impact
from ecumen.audit.names import claimed_by_pattern, names_without_site, usual_ports
from ecumen.audit.roots import roots, sites_of, twins, under
from ecumen.audit.scene import Scene, Site
from ecumen.operations.quoting import quoted
from ecumen.passage import read_request
from ecumen.rights import Problem
from ecumen.survey import Entry, Kind

FEWEST_IN_GROUND = 5  # roots that make a folder one of the grounds
MOST_NAMES = 1000  # that no site is called: each is a question


@check("root.missing", Impact.OUTAGE, "The document root is not there", needs=("files",))
def missing(scene: Scene) -> Iterator[Found]:
    for root in roots(scene).values():
        gone = root.problem in (Problem.MISSING, Problem.NOT_FOLDER, Problem.LOOP)
        no_folder = root.entry is not None and root.entry.kind is not Kind.DIR
        if not gone and not no_folder:
            continue
        what = "is no folder" if no_folder or root.problem is Problem.NOT_FOLDER else "is not there"
        for site in root.sites:
            front = scene.front(site)
            own = front.answered_by == site.summary.place
            if own and front.decided and front.block is None:
                # Rules lead every visitor elsewhere: nothing fails.
                continue
            # Where another site answers, its answer proves nothing.
            yield Found(
                site.subject,
                [site],
                [scene.declared(site), *([scene.asked(front)] if own else [])],
                f"{root.path}, the document root of {site.name}, {what}",
                group=root.path.rpartition("/")[0],
                remedies=mended(
                    f"Make the folder {root.path}, or mend the path in the configuration",
                    commands=[f"mkdir -p -- {quoted(root.path)}"] if root.entry is None else [],
                ),
            )
    yield from _without_folder(scene)


def _without_folder(scene: Scene) -> Iterator[Found]:
    """Names that lead here, and for which a site that lies by names has no folder."""
    for name, here in islice(names_without_site(scene), MOST_NAMES):
        if not claimed_by_pattern(scene, name):
            continue
        for scheme, port in usual_ports(scene):
            front = scene.ask(read_request(f"{scheme}://{name}/", to=here))
            block, place = front.block, front.answered_by
            site = scene.site_at.get(place) if place is not None else None
            if site is None or block is None or not front.decided:
                continue
            path, root = block.path, (site.summary.root or "").rstrip("/")
            # Below the site's own root its page is missing, and no folder of this name.
            if block.code is not codes.SERVE_MISSING or f"{path}/".startswith(f"{root}/"):
                continue
            yield Found(
                f"{name} {port}",
                [site],
                [scene.asked(front), scene.declared(site)],
                f"{name} leads to {path}, which is not there",
                group=path.rpartition("/")[0],
                remedies=mended(f"Make the folder {path}, or take the name away"),
                addresses=1,
            )
            break


def _grounds(scene: Scene) -> list[str]:
    """Folders that are plainly set aside for sites: most roots lie in a few of them."""
    counted: dict[str, int] = defaultdict(int)
    paths = [path for path, root in roots(scene).items() if not root.sites[0].summary.personal]
    for path in paths:
        folder = path.rpartition("/")[0]
        while folder.count("/") > 1:
            counted[folder] += 1
            folder = folder.rpartition("/")[0]
    # A fifth of all roots: so a server may have up to five grounds.
    least = max(FEWEST_IN_GROUND, len(paths) // 5)
    return [folder for folder, count in counted.items() if count >= least]


@check("root.out-of-bounds", Impact.DRIFT, "The root lies outside the grounds for sites",
       needs=("files",))  # fmt: skip
def out_of_bounds(scene: Scene) -> Iterator[Found]:
    """Grounds are where most sites are; where few are outside them, these are worth a look."""
    grounds = _grounds(scene)
    apart = [
        root
        for path, root in roots(scene).items()
        if not root.sites[0].summary.personal
        and not any(path.startswith(f"{ground}/") for ground in grounds)
    ]
    # Where many are outside, the grounds are a guess, and no rule of the house.
    if not grounds or len(apart) * 5 > len(roots(scene)):
        return
    for root in apart:
        for site in root.sites[:1]:
            yield Found(
                root.path,
                root.sites,
                [scene.declared(site), *([scene.entry(root.entry)] if root.entry else [])],
                f"{root.path}, the root of {site.name}, lies outside {', '.join(grounds[:3])}",
                remedies=mended(f"Move the site below {grounds[0]}, or accept where it is"),
            )


@check("root.unled", Impact.DRIFT, "No name leads to this folder", needs=("files",))
def unled(scene: Scene) -> Iterator[Found]:
    """Where names say in which folder a site lies, they say it in small letters."""
    for engine in scene.follower.engines:
        for place, folder in engine.unled():
            base = scene.site_at.get(place)
            entry = scene.survey.files.get(folder)
            if base is None or entry is None:
                continue
            yield Found(
                folder,
                [base],
                [scene.declared(base), scene.entry(entry)],
                f"{folder} lies beside the folders of {base.name}, and no name leads to it:"
                " names come in small letters",
                remedies=mended("Write the folder's name in small letters, or put it elsewhere"),
            )


@check("root.shared", Impact.CLASH, "Two sites serve one folder", needs=("files",))
def shared(scene: Scene) -> Iterator[Found]:
    """Twins under one name are one site; engines that share a root by default are none of ours."""
    by_ground: dict[str, list[Site]] = defaultdict(list)
    for root in roots(scene).values():
        if root.entry is not None and root.entry.kind is Kind.DIR:
            by_ground[root.physical] += [s for s in root.sites if s.summary.claims]
    for physical, sites in by_ground.items():
        if len(sites) < 2:
            continue
        apart: list[Site] = []
        taken: set[str] = set()
        for site in sites:
            names = {claim.name for claim in site.summary.claims}
            if not names & taken:
                apart.append(site)
            taken |= names
        if len(apart) < 2:
            continue
        entry = scene.survey.files.get(physical)
        yield Found(
            physical,
            apart,
            [
                *(scene.declared(s) for s in apart[:MOST_SHOWN]),
                *([scene.entry(entry)] if entry else []),
            ],
            f"{len(apart)} sites serve {physical}",
            remedies=mended("Give each site a folder of its own, or make them one site"),
        )


@check("root.nested", Impact.EXPOSURE, "One site's root lies inside another's", needs=("files",))
def nested(scene: Scene) -> Iterator[Found]:
    """One pass over the sorted paths: the roots that are open form a stack."""
    grounds: dict[str, list[Site]] = defaultdict(list)
    for root in roots(scene).values():
        if root.entry is not None and root.entry.kind is Kind.DIR:
            grounds[root.physical] += root.sites
    open_: list[str] = []
    for path in sorted(grounds, key=lambda p: p.split("/")):
        while open_ and not path.startswith(open_[-1].rstrip("/") + "/"):
            open_.pop()
        if open_:
            yield from _inside(scene, open_[-1], grounds[open_[-1]], path, grounds[path])
        open_.append(path)


def _inside(
    scene: Scene, outer: str, outer_sites: list[Site], inner: str, inner_sites: list[Site]
) -> Iterator[Found]:
    if any(twins(a, b) for a in outer_sites for b in inner_sites):
        return
    holder, within = outer_sites[0], inner_sites[0]
    folder = scene.survey.files.get(inner)
    evidence = [scene.entry(folder)] if folder is not None else []
    evidence += [scene.declared(holder), scene.declared(within)]
    request = scene.request_for(holder, inner[len(outer.rstrip("/")) :] + "/")
    if request is not None:
        # The claim is that visitors of the outer site get at it: that is asked.
        front = scene.ask(request)
        evidence.append(scene.asked(front))
        if front.decided and front.answered_by != holder.summary.place:
            return
        if front.decided and front.block is not None and front.status in (403, 401, None):
            return
    yield Found(
        inner,
        [within, holder],
        evidence,
        f"{inner}, the root of {within.name}, lies inside that of {holder.name}, which serves it "
        "too",
        group=outer,
        remedies=mended(
            f"Move {inner} out of {outer}",
            f"Close {inner} to visitors of {holder.name}",
        ),
    )


# --- what lies in them ---


def _writers(scene: Scene, entry: Entry) -> str | None:
    """Who else than the owner may write, in words; None where nobody."""
    if entry.kind is Kind.LINK:
        return None
    if entry.mode & 0o002 and not (entry.kind is Kind.DIR and entry.mode & 0o1000):
        return "everybody"
    group = scene.survey.group_by_gid.get(entry.gid)
    if entry.mode & 0o020 and group is not None:
        owner = scene.survey.user_name(entry.uid)
        others = sorted(set(group.members) - {owner, "root"})
        if others:
            return f"the group {group.name} ({', '.join(others[:3])})"
    return None


@check(
    "root.loose",
    Impact.EXPOSURE,
    "Others than the owner may write what is served",
    needs=("files",),
)
def loose(scene: Scene) -> Iterator[Found]:
    for physical, held in under(scene).items():
        open_: dict[str, list[Entry]] = defaultdict(list)
        for entry in map(scene.survey.files.entry, held.loose):
            who = _writers(scene, entry)
            if who is not None:
                open_[who].append(entry)
        sites = sites_of(scene, physical)
        for who, found in open_.items():
            first = found[0].path
            many = f" and {len(found) - 1} more" if len(found) > 1 else ""
            bits = "o-w" if who == "everybody" else "g-w"
            yield Found(
                f"{physical} {who}",
                sites,
                [scene.entry(entry) for entry in found[:MOST_SHOWN]],
                f"{who[0].upper()}{who[1:]} may write {first}{many}, which is served",
                group=who,
                remedies=changed_modes(
                    "Take the right to write away from all but the owner", found, bits
                ),
            )


@check("root.leads-out", Impact.EXPOSURE, "A link in the root leads to another owner's files",
       needs=("files",))  # fmt: skip
def leads_out(scene: Scene) -> Iterator[Found]:
    """Only what a visitor can follow: the passage through the link is the proof."""
    for physical, held in under(scene).items():
        sites = sites_of(scene, physical)
        for link in map(scene.survey.files.entry, held.links if sites else ()):
            walk = scene.walker.walk(link.path)
            there = walk.entry
            if there is None or f"{there.path}/".startswith(f"{physical}/"):
                continue
            root = scene.survey.files.get(physical)
            if there.uid in (link.uid, root.uid if root else 0):
                continue
            slash = "/" if there.kind is Kind.DIR else ""
            request = scene.request_for(sites[0], link.path[len(physical) :] + slash)
            if request is None:
                continue
            front = scene.ask(request)
            if front.status != 200 or front.answered_by != sites[0].summary.place:
                continue
            yield Found(
                link.path,
                sites,
                [scene.entry(link), scene.entry(there), scene.asked(front)],
                f"{link.path} leads to {there.path} of {scene.survey.user_name(there.uid)}, and is "
                "served",
                remedies=mended(
                    "Have links followed only where their owners agree",
                    f"Remove the link {link.path}",
                    commands=[],
                ),
                accounts=1,
            )
