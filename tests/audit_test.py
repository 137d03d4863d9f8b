"""Each check has a survey that must raise it, and one that looks alike and must not."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

import fastjsonschema
import pytest
from click.testing import CliRunner

from ecumen.audit import CHECKS, Finding, audit
from ecumen.audit.check import MOST_PLANNED, Check, Found
from ecumen.audit.finding import Impact, Remedy
from ecumen.audit.telling import MOST_TOLD, shown_groups, together, told
from ecumen.contexts.shipped import shipped_policy
from ecumen.engines.engine import all_sites
from ecumen.operations import Standing
from ecumen.operations.mode import Mode
from ecumen.operations.plan import read_operation, written
from ecumen.operations.rotation import Rotation
from ecumen.operations.trial import Surveyed
from ecumen.passage import Follower
from ecumen.passage.front import front_pages
from ecumen.survey import (
    Certificate,
    ConfigCheck,
    Entry,
    FileTable,
    Kind,
    Labels,
    Listener,
    NameRecord,
    PacketFilter,
    SealFile,
    Survey,
    after,
    write_survey,
)
from ecumen_cli.main import ecumen
from ecumen_demo import demo_survey
from ecumen_web.store.translate import remedy_of, remedy_row
from tests.application import ROOT
from tests.builders import nginx, server

HEARD = (Listener("192.0.2.10", 80, "apache2", 7),)
PAGES = ("0644 ines /srv/a/index.html", "0644 otto /srv/b/index.html")


def block(
    name: str, root: str = "a", lines: str = "", binding: str = "*:80", alias: str = ""
) -> str:
    names = f"ServerName {name}\n" if name else ""
    names += f"ServerAlias {alias}\n" if alias else ""
    return f"<VirtualHost {binding}>\n{names}DocumentRoot /srv/{root}\n{lines}\n</VirtualHost>\n"


def httpd(config: str, *files: str, **more: object) -> Survey:
    """A survey of a running httpd, whose files are not empty but where they say so."""
    survey = server(config, (*PAGES, *files), declared=False, listeners=HEARD)
    return filled(replace(survey, **more))  # type: ignore[arg-type]


def filled(survey: Survey, **changes: dict[str, object]) -> Survey:
    """Files have 10 bytes; changes: by the last name of a path."""
    table = [
        replace(
            entry,
            **{"size": 10 if entry.kind is Kind.FILE else 0}
            | changes.get(entry.path.rpartition("/")[2].replace(".", "_"), {}),  # type: ignore[arg-type]
        )
        for entry in survey.files
    ]
    return replace(survey, files=FileTable(table))


def engine(survey: Survey, **changes: object) -> Survey:
    return replace(survey, engines=(replace(survey.engines[0], **changes),))  # type: ignore[arg-type]


def found_in(survey: Survey, id: str) -> list[Finding]:
    return [finding for finding in audit(Follower(survey)).findings if finding.id == id]


def ids(survey: Survey) -> set[str]:
    found = audit(Follower(survey))
    assert found.failed_checks == []
    return {finding.id for finding in found.findings}


ONE = block("a.test")
TWO = ONE + block("b.test", "b")
MATCHED = '<LocationMatch "^/in/{}$">\nRequire all denied\n</LocationMatch>\n'
OPTIONS = "<Directory /srv/a>\nOptions {}\nAllowOverride {}\n</Directory>"
DIRS = ("0755 root /etc/sites-available/", "0755 root /etc/sites-enabled/")


def options(words: str = "None", override: str = "None") -> str:
    return OPTIONS.format(words, override)


def both(mine: str, theirs: str) -> Survey:
    """Both engines, with a site each."""
    httpd_ = httpd(block("a.test", binding=f"*:{mine}").replace("*:", "*:"))
    other = nginx(f"server {{ listen {theirs}; server_name n.test; root /srv/b; }}")
    text = httpd_.texts["/etc/c"].replace(b"Listen 192.0.2.10:80", f"Listen {mine}".encode())
    return replace(
        httpd_,
        engines=(*httpd_.engines, replace(other.engines[0], declared=False)),
        texts={**other.texts, **httpd_.texts, "/etc/c": text},
    )


def names(*given: str) -> dict[str, object]:
    return {"names": tuple(NameRecord(name, ("192.0.2.10",)) for name in given)}


def roots(inner: str, lines: str = "") -> Survey:
    return httpd(
        ONE + f"<VirtualHost *:80>\nServerName b.test\nDocumentRoot {inner}\n</VirtualHost>\n"
        + lines,
        "0644 otto /srv/a/in/index.html",
    )  # fmt: skip


def sealed(first: str) -> Survey:
    survey = httpd(
        "LoadModule ssl_module m\nListen 192.0.2.10:443\n"
        + block("x.test", "b", first, "*:443") + block("a.test", "a", "SSLEngine on", "*:443"),
    )  # fmt: skip
    return replace(survey, listeners=(*HEARD, Listener("192.0.2.10", 443, "apache2", 7)))


CERTIFICATE = Certificate(
    ("a.test",),
    (),
    "CN=a.test",
    "CN=Middle",
    0,
    90 * 86_400,
    "EC P-256",
    "a" * 64,
    "1" * 64,
    ("2" * 64,),
)
MIDDLE = Certificate(
    (), (), "CN=Middle", "CN=Root", 0, 10**9, "EC P-256", "b" * 64, "2" * 64, anchored=True
)


def certified(
    *more: Certificate,
    key: str = "0600 root /etc/key",
    key_digest: str = "a" * 64,
    plain: str = "",
    lines: str = "",
    day: int = 1,
    **changes: object,
) -> Survey:
    """A site with this certificate, by default a good one, and what is sent with it."""
    own = f"SSLEngine on\nSSLCertificateFile /etc/crt\nSSLCertificateKeyFile /etc/key\n{lines}"
    survey = httpd(
        "LoadModule ssl_module m\nLoadModule alias_module m\nListen 192.0.2.10:443\n"
        + block("a.test", "a", own, "*:443") + (block("a.test", "a", plain) if plain else ""),
        key, "0644 root /etc/crt",
    )  # fmt: skip
    leaf = replace(CERTIFICATE, **changes)  # type: ignore[arg-type]
    files = (
        SealFile("/etc/crt", (leaf, *(more or (MIDDLE,)))),
        SealFile("/etc/key", key_digest=key_digest),
    )
    heard = (*HEARD, Listener("192.0.2.10", 443, "apache2", 7))
    return replace(survey, seals=files, listeners=heard, taken_at=day * 86_400)


def behind(protocol: str, port: int) -> Survey:
    """A site behind a filter that lets one port through."""
    where = {"family": "inet", "table": "t"}
    port_of = {"payload": {"protocol": protocol, "field": "dport"}}
    rule = [{"match": {"op": "==", "left": port_of, "right": port}}, {"accept": None}]
    rules = (
        {"table": {"family": "inet", "name": "t"}},
        {"chain": {**where, "name": "c", "type": "filter", "hook": "input", "prio": 0,
                   "policy": "drop"}},
        {"rule": {**where, "chain": "c", "handle": 4, "expr": rule}},
    )  # fmt: skip
    return httpd(ONE, filter=PacketFilter(rules, {"eth0": ("192.0.2.10",)}))


def led(
    name: str,
    *addresses: str,
    source: str = "dns",
    published: tuple[str, ...] | None = None,
    beside: tuple[str, ...] = (),
) -> Survey:
    """A site whose name leads somewhere."""
    records = [NameRecord(name, addresses, source, published=published)]
    if beside:
        records.append(NameRecord(beside[0], beside[1:]))
    return httpd(block(name), names=tuple(records))


def by_name(folder: str) -> Survey:
    lines = "ServerAlias *.g.test\nVirtualDocumentRoot /srv/by/%1"
    config = "LoadModule vhost_alias_module m\n" + block("g.test", lines=lines)
    return httpd(config, "0644 root /srv/by/g/index.html", f"0644 root /srv/by/{folder}/index.html")


def grounds(outside: str) -> Survey:
    hosts = "".join(block(f"s{n}.test", f"sites/s{n}") for n in range(9))
    files = [f"0644 ines /srv/sites/s{n}/index.html" for n in range(9)]
    files.append(f"0644 ines {outside}/index.html")
    return httpd(
        hosts + f"<VirtualHost *:80>\nServerName z.test\nDocumentRoot {outside}\n</VirtualHost>\n",
        *files,
    )


HOMES = "UserDir public_html\n" + ONE
HOME = ("0755 ines /home/ines/", "0755 ines /home/ines/public_html/",
        "0644 ines /home/ines/public_html/index.html")  # fmt: skip
_RULES = "/.*\tu:r:var_t:s0\n/srv/a(/.*)?\tu:r:{}:s0\n"


def logged(name: str, log: str) -> str:
    return block(name, lines=f"CustomLog {log}")


def grown(beside: str) -> Survey:
    """A large log, with another file beside it."""
    survey = httpd(logged("a.test", "/srv/logs/a.log common"), "0755 root /srv/logs/",
                   "0640 root /srv/logs/a.log", f"0640 root /srv/logs/{beside}")  # fmt: skip
    return filled(survey, a_log={"size": 200_000_000})


def homes(*files: str, config: str = HOMES, home_mode: str = "0755") -> Survey:
    """Personal sites of ines, with a template for new homes that has what they need."""
    skeleton = ("0755 root /etc/skel/", "0755 root /etc/skel/public_html/",
                "0644 root /etc/skel/public_html/index.html")  # fmt: skip
    survey = httpd(config, *(files or HOME), *skeleton)
    texts = {**survey.texts, "/etc/login.defs": f"HOME_MODE {home_mode}\n".encode()}
    return replace(survey, texts=texts)


def labelled(config: str, actual: str, expected: str = "httpd_sys_content_t") -> Survey:
    """A policy in force; everything in the root has the type `actual`."""
    survey = httpd(config)
    files = (
        replace(each, context=f"u:r:{actual if each.path.startswith('/srv/a') else 'var_t'}:s0")
        for each in survey.files
    )
    return replace(
        survey,
        files=FileTable(files),
        kernel={"security.mode": "enforcing"},
        labels=Labels({"file_contexts": _RULES.format(expected)},
                      replace(shipped_policy(), shipped=False)),
    )  # fmt: skip


def bound(port: int) -> Survey:
    survey = labelled(f"Listen {port}\n" + ONE, "httpd_sys_content_t")
    return replace(survey, listeners=(*HEARD, Listener("0.0.0.0", port, "apache2", 7)))


Make = Callable[[], Survey]
CASES: dict[str, tuple[Make, Make]] = {
    "door.unheard": (
        lambda: httpd(block("a.test", binding="*:8090")),
        lambda: httpd(ONE),
    ),
    "door.empty": (
        lambda: httpd("Listen 8080\n" + block("a.test", binding="*:80"),
                      listeners=(*HEARD, Listener("0.0.0.0", 8080, "apache2", 7))),
        lambda: httpd("Listen 8080\n" + block("a.test", binding="*:80") 
                      + block("b", binding="*:8080"),
                      listeners=(*HEARD, Listener("0.0.0.0", 8080, "apache2", 7))),
    ),
    "door.held": (
        lambda: httpd(ONE, listeners=(Listener("192.0.2.10", 80, "cupsd", 9),)),
        lambda: httpd(ONE, listeners=(*HEARD, Listener("192.0.2.10", 631, "cupsd", 9))),
    ),
    "door.twice": (lambda: both("80", "80"), lambda: both("80", "8088")),
    "claim.double": (
        lambda: httpd(block("a.test", alias="x.test") + block("b.test", "b", alias="x.test")),
        lambda: httpd(block("a.test", alias="x.test") + block("b.test", "b", alias="y.test")),
    ),
    "claim.shadowed": (
        lambda: httpd(block("a.test", alias="*.test") + block("b.test", "b")),
        lambda: httpd(block("b.test", "b") + block("a.test", alias="*.test")),
    ),
    "claim.unnamed": (
        lambda: httpd(ONE + block("", "b")),
        lambda: httpd(block("", "b") + ONE),
    ),
    "claim.default-by-order": (lambda: httpd(TWO), lambda: httpd(block("", "b") + ONE)),
    "claim.default-twice": (
        lambda: filled(nginx("server { listen 80 default_server; root /srv/a; }\n"
                             "server { listen 80 default_server; server_name b; root /srv/b; }",
                             PAGES)),
        lambda: filled(nginx("server { listen 80 default_server; root /srv/a; }\n"
                             "server { listen 81 default_server; server_name b; root /srv/b; }",
                             PAGES)),
    ),
    "claim.nobody": (
        lambda: httpd(TWO, **names("c.test")),
        lambda: httpd(block("a.test", alias="*.test"), **names("c.test", "localhost", "quay.x")),
    ),
    "root.missing": (
        lambda: httpd(block("a.test", "gone")),
        lambda: httpd(block("a.test", "gone", "Redirect / http://b.test/")),
    ),
    "root.shared": (
        lambda: httpd(ONE + block("b.test", "a")),
        lambda: httpd(ONE + block("b.test", "a", alias="a.test")),
    ),
    "root.nested": (
        lambda: roots("/srv/a/in"),
        lambda: roots("/srv/a/in", "<Location /in>\nRequire all denied\n</Location>\n"),
    ),
    "root.loose": (
        lambda: httpd(ONE, "0666 ines /srv/a/page.html"),
        lambda: httpd(ONE, "0664 ines /srv/a/page.html", "1777 ines /srv/a/drop/"),
    ),
    "root.leads-out": (
        lambda: httpd(block("a.test", lines=options("FollowSymLinks")),
                      "0777 ines /srv/a/on.html -> /srv/b/index.html"),
        lambda: httpd(block("a.test", lines=options("SymLinksIfOwnerMatch")),
                      "0777 ines /srv/a/on.html -> /srv/b/index.html"),
    ),
    "root.out-of-bounds": (lambda: grounds("/data/z"), lambda: grounds("/srv/sites/z")),
    "root.unled": (lambda: by_name("Loud"), lambda: by_name("quiet")),
    "root.served-secret": (
        lambda: httpd(ONE, "0644 ines /srv/a/.git/config", "0644 ines /srv/a/old.sql.gz"),
        lambda: httpd(ONE, "0600 ines /srv/a/.git/config", "0644 ines /srv/old.sql.gz",
                      "0644 ines /srv/a/ines.pub"),
    ),
    "root.served-log": (
        lambda: httpd(block("a.test", lines="CustomLog /srv/a/log/a.log common"),
                      "0644 root /srv/a/log/a.log"),
        lambda: httpd(block("a.test", lines="CustomLog /srv/a/log/a.log common"),
                      "0600 root /srv/a/log/a.log"),
    ),
    "index.none": (
        lambda: httpd(block("c.test", "c"), "0644 ines /srv/c/page.html"),
        lambda: httpd(block("c.test", "c", "DirectoryIndex page.html"),
                      "0644 ines /srv/c/page.html"),
    ),
    "index.empty": (lambda: filled(httpd(ONE), index_html={"size": 0}), lambda: httpd(ONE)),
    "index.doubled-ending": (
        lambda: httpd(block("c.test", "c"), "0644 ines /srv/c/index.html.txt"),
        lambda: httpd(ONE, "0644 ines /srv/a/index.html.txt", "0644 ines /srv/a/notes.txt"),
    ),
    "index.outranked": (
        lambda: filled(httpd(block("a.test", lines="DirectoryIndex index.html home.html"),
                             "0644 ines /srv/a/home.html"), home_html={"mtime": 10**18}),
        lambda: filled(httpd(block("a.test", lines="DirectoryIndex index.html home.html"),
                             "0644 ines /srv/a/home.html"), index_html={"mtime": 10**18}),
    ),
    "index.gone": (
        lambda: httpd(block("a.test", lines="Alias / /srv/a/none.html")),
        lambda: httpd(block("a.test", lines="Alias /x /srv/a/none.html")),
    ),
    "listing.open": (
        lambda: httpd(block("a.test", lines=options("Indexes")), "0644 ines /srv/a/in/x.html"),
        lambda: httpd(block("a.test", lines=options("Indexes")), "0644 ines /srv/a/in/index.html"),
    ),
    "kind.plain": (
        lambda: httpd(block("a.test", lines="AddType text/plain .css"), "0644 ines /srv/a/x.css"),
        lambda: httpd(ONE, "0644 ines /srv/a/x.css"),
    ),
    "rule.still-closed": (
        lambda: httpd(block("a.test", lines="<Location />\nRequire local\n</Location>")),
        lambda: httpd(block("a.test", lines="<Location /in>\nRequire local\n</Location>")),
    ),
    "rule.no-rule": (
        lambda: httpd("<Directory /srv/a>\nRequire all denied\n</Directory>\n" + ONE),
        lambda: httpd("<Directory /srv/x>\nRequire all denied\n</Directory>\n" + ONE),
    ),
    "rule.override-ignored": (
        lambda: httpd(block("a.test", lines=options()), "0644 ines /srv/a/.htaccess"),
        lambda: httpd(block("a.test", lines=options("None", "All")), "0644 ines /srv/a/.htaccess",
                      texts=httpd(block("a.test", lines=options("None", "All"))).texts
                      | {"/srv/a/.htaccess": b"# nothing\n"}),
    ),
    "rule.fails-open": (
        lambda: httpd(MATCHED.format("(a|a|aa)*") + ONE),
        lambda: httpd(MATCHED.format("(a|b)*") + ONE),
    ),
    "rule.override-refused": (
        lambda: httpd(block("a.test", lines=options("None", "All")), "0644 ines /srv/a/.htaccess",
                      texts=httpd(block("a.test", lines=options("None", "All"))).texts
                      | {"/srv/a/.htaccess": b"Nonsense\n"}),
        lambda: httpd(block("a.test", lines=options()), "0644 ines /srv/a/.htaccess"),
    ),
    "rule.wider-than-used": (
        lambda: httpd(block("a.test", lines=options("Indexes"))),
        lambda: httpd(block("c.test", "c", options("Indexes").replace("/srv/a", "/srv/c")),
                      "0644 ines /srv/c/page.html"),
    ),
    "rule.sign-in": (
        lambda: httpd(block("a.test", lines="<Location />\nAuthType Basic\n"
                                            "Require valid-user\n</Location>")),
        lambda: httpd(block("a.test", lines="<Location />\nAuthType Basic\nAuthName x\n"
                                            "Require valid-user\n</Location>")),
    ),
    "ladder.shut": (
        lambda: httpd(ONE, "0700 ines /srv/a/"),
        lambda: httpd(ONE, "0711 ines /srv/a/"),
    ),
    "ladder.unreadable": (
        lambda: httpd(block("c.test", "c"), "0600 ines /srv/c/index.html"),
        lambda: httpd(block("c.test", "c"), "0644 ines /srv/c/index.html"),
    ),
    "ladder.link": (
        lambda: httpd(block("c.test", "c", "<Directory />\nOptions None\n</Directory>"),
                      "0777 ines /srv/c -> /srv/a"),
        lambda: httpd(block("c.test", "c"), "0777 ines /srv/c -> /srv/a"),
    ),
    "way.fails": (
        lambda: httpd(block("a.test", lines="Redirect gone /")),
        lambda: httpd(block("a.test", lines="Redirect gone /old")),
    ),
    "site.refuses": (
        lambda: httpd(block("a..test")),
        lambda: httpd(block("a-a.test")),
    ),
    "seal.unspoken": (
        lambda: sealed("# none"),
        lambda: sealed("SSLEngine on"),
    ),
    "seal.other-name": (
        lambda: certified(names=("b.test", "*.a.test")),
        lambda: certified(names=("b.test", "*.test", "a.test")),
    ),
    "seal.ending": (lambda: certified(day=75), lambda: certified(day=65)),
    "seal.key": (lambda: certified(key_digest="c" * 64), lambda: certified()),
    "seal.key-open": (
        lambda: certified(key="0604 root /etc/key"),
        lambda: certified(key="0600 ines /etc/key"),
    ),
    "seal.chain": (lambda: certified(CERTIFICATE), lambda: certified(MIDDLE, MIDDLE)),
    "seal.plain-beside": (
        lambda: certified(plain="# nothing"),
        lambda: certified(plain="Redirect / https://a.test/"),
    ),
    "seal.circle": (
        lambda: certified(plain="Redirect / https://a.test/", lines="Redirect / http://a.test/"),
        lambda: certified(plain="Redirect / https://a.test/", lines="Redirect / http://b.test/"),
    ),
    "door.kept-in": (
        lambda: behind("tcp", 443),
        lambda: behind("tcp", 80),
    ),
    "name.nowhere": (
        lambda: led("a.test"),
        lambda: led("a.test", "192.0.2.10"),
    ),
    "name.elsewhere": (
        lambda: led("a.test", "203.0.113.9"),
        lambda: led("a.test", "192.0.2.10", "203.0.113.9"),
    ),
    "name.hosts-only": (
        lambda: led("a.test", "192.0.2.10", source="hosts", published=()),
        lambda: led("a.test", "192.0.2.10", source="hosts"),
    ),
    "name.split": (
        lambda: led("a.test", "192.0.2.10", "2001:db8:9::1"),
        lambda: led("a.test", "192.0.2.10", "203.0.113.9"),
    ),
    "name.unlike": (
        lambda: led("a.test", "192.0.2.10", beside=("www.a.test", "203.0.113.9")),
        lambda: led("a.test", "192.0.2.10", beside=("www.a.test", "192.0.2.10")),
    ),
    "log.shared": (
        lambda: httpd(logged("a.test", "/srv/x.log common")
                      + logged("b.test", "/srv/x.log common")),
        lambda: httpd(logged("a.test", '/srv/x.log "%v %h %t"')
                      + logged("b.test", '/srv/x.log "%v %h %t"') + logged("c.test", "/srv/c.log")),
    ),
    "log.nowhere": (
        lambda: httpd('CustomLog /srv/all.log "%h %t"\n' + ONE),
        lambda: httpd('LogFormat "%v %h %t" named\nCustomLog /srv/all.log named\n' + ONE
                      + logged("b.test", "/srv/b.log")),
    ),
    "log.unrotated": (
        lambda: grown("a.log-old"),
        lambda: grown("a.log.1.gz"),
    ),
    "log.unwritable": (
        lambda: httpd(logged("a.test", "/srv/gone/x.log common")),
        lambda: httpd(logged("a.test", "/srv/x.log common")),
    ),
    "ladder.wide-open": (
        lambda: homes(HOME[0], HOME[1], "0666 ines /home/ines/notes"),
        lambda: homes(HOME[0], HOME[1], "1777 ines /home/ines/tmp/", "0664 ines /home/ines/notes"),
    ),
    "owner.foreign": (
        lambda: homes(HOME[0], "0755 root /home/ines/public_html/"),
        lambda: homes(),
    ),
    "owner.neighbour": (
        lambda: homes(*HOME, "0644 ines /home/ines/config.ini"),
        lambda: homes(*HOME, "0640 ines /home/ines/config.ini", "0644 ines /home/ines/config.txt"),
    ),
    "user.not-offered": (
        lambda: homes(config="UserDir disabled ines\n" + HOMES),
        lambda: homes(config="UserDir disabled otto\n" + HOMES),
    ),
    "user.no-folder": (
        lambda: homes(HOME[0]),
        lambda: homes(*HOME, "0755 otto /home/otto/public_html/"),
    ),
    "user.template": (lambda: homes(home_mode="0700"), lambda: homes(home_mode="0711")),
    "context.differs": (
        lambda: labelled(ONE, "tmp_t"),
        lambda: labelled(ONE, "httpd_sys_content_t"),
    ),
    "context.switch-off": (
        lambda: labelled(ONE, "user_home_t", "user_home_t"),
        lambda: labelled(ONE, "httpd_user_content_t", "httpd_user_content_t"),
    ),
    "context.shut": (
        lambda: labelled(ONE, "default_t", "default_t"),
        lambda: labelled(ONE, "default_t", "httpd_sys_content_t"),
    ),
    "context.port": (lambda: bound(8081), lambda: bound(8080)),
    "state.fails-check": (
        lambda: engine(httpd(ONE), check=ConfigCheck(False, "error on line 2 of /etc/c:\nx")),
        lambda: engine(httpd(ONE), check=ConfigCheck(True, "Syntax OK")),
    ),
    "state.stopped": (
        lambda: engine(httpd(ONE), running=False),
        lambda: engine(httpd(ONE), running=True),
    ),
    "state.not-reloaded": (
        lambda: engine(filled(httpd(ONE), c={"mtime": 10**18}), running=True, loaded_at=10**8),
        lambda: engine(filled(httpd(ONE), c={"mtime": 10**16}), running=True, loaded_at=10**8),
    ),
    "state.not-enabled": (
        lambda: httpd(ONE, *DIRS, "0644 root /etc/sites-available/x"),
        lambda: httpd(ONE, *DIRS, "0644 root /etc/sites-available/x",
                      "0777 root /etc/sites-enabled/x -> ../sites-available/x"),
    ),
    "state.dangling": (
        lambda: httpd(ONE, *DIRS, "0777 root /etc/sites-enabled/x -> ../sites-available/x"),
        lambda: httpd(ONE, *DIRS, "0644 root /etc/sites-available/x",
                      "0777 root /etc/sites-enabled/x -> ../sites-available/x"),
    ),
}  # fmt: skip


def test_every_check_has_its_cases_and_its_page() -> None:
    assert set(CASES) == set(CHECKS)
    pages = {path.stem for path in (ROOT / "docs/findings").glob("*.md")}
    assert pages == set(CHECKS)


def test_a_log_is_rotated_where_an_entry_means_it() -> None:
    survey = grown("a.log-old")
    (found,) = found_in(survey, "log.unrotated")
    (one,) = found.remedies[0].operations
    assert isinstance(one, Rotation)
    assert read_operation(json.loads(json.dumps(written(one)))) == one
    mended = after(survey, one.simulate(Surveyed(survey)))
    assert one.standing(Surveyed(mended)) is Standing.DONE
    assert not found_in(mended, "log.unrotated")
    for text, rotated in ((b"/srv/*/a.log {\n}\n", True), (b"/srv/logs/b.log {\n}\n", False)):
        told = replace(survey, texts={**survey.texts, "/etc/logrotate.d/x": text})
        assert (not found_in(told, "log.unrotated")) is rotated
    # Where its owner may write, root would be led elsewhere; another's log the owner cannot cut.
    large = {"size": 200_000_000}
    theirs = filled(survey, logs={"uid": 1001, "gid": 1001}, a_log=large)
    assert not found_in(theirs, "log.unrotated")[0].remedies[0].operations
    theirs = filled(theirs, a_log={**large, "uid": 1001})
    (one,) = found_in(theirs, "log.unrotated")[0].remedies[0].operations
    assert isinstance(one, Rotation)
    assert (one.user, one.group) == ("ines", "ines")


def test_a_dangling_link_is_told_wherever_it_is_included_from() -> None:
    """It is passed over without a word: the server loads, and the site is not there."""
    link = "0777 root /etc/more/x.conf -> ../kept/x.conf"
    lines = f"{ONE}\nIncludeOptional /etc/more/*.conf\nIncludeOptional /etc/none.conf"
    (found,) = [f for f in audit(Follower(httpd(lines, *DIRS, link))).findings
                if f.id == "state.dangling"]  # fmt: skip
    assert found.subject == "/etc/more/x.conf"
    assert [each.text for each in found.evidence if each.file] == [
        "IncludeOptional /etc/more/*.conf"
    ]


def test_a_wildcard_claims_its_own_names_alone() -> None:
    """A site that has one may still answer, as the first, for names that nobody claims."""
    survey = httpd(block("a.test", alias="*.a.test") + ONE, **names("b.a.test", "c.test"))
    found = [f for f in audit(Follower(survey)).findings if f.id == "claim.nobody"]
    assert [f.subject for f in found] == ["c.test 80"]


@pytest.mark.parametrize("id", CASES)
def test_a_check_raises_what_it_must_and_nothing_that_looks_alike(id: str) -> None:
    wrong, right = CASES[id]
    assert id in ids(wrong())
    assert id not in ids(right())


def test_a_check_that_fails_does_not_stop_the_rest(monkeypatch: pytest.MonkeyPatch) -> None:
    def look(scene: object) -> Iterator[Found]:
        raise KeyError("x")

    monkeypatch.setitem(CHECKS, "door.empty", Check("door.empty", Impact.UPKEEP, "t", look))
    found = audit(Follower(httpd(TWO)))
    assert [failed.id for failed in found.failed_checks] == ["door.empty"]
    assert {finding.id for finding in found.findings} == {"claim.default-by-order"}


def test_a_finding_keeps_its_identity_while_other_things_change() -> None:
    def keys(survey: Survey) -> dict[str, str]:
        return {f.id: f.key for f in audit(Follower(survey)).findings}

    before = keys(httpd(block("a.test", "gone")))
    after = keys(httpd("# a line more\n" + block("a.test", "gone"), "0644 ines /srv/x"))
    assert before["root.missing"] == after["root.missing"]


def test_logs_of_nginx_are_its_sites_own_or_the_servers() -> None:
    lines = (
        "log_format named '$host $remote_addr [$time_local]';\n"
        "server { listen 80; server_name a.test; root /srv/a; access_log /srv/x.log; }\n"
        "server { listen 80; server_name b.test; root /srv/a; access_log /srv/x.log combined; }\n"
        "server { listen 80; server_name c.test; root /srv/a; }\n"
        "server { listen 80; server_name d.test; root /srv/a; access_log /srv/y.log named; }\n"
        "server { listen 80; server_name e.test; root /srv/a; access_log /srv/y.log named; }\n"
    )
    survey = nginx(lines, ("0644 root /srv/a/index.html", "0755 root /var/log/"))
    found = {f.id: f.sites for f in audit(Follower(survey)).findings if f.id.startswith("log.")}
    assert found == {"log.shared": ["a.test", "b.test"], "log.nowhere": ["c.test"]}


def test_no_front_page_of_the_demo_fails_without_a_finding() -> None:
    survey = demo_survey()
    follower = Follower(survey)
    named = {name for finding in audit(follower).findings for name in finding.sites}
    failing = {page.site.name for page in front_pages(follower) if page.state == "blocked"}
    assert failing <= named


@pytest.mark.parametrize("shut", ["0700 root /srv/a/", "0700 root /srv/a/in/"])
def test_a_listing_that_nobody_gets_is_not_open(shut: str) -> None:
    survey = httpd(block("a.test", lines=options("Indexes")), "0644 ines /srv/a/in/x.html", shut)
    assert "listing.open" not in {finding.id for finding in audit(Follower(survey)).findings}


def test_the_demos_gardens_tell_what_is_wrong_with_four_of_them() -> None:
    found = {f.subject: f for f in audit(Follower(demo_survey())).findings if "gardens" in f.title}
    assert {subject: finding.id for subject, finding in found.items()} == {
        "httpd leek-trench.gardens.example *:80 ladder.shut": "ladder.shut",
        "quince-corner.gardens.example 80": "root.missing",
        "rhubarb-end.gardens.example 80": "root.missing",
        "/srv/gardens/Quince-Corner/public": "root.unled",
        "/data/weather": "root.out-of-bounds",
    }
    # Whoever comes to a name that a block has by a wildcard, and to nothing of its own.
    assert found["rhubarb-end.gardens.example 80"].sites == ["gardens.example"]


# --- the command ---


@pytest.fixture(scope="module")
def demo_file(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("audit") / "demo.survey"
    with path.open("wb") as stream:
        write_survey(demo_survey(), stream)
    return path


def run(demo_file: Path, *more: str) -> str:
    done = CliRunner().invoke(ecumen, ["audit", "--survey", str(demo_file), *more],
                              standalone_mode=False)  # fmt: skip
    assert done.exception is None
    return done.stdout


def test_what_is_found_fails_only_where_asked(tmp_path: Path) -> None:
    file = tmp_path / "x.survey"
    with file.open("wb") as stream:
        write_survey(CASES["claim.double"][0](), stream)

    def status(*more: str) -> object:
        options = ["audit", "--survey", str(file), *more]
        return CliRunner().invoke(ecumen, options, standalone_mode=False).return_value

    assert status() == 0
    assert status("--fail-on", "exposure") == 0
    assert status("--fail-on", "exposure", "--fail-on", "clash") == 1


def test_every_format_holds_every_finding(demo_file: Path) -> None:
    whole = json.loads(run(demo_file, "--format", "json"))
    count = len(whole["findings"])
    assert count > 50
    assert whole["failed_checks"] == []
    assert all(finding["evidence"] for finding in whole["findings"])
    assert len(json.loads(run(demo_file, "--format", "sarif"))["runs"][0]["results"]) == count
    assert len(run(demo_file, "--format", "csv").splitlines()) == count + 1
    text = run(demo_file)
    assert all(finding["title"] in text for finding in whole["findings"])


def test_sarif_is_what_the_standard_says(demo_file: Path) -> None:
    """By the standard's own schema, as a package of the front end's tests brings it along."""
    package = ROOT / "frontend/node_modules/@microsoft/jest-sarif"
    (schema,) = (package / "lib/schemas").glob("sarif-2.1.0*.json")
    valid = fastjsonschema.compile(json.loads(schema.read_text()))
    log = run(demo_file, "--format", "sarif")
    valid(json.loads(log))
    for right, wrong in (
        ('"level": "error"', '"level": "outage"'),
        ('"version": "2.1.0"', '"version": "2.2"'),
        ('"startLine": ', '"startLine": -'),
        ('"text": ', '"words": '),
    ):
        assert right in log
        with pytest.raises(fastjsonschema.JsonSchemaException):
            valid(json.loads(log.replace(right, wrong)))


def test_hostile_names_stay_data(tmp_path: Path) -> None:
    evil = "=cmd|' /C x'!A0\x1b[31m.test"
    survey = httpd(block('"' + evil.replace(" ", "") + '"', "gone"))
    found: list[Finding] = audit(Follower(survey)).findings
    assert found
    path = tmp_path / "x.survey"
    with path.open("wb") as stream:
        write_survey(survey, stream)
    for form in ("text", "csv"):
        assert "\x1b" not in run(path, "--format", form)
    for row in run(path, "--format", "csv").splitlines()[1:]:
        assert not any(cell.startswith(("=", "+", "@")) for cell in row.split(","))


def test_a_million_open_files_are_a_remedy_of_some_and_the_number_of_the_rest() -> None:
    """What an owner makes of files in bulk must not fill the records of everybody's findings."""
    count = MOST_PLANNED + 500
    lines = [f"0666 ines /home/ines/f{number}" for number in range(count)]
    found = [f for f in audit(Follower(server("", lines))).findings if f.id == "ladder.wide-open"]
    (remedy,) = found[0].remedies
    assert (len(remedy.operations), remedy.left) == (MOST_PLANNED, 500)
    view = told(remedy)
    assert (len(view.shell), view.more) == (MOST_TOLD, count - MOST_TOLD)
    assert len(json.dumps(remedy_row(remedy))) < 200 * MOST_PLANNED
    assert remedy_of(json.loads(json.dumps(remedy_row(remedy)))) == remedy


def test_many_causes_of_one_finding_each_are_shown_together() -> None:
    few = [("a.b", f"a.b {number}") for number in range(3)]
    assert shown_groups(few) == [group for _, group in few]
    found = shown_groups(
        [*few, ("a.b", "a.b 3"), ("a.b", "a.b pair"), ("a.b", "a.b pair"), ("c", "c")]
    )
    assert found == ["a.b several causes"] * 4 + ["a.b pair"] * 2 + ["c"]


def test_one_plan_for_many_findings_is_bounded_and_says_what_it_leaves() -> None:
    def remedy(name: str, count: int, left: int = 0) -> Remedy:
        entries = [Entry(f"/srv/{name}/{n}", Kind.FILE, 0o666, 1, 1) for n in range(count)]
        return Remedy("t", [Mode.of(each, "o-w") for each in entries], left=left)

    few = together([remedy("a", 2, 7), remedy("b", 3), Remedy("words")], 3)
    assert few is not None
    assert (len(few.operations), few.left, few.title) == (5, 7, "2 of 3 of this cause at once")
    assert together([remedy("a", 2), Remedy("words")], 2) is None
    read = []

    def many() -> Iterator[Remedy]:
        for number in range(1000):
            read.append(number)
            yield remedy(str(number), MOST_PLANNED - 1)

    plan = together(many(), 1000)
    assert plan is not None
    assert (len(plan.operations), len(read)) == (MOST_PLANNED, 2)
    assert plan.left == MOST_PLANNED - 2
    assert plan.title == "2 of 1000 of this cause at once"


@pytest.mark.parametrize(
    "folder", ["a b", "x@y", "q?z", "h#k", "ü", "n\nl", "%zz", "[::1]", "-", "."]
)
def test_what_an_owner_calls_a_folder_is_a_site_only_where_it_can_be_asked(folder: str) -> None:
    follower = Follower(by_name(folder.replace(".", "..b")))
    names = {site.name for engine in follower.engines for site in all_sites(engine)}
    assert names - {"g.test"} <= {"-.g.test"}
    assert not audit(follower).failed_checks


def test_every_folder_to_which_a_name_can_lead_is_a_site_in_its_own_right() -> None:
    lines = "ServerAlias *.gardens.test\nVirtualDocumentRoot /srv/by/%1/htdocs"
    config = "LoadModule vhost_alias_module m\n" + block("gardens.test", lines=lines)
    files = (
        "0644 root /srv/by/gardens/htdocs/index.html", "0644 root /srv/by/one/htdocs/index.html",
        "0755 root /srv/by/two/htdocs/", "0700 root /srv/by/shut/",
        "0755 root /srv/by/shut/htdocs/",
        "0755 root /srv/by/empty/", "0644 root /srv/by/note.txt", "0777 root /srv/by/ln -> one",
        "0644 root /srv/by/Loud/htdocs/index.html",
    )  # fmt: skip
    follower = Follower(httpd(config, *files))
    (engine,) = follower.engines
    sites = {site.name: site.root for site in all_sites(engine)}
    assert sites == {
        "gardens.test": "/srv/by/gardens/htdocs",
        **{f"{name}.gardens.test": f"/srv/by/{name}/htdocs"
           for name in ("one", "two", "shut", "empty", "ln")},
    }  # fmt: skip
    found = {(f.id, name) for f in audit(follower).findings for name in f.sites}
    assert {("index.none", "two.gardens.test"), ("ladder.shut", "shut.gardens.test"),
            ("root.missing", "empty.gardens.test"),
            ("root.unled", "gardens.test")} <= found  # fmt: skip
    assert [f.subject for f in audit(follower).findings if f.id == "root.unled"] == [
        "/srv/by/Loud/htdocs"
    ]
    assert not [f for f in audit(follower).findings if f.id.startswith("claim.unnamed")]
