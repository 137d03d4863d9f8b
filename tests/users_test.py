"""Personal sites against their conditions, and what a new account would get."""

from __future__ import annotations

from dataclasses import replace

import pytest

from ecumen.audit.scene import Scene
from ecumen.audit.template import template, template_remedies
from ecumen.audit.users import CONDITIONS, UserSite, one_plan, user_sites
from ecumen.operations.homes import NewHomes
from ecumen.operations.trial import Surveyed
from ecumen.passage import Follower
from ecumen.survey import FileTable, Survey, after
from tests.audit_test import HOME, HOMES, homes


def scene(survey: Survey) -> Scene:
    return Scene(Follower(survey))


def ines(survey: Survey) -> UserSite:
    return next(user for user in user_sites(scene(survey)) if user.account == "ines")


def states(user: UserSite) -> dict[str, str]:
    return {each.name: each.state for each in user.conditions}


def changed(*lines: str) -> tuple[str, ...]:
    """The usual home, with these lines in place of those for the same paths."""
    paths = {line.split()[2] for line in lines}
    return (*(line for line in HOME if line.split()[2] not in paths), *lines)


@pytest.mark.parametrize(
    ("files", "config", "first", "also"),
    [
        (HOME, HOMES, "", set()),
        (HOME, "UserDir disabled ines\n" + HOMES, "offered", set()),
        (changed("0700 ines /home/ines/"), HOMES, "home", set()),
        (HOME[:1], HOMES, "folder", set()),
        (changed("0700 ines /home/ines/public_html/"), HOMES, "passable", set()),
        (changed("0700 root /home/ines/public_html/"), HOMES, "passable", {"owner"}),
        (changed("0755 root /home/ines/public_html/"), HOMES, "owner", set()),
        (HOME[:2], HOMES, "content", set()),
        (changed("0600 ines /home/ines/public_html/index.html"), HOMES, "content", set()),
        (changed("0700 ines /home/ines/", "0700 root /home/ines/public_html/"), HOMES, "home",
         {"passable", "owner"}),
        ((HOME[0], "0644 ines /home/ines/public_html"), HOMES, "folder", set()),
    ],
)  # fmt: skip
def test_the_first_that_fails_stands_out_and_the_later_ones_are_told(
    files: tuple[str, ...], config: str, first: str, also: set[str]
) -> None:
    user = ines(homes(*files, config=config))
    assert [each.name for each in user.conditions] == list(CONDITIONS)
    assert user.first == first
    failing = {name for name, state in states(user).items() if state == "fails"}
    stops = first not in ("", "owner")
    assert failing == ({first} if first else set()) | also | ({"answers"} if stops else set())
    assert bool(user.why) == bool(first)


def test_what_the_survey_does_not_hold_is_not_said_to_be_gone() -> None:
    survey = homes()
    kept = [
        replace(each, listed=False) if each.path == "/home/ines" else each
        for each in survey.files
        if not each.path.startswith("/home/ines/")
    ]
    user = ines(replace(survey, files=FileTable(kept)))
    assert states(user)["folder"] == "unsure"
    assert user.first == ""


def test_one_plan_mends_all_that_were_chosen_and_nobody_else() -> None:
    survey = homes(
        *changed("0700 ines /home/ines/"), "0700 otto /home/otto/",
        "0755 otto /home/otto/public_html/", "0644 otto /home/otto/public_html/index.html",
    )  # fmt: skip
    looked = scene(survey)
    plans = one_plan(looked, ["ines", "otto"])
    assert plans[0].shell == [
        "setfacl -m user:www-data:--x -- /home/ines", "setfacl -m user:www-data:--x -- /home/otto",
    ]  # fmt: skip
    assert [plan.opened for plan in plans] == sorted(plan.opened for plan in plans)
    assert [o.at for o in one_plan(looked, ["otto"])[0].operations] == ["/home/otto"]
    assert one_plan(looked, ["nobody-here"]) == []


@pytest.mark.parametrize(
    ("text", "mode", "lacks"),
    [
        (b"HOME_MODE 0711\n", 0o711, 0),
        (b"HOME_MODE\t0700\n", 0o700, 1),
        (b"UMASK 077\n", 0o700, 1),
        (b"UMASK 022\n# HOME_MODE 0700\n", 0o755, 0),
        (b"UMASK 077\nHOME_MODE 0755\n", 0o755, 0),
        (b"HOME_MODE 99999999999999999999\nUMASK 0x\n", 0o7777, 0),
        (b"", 0o755, 0),
    ],
)
def test_a_new_account_is_tried_with_the_mode_that_its_home_gets(
    text: bytes, mode: int, lacks: int
) -> None:
    survey = homes()
    found = template(scene(replace(survey, texts={**survey.texts, "/etc/login.defs": text})))
    assert found is not None
    assert (found.mode, len(found.lacks)) == (mode, lacks)
    assert not any("ecumen-new" in words for words in found.lacks)


def test_each_program_makes_homes_by_its_own_file_and_the_plan_mends_them() -> None:
    texts = {
        "/etc/login.defs": b"UMASK 022\n",
        "/etc/adduser.conf": b"# Default: DIR_MODE=0700\n#DIR_MODE=0700\n",
    }
    survey = homes()
    survey = replace(survey, texts={**survey.texts, **texts})
    looked = scene(survey)
    found = template(looked)
    assert found is not None
    assert (found.maker, found.mode) == ("adduser", 0o700)
    (remedy,) = template_remedies(looked)
    assert remedy.operations == [NewHomes("adduser", "0700", "0711")]
    mended = template(scene(after(survey, remedy.operations[0].simulate(Surveyed(survey)))))
    assert mended is not None
    assert len(mended.lacks) < len(found.lacks)


def test_a_template_without_the_folder_says_to_put_one_in() -> None:
    survey = homes()
    files = FileTable(e for e in survey.files if "/etc/skel/public_html" not in e.path)
    found = template(scene(replace(survey, files=files)))
    assert found is not None
    assert any("public_html" in words for words in found.mends)
    assert template(scene(replace(survey, files=FileTable(())))) is None
