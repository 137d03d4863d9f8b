"""Personal sites: who is not offered one, who has no folder, and what a new account would get."""

from __future__ import annotations

from collections.abc import Iterator

from ecumen.audit.check import Found, check, mended
from ecumen.audit.finding import Impact
from ecumen.audit.scene import Scene
from ecumen.audit.template import template, template_remedies
from ecumen.audit.users import users_of
from ecumen.operations.folder import Folder
from ecumen.survey import Account


@check("user.not-offered", Impact.OUTAGE, "Personal sites are off for an account",
       needs=("files",))  # fmt: skip
def not_offered(scene: Scene) -> Iterator[Found]:
    """Only of accounts that have a folder for one: they want it seen."""
    for engine in scene.engines:
        for ground in engine.personal():
            entry = scene.survey.files.get(ground.folder)
            if ground.offered or entry is None:
                continue
            proofs = [scene.evidence(ground.line)] if ground.line is not None else []
            yield Found(
                ground.account,
                [],
                [*proofs, scene.entry(entry)],
                f"{ground.account} has {ground.folder}, and personal sites are off for it",
                remedies=mended(f"Offer {ground.account} a personal site in the configuration"),
                accounts=1,
            )


@check("user.no-folder", Impact.OUTAGE, "An account has no folder for its personal site",
       needs=("files",))  # fmt: skip
def no_folder(scene: Scene) -> Iterator[Found]:
    for user in users_of(scene):
        failing = {each.name for each in user.conditions if each.state == "fails"}
        if "folder" not in failing or "offered" in failing:
            continue
        account = scene.survey.account_by_name[user.account]
        home = scene.survey.files.get(account.home)
        if home is None or _of_a_service(account):
            continue
        # What never was there is missed by nobody; a link that leads nowhere was meant to work.
        left = scene.survey.files.get(user.folder)
        folder = Folder.of(scene.survey, user.folder, "0755", account)
        yield Found(
            user.account,
            [],
            [scene.entry(home if left is None else left)],
            f"{user.account} is offered a personal site, and has no {user.folder}",
            impact=None if left is not None else Impact.UPKEEP,
            remedies=mended(f"Make the folder for {user.account}", operations=[folder]),
            accounts=1,
        )


def _of_a_service(account: Account) -> bool:
    """Whether nobody signs in by it."""
    return account.shell.rpartition("/")[2] in ("nologin", "false", "sync")


@check("user.template", Impact.UPKEEP, "A new account would get no personal site that answers",
       needs=("files",))  # fmt: skip
def new_accounts(scene: Scene) -> Iterator[Found]:
    found = template(scene)
    if found is None or not found.lacks:
        return
    by = f" from {found.maker}" if found.maker else ""
    yield Found(
        found.skeleton,
        [],
        found.evidence,
        f"What a new account gets{by} is not enough for a personal site: {found.lacks[0]}",
        remedies=template_remedies(scene),
    )
