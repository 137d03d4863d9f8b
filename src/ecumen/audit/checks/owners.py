"""What others can do to an owner's files, and what an owner cannot."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

import numpy as np

from ecumen.audit.check import MOST_SHOWN, Found, changed_modes, check, mended
from ecumen.audit.finding import Impact
from ecumen.audit.neighbours import Exposed, exposed
from ecumen.audit.scene import Scene, Site
from ecumen.audit.users import is_person, users_of
from ecumen.operations.owner import Owner
from ecumen.survey import Entry, Kind
from ecumen.survey.files import KINDS

_LINK, _DIR = KINDS.index(Kind.LINK), KINDS.index(Kind.DIR)


@check(
    "ladder.wide-open",
    Impact.EXPOSURE,
    "Mode or ACL lets everybody write",
    needs=("files",),
)
def wide_open(scene: Scene) -> Iterator[Found]:
    """In homes: what is served from a root is told as such."""
    by_home: dict[str, list[Entry]] = defaultdict(list)
    homes = {a.home.rstrip("/"): a for a in scene.survey.accounts if is_person(a)}
    files = scene.survey.files
    modes, kinds = np.array(files.mode), np.array(files.kind)
    # In a sticky folder everybody may write, but take nothing of others away: so are those for
    # temporary files.
    sticky = (kinds == _DIR) & (modes & 0o1000 != 0)
    for row in np.flatnonzero((modes & 0o002 != 0) & (kinds != _LINK) & ~sticky).tolist():
        home = next((h for h in _around(files.paths[row]) if h in homes), None)
        if home is not None:
            by_home[home].append(files.entry(row))
    for home, found in by_home.items():
        account = homes[home]
        many = f" and {len(found) - 1} more" if len(found) > 1 else ""
        yield Found(
            home,
            _personal(scene, account.name),
            [scene.entry(entry) for entry in found[:MOST_SHOWN]],
            f"Everybody may write {found[0].path}{many} of {account.name}",
            remedies=changed_modes(
                "Take the right to write away from all but the owner", found, "o-w"
            ),
            accounts=1,
        )


def _around(path: str) -> Iterator[str]:
    while path:
        yield path
        path = path.rpartition("/")[0]


def _personal(scene: Scene, account: str) -> list[Site]:
    return [site for site in scene.sites if site.summary.personal == account]


@check("owner.foreign", Impact.DRIFT, "An owner's folder belongs to another account",
       needs=("files",))  # fmt: skip
def foreign(scene: Scene) -> Iterator[Found]:
    for user in users_of(scene):
        if not any(each.name == "owner" and each.state == "fails" for each in user.conditions):
            continue
        entry = scene.walker.walk(user.folder).entry
        assert entry is not None
        account = scene.survey.account_by_name[user.account]
        operation = Owner(entry.path, str(entry.uid), str(account.uid), None, account.name)
        owner = scene.survey.user_name(entry.uid)
        yield Found(
            user.folder,
            _personal(scene, user.account),
            [scene.entry(entry)],
            f"{entry.path} of {user.account} belongs to {owner}",
            remedies=mended(f"Give the folder to {user.account}", operations=[operation]),
            accounts=1,
        )  # fmt: skip


@check("owner.neighbour", Impact.EXPOSURE, "Another owner can read what should be private",
       needs=("files",))  # fmt: skip
def neighbour(scene: Scene) -> Iterator[Found]:
    by_owner: dict[str, list[Exposed]] = defaultdict(list)
    for found in exposed(scene):
        # That the web server may read what it serves, or runs, is no finding by itself.
        if found.readers or found.writers:
            by_owner[found.owner].append(found)
    for owner, files in by_owner.items():
        others = sorted({name for each in files for name in (*each.readers, *each.writers)})
        first = files[0]
        who = others[0] if len(others) == 1 else f"{len(others)} other owners"
        what = "write" if first.writers else "read"
        many = f" and {len(files) - 1} more" if len(files) > 1 else ""
        remedies = changed_modes(
            "Let the owner alone, and the web server where it must, read it",
            [each.entry for each in files if each.entry.mode & 0o007],
            "o-rwx",
        )
        yield Found(
            owner,
            _personal(scene, owner),
            [scene.entry(each.entry) for each in files[:MOST_SHOWN]],
            f"{who[0].upper()}{who[1:]} can {what} {first.entry.path}{many} of {owner}: "
            f"{first.kind}, through {first.how}",
            group=first.how,
            remedies=remedies,
            accounts=len(others),
        )
