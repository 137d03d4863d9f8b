"""Hosts that are read when they are asked for say what they say when they are read at once."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ecumen.engines.httpd import reader, server
from ecumen.engines.httpd.blocks import block_at, is_plain
from ecumen.engines.httpd.wants import HttpdWants
from ecumen.engines.source import SurveySource
from ecumen.engines.tree import Deferred, Place
from ecumen.survey import Account, EngineRecord, FileTable, Survey

# Whatever a line may be taken for: names, acting ones, sections, their ends, well and ill formed.
PIECES = [
    "ServerName a.test", "servername  b.test:81", " ServerAlias c.test *.d.test", "ServerNames x",
    "DocumentRoot /w", "SetEnv mark 1", "UnsetEnv Mark", "# ServerName no.test", "", "  ", "#",
    "<Directory /w>", "</Directory>", "<directory /v >", "</DIRECTORY>", "</Directory >",
    '<Files "a b">', "</Files>", "<Files>", "< Files>", "<Files", "<Location /x> y", "</Location>",
    "<IfModule mod_rewrite.c>", "</IfModule>", "<IfDefine Debug>", "</IfDefine>", "<If \"true\">",
    "</If>", "<Else>", "</Else>", "Define A b", "Include /c/more", "Use M", "<Macro M>",
    "</Macro>", '"ServerName" e.test', "'Listen' 81", "Listen 82", "Listen\t83", "User nobody",
    "LogFormat %h", "Header set X \\", "Options -Indexes\\", "RewriteRule ^ ${A}", "Error no",
    "\f", "ServerName\x0bf.test", "ServerName g.test\r", "</VirtualHost>", "<VirtualHost *:81>",
    "</virtualhost>  ", "  </VirtualHost>", "</VirtualHost> x", "<VirtualHost *>", "User", "A\0b",
]  # fmt: skip


def _read(text: str) -> tuple[object, ...]:
    """All that is read and compiled of a configuration, but for what is worked out later."""
    record = EngineRecord("httpd", "/c/main", "2.4.62", "/c", (), ())
    files = {"/c/main": text.encode(), "/c/more": b"ServerAlias more.test\n"}
    survey = Survey("", 0, "", (record,), FileTable(), texts=files)
    made = server.load(SurveySource(survey), record)
    hosts = [
        (h.place, h.bindings, h.name, h.name_port, h.name_line, h.names, h.wild_names,
         h.alias_lines, h.root, h.unread, [d.quoted for d in h.settings.unread])
        for h in made.hosts
    ]  # fmt: skip
    lines = [(d.name, d.text, d.place, d.children is None, d.taken) for d in made.tree.walk()]
    return (
        lines, made.mistakes, hosts, made.listens, made.user, made.doubts, made.set_names,
        made.formats, made.tree.cut, made.reader.count, made.reader.variables,
    )  # fmt: skip


def _same_at_once(text: str) -> None:
    found = _read(text)
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(reader, "block_at", lambda *words: None)
        assert found == _read(text)


@settings(max_examples=300, deadline=None)
@given(
    st.lists(st.sampled_from(PIECES), max_size=14), st.lists(st.sampled_from(PIECES), max_size=4)
)
def test_a_host_says_the_same_whenever_it_is_read(inside: list[str], behind: list[str]) -> None:
    lines = ["ServerRoot /c", "<VirtualHost *:80>", *inside, "</VirtualHost>", *behind]
    _same_at_once("\n".join(lines))
    _same_at_once("\n".join([*lines, ""]))


NAMING = [
    "CustomLog /l/a common", "ErrorLog l/b", "TransferLog \"|/bin/c d\"", "Alias /x /w/x",
    "errorlog",
    'Alias "/y z" "/w/y z"', "ScriptAliasMatch ^/p/(.*) /w/p/$1", "RewriteMap m txt:/w/m.txt",
    "UserDir pages", "UserDir /h/*/pages", "AccessFileName .one .two", "AllowOverride All",
    "<Directory />\nAllowOverride None\n</Directory>", "VirtualDocumentRoot /v/%0/w",
    "ProxyPass /s unix:/run/s|http://s/", "Alias",
    "<Location /i>\nAlias /w/i\n</Location>", "DocumentRoot\t/w/t # no end",
    "<Directory /w/o>\nAllowOverrideList none\n</Directory>", "ErrorLog /l/c\\\n d", "LoadFile /x",
    "<DirectoryMatch ^/w/.*/u>\nallowoverride All\n</DirectoryMatch>",
    "<Directory /w>\nSetHandler proxy:unix:/run/t|fcgi://t\n</Directory>", "ErrorLogs /l/no",
]  # fmt: skip


@settings(max_examples=400, deadline=None)
@given(st.lists(st.sampled_from(NAMING), max_size=7), st.lists(st.sampled_from(NAMING), max_size=3))
def test_who_looks_around_is_told_of_all_that_is_named(
    inside: list[str], behind: list[str]
) -> None:
    """By a look at the lines, and by a whole understanding of them."""
    text = "\n".join(["<VirtualHost *:80>", *inside, "</VirtualHost>", *behind])
    record = EngineRecord("httpd", "/c/main", "2.4.62", "/c", (), ())
    source = SurveySource(
        Survey("", 0, "", (record,), FileTable(), texts={"/c/main": text.encode()})
    )
    people = [Account("ines", 1001, 1001, "/home/ines", "/bin/sh")]
    looking, whole = HttpdWants(source, record), HttpdWants(source, record)
    whole.server = server.load(source, record)
    assert set(looking.grounds(people)) >= set(whole.grounds(people))
    around = ["/w/o/a", "/w/x", "/v"]
    for told in ("logs", "texts", "override_names", "names", "code"):
        assert list(getattr(looking, told)()) == list(getattr(whole, told)())
    assert list(looking.override_folders(around)) == list(whole.override_folders(around))


def test_what_hosters_write_is_left_for_later() -> None:
    text = """
  ServerName a.test
  # All of it, too.
  <Directory "/w/a b">
    Options -Indexes
    <Limit PUT>
      Require all denied
    </Limit>
  </Directory>
  SetEnvIf User-Agent "Rake" rake
</VirtualHost>
ServerName outside.test
"""
    assert is_plain(text)
    found = block_at(text.split("\n"), 1, "f", 2)
    assert found is not None
    assert found.text.splitlines()[-1].strip().startswith("SetEnvIf")
    assert [(line.name, line.text, line.place.line) for line in found.at_once] == [
        ("ServerName", "a.test", 2)
    ]


def test_lines_are_worked_out_once_for_all_who_ask() -> None:
    made = []

    def make() -> list[object]:
        made.append(1)
        return []

    later = Deferred("", Place("", 1), (), make)  # type: ignore[arg-type]
    assert len(later) == 0
    assert list(later) == []
    assert made == [1]
