"""The syntax reader: any text gives a tree, or a tree with a mistake that has its place."""

from __future__ import annotations

from collections.abc import Sequence

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ecumen.engines.httpd.reader import Reader
from ecumen.engines.tree import Tree


class Texts:
    """A source of texts by path; folders are what paths have in front."""

    def __init__(self, **texts: str) -> None:
        self.texts = {f"/c/{name.replace('__', '/')}": text for name, text in texts.items()}

    def read(self, path: str, by: str | None = None) -> bytes | None:
        text = self.texts.get(path)
        return None if text is None else text.encode("utf-8", "surrogateescape")

    def names(self, folder: str) -> list[str] | None:
        inner = f"{folder.rstrip('/')}/"
        hits = {path[len(inner) :].split("/")[0] for path in self.texts if path.startswith(inner)}
        return sorted(hits) or None

    def exists(self, path: str) -> bool | None:
        return path in self.texts

    def expect(self, paths: Sequence[str], by: str) -> None:
        """Nothing is gained by it here."""

    def stamps(self, paths: Sequence[str]) -> list[None]:
        return [None] * len(paths)


def read(defines: tuple[str, ...] = (), **texts: str) -> Tree:
    reader = Reader(
        Texts(**texts),
        root="/c",
        version="2.4.66",
        built_in=("core.c", "mod_so.c"),
        defines=defines,
    )
    return reader.read("/c/main")


def shown(tree: Tree) -> list[str]:
    return [f"{d.place.file[3:]}:{d.place.line} {d.quoted}" for d in tree.walk() if d.taken]


_LINES = st.sampled_from(
    [
        "<Directory /a>", "</Directory>", "<IfModule x.c>", "<IfModule !x.c>", "</IfModule>",
        "Options None", "Define A b", "Alias ${A} ${B} $x ${",
        '"quoted" \'a\\\'b\' c\\', "# note \\",
        "Include main", "Include *", "IncludeOptional no/*", "<", "<>", "</>", "<A", "ServerRoot /",
        "<IfVersion >= 2.4>", "</IfVersion>", "<IfVersion ~ x>", "<IfFile x>", "</IfFile>",
        "<IfDefine !A>", "</IfDefine>", "LoadModule x_module y", "LoadModule", "<IfDefine >",
    ]
)  # fmt: skip


@given(st.one_of(st.text(), st.lists(_LINES, max_size=25).map("\n".join)))
@settings(max_examples=200)
def test_any_text_is_read(text: str) -> None:
    tree = read(main=text)
    places = [d.place for d in tree.walk()] + [mistake.place for mistake in tree.mistakes]
    assert all(place.line >= 1 and place.file.startswith("/c/") for place in places)
    assert len(tree.mistakes) <= 1001


def test_sections_that_nest_without_end_are_a_mistake() -> None:
    tree = read(main="<Directory /a>\n" * 50_000)
    assert "deep" in tree.mistakes[0].message


def test_a_file_that_includes_itself_is_a_mistake() -> None:
    tree = read(main="Include main")
    assert "deep" in tree.mistakes[0].message


def test_lines_words_and_variables() -> None:
    tree = read(
        main='Define Root "/srv/a b"\nDocumentRoot \\\n  "${ROOT}/x"\nAlias /${none}/ y # no note\n'
    )
    assert shown(tree) == [
        'main:1 Define Root "/srv/a b"',
        'main:2 DocumentRoot "/srv/a b/x"',
        "main:4 Alias /${none}/ y # no note",
    ]


def test_conditions_are_decided_where_they_stand() -> None:
    text = """
<IfModule alias_module>
  Before 1
</IfModule>
LoadModule alias_module m.so
<IfModule mod_alias.c>
  After 2
  <IfDefine !Debug>
    Plain 3
  </IfDefine>
</IfModule>
<IfVersion < 2.4>
  Old 4
</IfVersion>
<IfFile extra>
  There 5
</IfFile>
"""
    names = [d.name for d in read(main=text, extra="").walk() if d.children is None]
    assert names == ["LoadModule", "After", "Plain", "There"]
    names = [d.name for d in read(("Debug",), main=text).walk() if d.children is None]
    assert names == ["LoadModule", "After"]


@pytest.mark.parametrize(
    ("condition", "holds"),
    [
        # Measured with 2.4.66.
        ("IfVersion >= 2.4", True), ("IfVersion 2.4.66", True), ("IfVersion > 2.4", True),
        ("IfVersion !~ ^2.2", True), ("IfVersion ~ 2.4", True), (r"IfVersion /^2\.4\./", True),
        ("IfVersion = /4/", True), ("IfVersion < 3", True), ("IfVersion !>= 2.5", True),
        (r"IfVersion ~ ^2\.[0-3]", False), ("IfVersion = 2.4", False), ("IfVersion 2", False),
        ("IfVersion <= 2.4", False), (r"IfVersion !~ 66$", False),
        ("IfDirective documentroot", True), ("IfDirective <Directory", True),
        ("IfDirective Alias", True), ("IfDirective RewriteEngine", False),
        ("IfDirective !Nonsense", True), ("IfSection directory", True), ("IfSection Proxy", False),
        ("IfSection !Proxy", True),
    ],
)  # fmt: skip
def test_conditions_on_versions_and_directives(condition: str, holds: bool) -> None:
    name = condition.split()[0]
    tree = read(main=f"LoadModule alias_module m\n<{condition}>\nFound 1\n</{name}>\n")
    assert [d.name for d in tree.walk() if d.name == "Found"] == (["Found"] if holds else [])
    # What a foreign module brings is not known.
    foreign = f"LoadModule foreign_module m\n<{condition}>\nFound 1\n</{name}>\n"
    if "Nonsense" in condition:
        assert [d.taken for d in read(main=foreign).walk() if d.name == f"<{name}"] == [None]


def test_includes_come_in_the_order_of_names() -> None:
    tree = read(
        main="Include sites/*.conf\nIncludeOptional gone/*\nInclude more",
        sites__b="no",
        **{"sites__20.conf": "B 1", "sites__10.conf": "A 1", "sites__.hidden.conf": "H 1"},  # type: ignore[arg-type]
        more__y="Y 1",
        more__sub__x="X 1",
    )
    assert [d.name for d in tree.walk() if not d.name.startswith("Incl")] == ["A", "B", "X", "Y"]
    assert [d.place.file for d in tree.walk() if d.name == "A"] == ["/c/sites/10.conf"]


@pytest.mark.parametrize(
    ("text", "line", "message"),
    [
        ("A 1\n<Directory /x>\nB 2", 2, "not closed"),
        ("<Directory /x>\n</Location>", 2, "expected </Directory>"),
        ("\n</Directory>", 2, "without matching"),
        ("<Directory /x\n</Directory>", 1, "missing closing"),
        ("<IfModule no>\n<A>\n</B>\n</IfModule>", 3, "expected </A>"),
        ("A\nInclude gone", 2, "cannot be read"),
        ("Include no/*.conf", 1, "cannot be read"),
        ("Define", 1, "1-2 arguments"),
        ("<IfModule >\n</IfModule>", 1, "additional arguments"),
    ],
)
def test_a_mistake_has_its_line(text: str, line: int, message: str) -> None:
    mistake = read(main=text).mistakes[0]
    assert mistake.place.line == line
    assert message in mistake.message


def test_a_macro_is_filled_in_where_it_is_used() -> None:
    text = (
        "LoadModule macro_module m\n<Macro Site $name $root>\n<VirtualHost *:80>\n"
        "ServerName $name.test\nDocumentRoot $root/$name\n</VirtualHost>\n</Macro>\n"
        "Use Site tide /srv\nUse site choir /data\n"
    )
    tree = read(main=text)
    assert not tree.mistakes
    hosts = [d for d in tree.directives if d.name == "<VirtualHost"]
    lines = [[child.quoted for child in host.children or ()] for host in hosts]
    assert lines == [
        ["ServerName tide.test", "DocumentRoot /srv/tide"],
        ["ServerName choir.test", "DocumentRoot /data/choir"],
    ]
    assert hosts[0].place.line == 3
    assert (hosts[0].children or ())[0].place.line == 4


def test_a_macro_that_uses_itself_or_is_not_there_is_a_mistake() -> None:
    head = "LoadModule macro_module m\n"
    assert read(main=f"{head}Use Gone\n").mistakes[0].place.line == 2
    assert read(main=f"{head}<Macro A>\nUse A\n</Macro>\nUse A\n").mistakes
