"""New sites by what is usual on a server: proposed, made beside both engines, and asked."""

from __future__ import annotations

import os
import pwd
import random
import socket
import subprocess
from dataclasses import replace
from pathlib import Path

import pytest

from ecumen.audit.scene import Scene, Site
from ecumen.engines.draft import LOCAL, SiteDraft
from ecumen.engines.httpd import writing as httpd
from ecumen.engines.nginx import writing as nginx
from ecumen.founding import Proposal, Wish, habits_of, propose
from ecumen.founding.closing import closing
from ecumen.founding.proposal import opening
from ecumen.operations import Plan, PlanGround
from ecumen.operations.file import File
from ecumen.operations.reload import Reload
from ecumen.operations.trial import Surveyed, done
from ecumen.passage import Follower
from ecumen.rehearsal import rehearse
from ecumen.survey import Survey
from ecumen_agent.applier import Applier
from ecumen_agent.bounds import Bounds
from ecumen_agent.ledger import Ledger, State
from ecumen_demo import demo_survey
from ecumen_machine import EngineSpec, take_survey
from ecumen_machine.hands import MachineHands
from tests.apart import on_a_machine_of_its_own
from tests.builders import server

HERE, OUTSIDE = "192.0.2.10", "198.51.100.7"
CONFIG = {"httpd": "/etc/apache2/apache2.conf", "nginx": "/etc/nginx/nginx.conf"}
STARTED = {"httpd": ["sh", "-c", ". /etc/apache2/envvars; apache2"], "nginx": ["nginx"]}
# The ways of the house: where roots, logs and files are, by words that each site puts in.
ROOTS = ("/srv/{label}/public", "/srv/{owner}/{name}", "/srv/{name}", "/srv/www/{bare}/htdocs")
FILES = ("{label}.conf", "{order}-{name}.conf", "site-{label}.conf")


@pytest.fixture(scope="module")
def scene() -> Scene:
    return Scene(Follower(demo_survey()))


def named(scene: Scene, name: str) -> Site:
    return next(site for site in scene.hosts if site.name == name)


def stops(proposal: Proposal) -> list[str]:
    return [clash.about for clash in proposal.clashes if clash.stops]


def test_what_is_usual_on_the_demo_server_is_learned(scene: Scene) -> None:
    first, second = (habits_of(scene, engine) for engine in scene.engines)
    assert first.root is not None
    assert first.root.value == "/srv/sites/{label}/public"
    assert first.root.said == f"as {first.root.count} of {first.sites} sites here"
    assert first.log is not None
    assert first.log.value == "/var/log/apache2/{label}.log"
    assert first.written is not None
    assert first.written.value.file == "{order}-{label}.conf"
    assert second.bindings is not None
    assert second.bindings.value == (("*", 8088),)


def test_a_new_site_is_seen_by_the_server_alone_until_it_is_opened(scene: Scene) -> None:
    for kind in ("httpd", "nginx"):
        found = propose(scene, Wish("ines", "kite-makers.example", kind))
        assert found.possible, found.clashes
        assert found.passage is not None
        assert (found.passage.decided, found.passage.status) == (True, 403)
        assert found.inside is not None
        assert (found.inside.decided, found.inside.status) == (True, 200)
        open_to_all = propose(scene, Wish("ines", "kite-makers.example", kind, seen_by=()))
        assert open_to_all.passage is not None
        assert open_to_all.passage.status == 200


@pytest.mark.parametrize(
    ("wish", "about"),
    [
        (Wish("ines", "choir.example"), "name"),
        (Wish("ines", "a b.example"), "name"),
        (Wish("ines", "..example"), "name"),
        (Wish("ines", "a" * 64 + ".example"), "name"),
        (Wish("ines", "käse.example"), "name"),
        (Wish("ines", "new.example", names=("new.example", "choir.example")), "name"),
        (Wish("nobody-at-all", "new.example"), "owner"),
        (Wish("root", "new.example"), "owner"),
        (Wish("ines", "new.example", root="/srv/sites/pottery/public/x"), "root"),
        (Wish("ines", "new.example", root="/srv/sites/pottery"), "root"),
        (Wish("ines", "new.example", root="/srv/../etc"), "root"),
        (Wish("ines", "new.example", root="srv"), "root"),
        (Wish("ines", "new.example", root="/srv/a\nb"), "site"),
        (Wish("ines", "new.example", root="/srv/${HOME}"), "site"),
        (Wish("ines", "new.example", bindings=(("*", 9999),)), "bindings"),
        (Wish("ines", "new.example", bindings=(("*", 8088),)), "bindings"),
        (Wish("ines", "new.example", log="|/bin/sh"), "site"),
        (Wish("ines", "new.example", log="/no/such/folder/log"), "log"),
        (Wish("ines", "new.example", file="../ports.conf"), "file"),
        (Wish("ines", "new.example", file="000-tide-table.conf"), "file"),
        (Wish("ines", "new.example", file="new.disabled"), "file"),
        (Wish("ines", "new.example", engine="other"), "engine"),
        (Wish("ines", "new.example", seen_by=("everywhere",)), "site"),
    ],
)  # fmt: skip
def test_what_cannot_be_is_said_and_nothing_planned(scene: Scene, wish: Wish, about: str) -> None:
    found = propose(scene, wish)
    assert about in stops(found)
    assert not found.possible
    with pytest.raises(ValueError, match=r".+"):
        found.plan(scene.survey)


def test_what_comes_first_answers_what_nobody_claims_and_that_is_said(scene: Scene) -> None:
    found = propose(scene, Wish("ines", "new.example", file="000-a.conf"))
    assert found.possible
    assert any("answer what no site claims" in clash.words for clash in found.clashes)


def test_what_was_written_by_hand_is_opened_by_hand(scene: Scene) -> None:
    with pytest.raises(LookupError, match="written by hand"):
        opening(scene, named(scene, "pottery.example"), ())


@pytest.mark.parametrize(
    "text",
    [
        # Whoever may see one address of it, or another folder, may not see all of it.
        'server {\n  listen 80;\n  server_name a.test;\n  root "/srv";\n  location /admin {\n'
        "    allow 10.0.0.0/8;\n    deny all;\n  }\n}\n",
        'server {\n  listen 80;\n  server_name a.test;\n  root "/srv";\n  auth_basic x;\n'
        "  allow all;\n}\n",
        '<VirtualHost *:80>\nServerName a.test\nDocumentRoot "/srv"\n<Directory "/other">\n'
        "AllowOverride None\nOptions SymLinksIfOwnerMatch\nRequire local\n</Directory>\n"
        "</VirtualHost>\n",
        '<VirtualHost *:80>\nServerName a.test\nDocumentRoot "/srv"\n<Location /admin>\n'
        "Require local\n</Location>\n</VirtualHost>\n",
    ],
)
def test_who_is_let_in_is_changed_only_where_it_was_written_here(text: str) -> None:
    for seen_by, reopened in (
        (httpd.seen_by_of, httpd.reopened),
        (nginx.seen_by_of, nginx.reopened),
    ):
        assert seen_by(text) is None
        assert reopened(text, ()) is None


def test_what_was_written_here_is_known_again_whoever_is_let_in() -> None:
    for seen_by in ((), (LOCAL,), (LOCAL, "192.0.2.0/24", "2001:db8::/32"), ("198.51.100.7/32",)):
        draft = SiteDraft(
            ("a.test", "www.a.test"), "/srv/a b", (("*", 80), ("::1", 81)), ("i.html",),
            "/var/log/a.log", seen_by, "For ines, 2031-04-15", "\t",
        )  # fmt: skip
        for writing in (httpd, nginx):
            text = writing.site_text(draft)
            assert writing.seen_by_of(text) == seen_by
            assert writing.reopened(text, ()) == writing.site_text(replace(draft, seen_by=()))


def test_a_site_that_moves_to_another_port_is_no_new_one(scene: Scene) -> None:
    site = named(scene, "tide-table.example")
    lines = "\n".join(scene.text(site.summary.place.file)).replace("*:80", "*:8099")
    path = scene.walker.walk(site.summary.place.file).physical
    assert path is not None
    step = File.of(Surveyed(scene.survey), path, lines.encode())
    told = rehearse(scene, (step, Reload("httpd")))
    assert told.founded == ()
    assert told.worse


def test_a_site_goes_out_of_service_and_its_files_stay(scene: Scene) -> None:
    for site in (named(scene, "pottery.example"), named(scene, "tide-clock.example")):
        steps = closing(scene, site)
        told = rehearse(scene, steps)
        gone = {each.of for each in told.addresses if each.front}
        assert site.name in gone
        then = Scene(Follower(done(scene.survey, steps)))
        assert site.name not in [each.name for each in then.hosts]
        assert len(then.hosts) == len(scene.hosts) - 1
        assert then.survey.files.get(site.summary.root or "") is not None


def test_what_stands_in_one_file_with_others_is_taken_out_by_hand() -> None:
    text = "".join(
        f"<VirtualHost *:80>\nServerName {name}.test\nDocumentRoot /srv\n</VirtualHost>\n"
        for name in ("one", "two")
    )
    scene = Scene(Follower(server(text, ("0755 root /srv/",))))
    with pytest.raises(LookupError, match=r"two\.test"):
        closing(scene, named(scene, "one.test"))


# --- beside the real servers ---


def housed(kind: str, rng: random.Random) -> dict[str, str]:
    """Some sites in the way of a house, read and served. Returns their pages by their names."""
    root, file = rng.choice(ROOTS), rng.choice(FILES)
    both, shut = rng.random() < 0.5, rng.random() < 0.4
    folder = "/etc/apache2" if kind == "httpd" else "/etc/nginx"
    log = "/var/log/apache2" if kind == "httpd" else "/var/log/nginx"
    paired = rng.random() < 0.7
    for link in Path(f"{folder}/sites-enabled").iterdir():
        link.unlink()
    if kind == "httpd":
        Path(f"{folder}/ports.conf").write_text("Listen 80\n")
    pages = {}
    people = [each for each in pwd.getpwall() if each.pw_uid >= 1000 and each.pw_name != "nobody"]
    for number, label in enumerate(("kelp", "tern", "dune", "oar")):
        name, person = f"{label}.example", people[number % len(people)]
        words = {"label": label, "name": name, "bare": name, "owner": person.pw_name}
        words["order"] = f"{10 * number:03}"
        where = Path(root.format(**words))
        where.mkdir(parents=True)
        (where / "index.html").write_text(label)
        for part in (where, where / "index.html"):
            os.chown(
                part, person.pw_uid, pwd.getpwnam("www-data").pw_gid if shut else person.pw_gid
            )
        where.chmod(0o750 if shut else 0o755)
        names = f"{name} www.{name}" if both else name
        if kind == "httpd":
            alias = f"\tServerAlias www.{name}\n" if both else ""
            text = (
                f"<VirtualHost *:80>\n\tServerName {name}\n{alias}\tDocumentRoot {where}\n"
                f"\tCustomLog {log}/{label}.log combined\n\t<Directory {where}>\n"
                "\t\tRequire all granted\n\t</Directory>\n</VirtualHost>\n"
            )
        else:
            text = (
                f"server {{\n  listen 80;\n  server_name {names};\n  root {where};\n"
                f"  access_log {log}/{label}.log;\n}}\n"
            )
        leaf = file.format(**words)
        written = Path(f"{folder}/sites-{'available' if paired else 'enabled'}/{leaf}")
        written.write_text(text)
        if paired:
            Path(f"{folder}/sites-enabled/{leaf}").symlink_to(f"../sites-available/{leaf}")
        pages[name] = label
    subprocess.run(STARTED[kind], check=True)
    return pages


def asked(name: str, source: str) -> tuple[int, bytes]:
    """Status and body of a front page, asked from an address."""
    with socket.create_connection((HERE, 80), 5, (source, 0)) as link:
        link.sendall(f"GET / HTTP/1.0\r\nHost: {name}\r\n\r\n".encode())
        data = b"".join(iter(lambda: link.recv(65536), b""))
    head, _, body = data.partition(b"\r\n\r\n")
    return int(head.split()[1]), body


def surveyed(kind: str) -> Survey:
    return take_survey([EngineSpec(kind, CONFIG[kind])])


@pytest.mark.server
@pytest.mark.share(2)
@pytest.mark.parametrize("kind", ["httpd", "nginx"])
@on_a_machine_of_its_own
def test_proposed_sites_are_there_for_those_who_shall_see_them(kind: str, seed: int) -> None:
    rng = random.Random(f"{seed} {kind}")
    for address in (HERE, OUTSIDE):
        subprocess.run(["ip", "address", "add", f"{address}/32", "dev", "lo"], check=True)
    for person in ("maren", "otto"):
        subprocess.run(["useradd", person], check=True)
    pages = housed(kind, rng)
    os.makedirs("/run/agent")
    # As usual, with the group of the server's own account, as the administrator says it.
    bounds = Bounds(groups=(pwd.getpwnam("www-data").pw_gid,))
    one = Applier(Ledger("/run/agent/db"), MachineHands(), bounds, "/run/agent")
    for name in ("reed.example", "heron.example"):
        scene = Scene(Follower(surveyed(kind)))
        wish = Wish(rng.choice(["maren", "otto"]), name, kind)
        found = propose(scene, wish)
        assert found.possible, found.clashes
        outcome = one.apply(found.plan(scene.survey), "test")
        assert outcome.state is State.DONE, outcome
        assert found.passage is not None
        assert asked(name, OUTSIDE)[0] == found.passage.status == 403
        status, body = asked(name, "127.0.0.1")
        assert status == 200
        assert name.encode() in body
        draft = found.draft
        assert draft is not None
        assert draft.log is not None
        assert len(Path(draft.log).read_text().splitlines()) == 2
        # Its owner can write there, and no other person.
        for person in ("maren", "otto"):
            try_it = ["setpriv", f"--reuid={person}", "--clear-groups", "test", "-w", draft.root]
            assert (subprocess.run(try_it).returncode == 0) == (person == wish.owner)
        # To one network, then to all, then to the server itself again.
        for seen_by, seen in (((f"{OUTSIDE}/32",), 200), ((), 200), ((LOCAL,), 403)):
            scene = Scene(Follower(surveyed(kind)))
            steps = opening(scene, named(scene, name), seen_by)
            ground = PlanGround("here", 0)
            assert one.apply(Plan("opened", ground, steps), "test").state is State.DONE
            assert asked(name, OUTSIDE)[0] == seen
        if name == "heron.example":
            scene = Scene(Follower(surveyed(kind)))
            steps = closing(scene, named(scene, name))
            assert (
                one.apply(Plan("closed", PlanGround("here", 0), steps), "test").state is State.DONE
            )
            assert name.encode() not in asked(name, "127.0.0.1")[1]
            assert Path(draft.root, "index.html").exists()
        # All others answer as before.
        assert {each: asked(each, OUTSIDE)[1].decode() for each in pages} == pages
