"""Personal sites: every account against the conditions that one needs, in the order in which they
bite. The first that fails keeps visitors out; the later ones are told too.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from ecumen import codes
from ecumen.audit.scene import Scene, front_of, outcome_words
from ecumen.contexts.confinement import PASS
from ecumen.engines.engine import Engine
from ecumen.engines.sites import Handling, PersonalGround
from ecumen.operations.ways import Way
from ecumen.passage.front import front_request
from ecumen.passage.remedies import needed, ways_of
from ecumen.passage.words import mend, say
from ecumen.rights import SEARCH, Subject, decide
from ecumen.rights.reach import Reach, Reacher
from ecumen.survey import Account, Entry, Kind

CONDITIONS = ("offered", "home", "folder", "passable", "owner", "context", "content", "answers")
WORDS = {
    "offered": "offered by the configuration",
    "home": "home can be passed",
    "folder": "the folder is there",
    "passable": "the folder can be passed",
    "owner": "the folder is the owner's",
    "context": "context and switches",
    "content": "an index, or a listing",
    "answers": "answers",
}
# Accounts below this number are the system's own (login.defs(5), UID_MIN).
FIRST_PERSON = 1000
_NOBODY = 65534


@dataclass(frozen=True, slots=True)
class SiteCondition:
    """One condition for one account. state: ok, fails, unsure, or beside (not asked, as there is
    nothing to ask it of).
    """

    name: str
    state: str
    why: str


@dataclass(frozen=True, slots=True)
class UserSite:
    """One account. first: the condition that fails first, "" where none does."""

    account: str
    uid: int
    home: str
    folder: str
    url: str
    status: int | None
    first: str
    why: str
    conditions: list[SiteCondition]


def user_sites(scene: Scene) -> list[UserSite]:
    """Every person's account with its conditions, in the order of the accounts."""
    reacher = Reacher(scene.survey)
    found = []
    for engine in scene.engines:
        for ground in engine.personal():
            account = scene.survey.account_by_name[ground.account]
            if is_person(account):
                found.append(_user(scene, engine, ground, account, reacher))
    return found


def users_of(scene: Scene) -> list[UserSite]:
    """The same, worked out once."""
    return scene.once("user sites", user_sites)


def is_person(account: Account) -> bool:
    return account.uid >= FIRST_PERSON and account.uid != _NOBODY


def one_plan(scene: Scene, accounts: list[str]) -> list[Way]:
    """What mends the chosen accounts' sites together, those of them that can be mended."""
    found = [
        needed(scene.follower, front_request(ground.site))
        for engine in scene.engines
        for ground in engine.personal()
        if ground.account in accounts
    ]
    return ways_of(scene.follower, found)


def _user(
    scene: Scene, engine: Engine, ground: PersonalGround, account: Account, reacher: Reacher
) -> UserSite:
    request = front_request(ground.site)
    ran = scene.follower.run(request)
    front = front_of(request, ran)
    conditions = list(_conditions(scene, engine, ground, account, reacher))
    # What is not offered is looked for elsewhere: that says nothing of the folder.
    asked = ground.offered and conditions[-1].state != "beside"
    conditions.append(
        _content(ran.now.handling) if asked else SiteCondition("content", "beside", "")
    )
    answered = front.decided and front.block is None
    state = "unsure" if not front.decided else "ok" if answered else "fails"
    conditions.append(SiteCondition("answers", state, outcome_words(front)))
    first = next((each for each in conditions if each.state == "fails"), None)
    return UserSite(
        account=account.name,
        uid=account.uid,
        home=account.home,
        folder=ground.folder,
        url=front.request.url,
        status=front.status,
        first=first.name if first else "",
        why=first.why if first else "",
        conditions=conditions,
    )


def _conditions(
    scene: Scene, engine: Engine, ground: PersonalGround, account: Account, reacher: Reacher
) -> Iterator[SiteCondition]:
    worker = engine.worker
    yield SiteCondition(
        "offered",
        "ok" if ground.offered else "fails",
        "" if ground.offered else f"Personal sites are off for {account.name}.",
    )
    if worker is None:
        for name in CONDITIONS[1:-2]:
            yield SiteCondition(name, "unsure", "The engine's worker account is not in the survey.")
        return
    yield _reached("home", reacher.ask(worker, "x", account.home))
    entry = scene.walker.walk(ground.folder).entry
    if entry is None or entry.kind is not Kind.DIR:
        # Root is kept out of nothing: what it cannot list is no folder, or not there.
        yield _reached("folder", reacher.ask(root_of(), "list", ground.folder))
        for name in CONDITIONS[3:-2]:
            yield SiteCondition(name, "beside", "")
        return
    yield SiteCondition("folder", "ok", "")
    decision = decide(entry, worker, SEARCH)
    yield (
        SiteCondition("passable", "ok", "")
        if decision.allowed
        else SiteCondition("passable", "fails", _shut(scene, entry, worker))
    )
    yield _owned(scene, account, entry)
    yield _labelled(scene, entry)


def root_of() -> Subject:
    """Who may look everywhere."""
    return Subject("root", 0, frozenset({0}))


def _reached(name: str, found: Reach) -> SiteCondition:
    state = {True: "ok", False: "fails", None: "unsure"}[found.allowed]
    return SiteCondition(name, state, "" if found.allowed else found.why)


def _shut(scene: Scene, entry: Entry, worker: Subject) -> str:
    facts = {
        "path": entry.path,
        "owner": scene.survey.user_name(entry.uid),
        "group": scene.survey.group_name(entry.gid),
        "mode": entry.mode,
        "worker": worker.name,
    }
    return say(codes.LADDER_SHUT, facts)


def _owned(scene: Scene, account: Account, entry: Entry) -> SiteCondition:
    if entry.uid == account.uid:
        return SiteCondition("owner", "ok", "")
    owner = scene.survey.user_name(entry.uid)
    why = f"{entry.path} belongs to {owner}, so {account.name} cannot work in it."
    return SiteCondition("owner", "fails", why)


def _labelled(scene: Scene, entry: Entry) -> SiteCondition:
    confinement = scene.follower.confinement
    if not confinement.enforced:
        return SiteCondition("context", "ok", "")
    step = confinement.step(entry, PASS)
    if step.allowed is None:
        return SiteCondition("context", "unsure", step.why)
    if step.allowed:
        return SiteCondition("context", "ok", "")
    facts = {"path": entry.path, "type": step.type or "", "domain": "the web server"}
    return SiteCondition("context", "fails", say(codes.CONTEXT_SHUT, facts))


def _content(handling: Handling | None) -> SiteCondition:
    """Whether something would go out once all that is closed were open."""
    if handling is None:
        return SiteCondition("content", "unsure", "")
    closed = (codes.LADDER_UNLISTABLE, codes.LADDER_UNREADABLE)
    blocks = [
        block
        for block in (*handling.serve.blocks, *handling.ladder.blocks)
        if block.code.gate == "serve" or block.code in closed
    ]
    if blocks:
        why = f"{say(blocks[0].code, blocks[0].facts)} {mend(blocks[0].code, blocks[0].facts)}"
        return SiteCondition("content", "fails", why)
    return SiteCondition("content", "ok", "")
