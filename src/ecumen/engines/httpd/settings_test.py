"""Settings of sections and how they are merged, by what comes of them."""

from __future__ import annotations

import pytest

from ecumen.engines.httpd.draft import section_settings
from ecumen.engines.httpd.settings import Opt, Options
from ecumen.engines.httpd.types import type_of
from ecumen.engines.tree import Directive, Place

TYPES = {"html": "text/html", "txt": "text/plain", "css": "text/css", "gz": "application/gzip"}


def settings(*lines: str):  # type: ignore[no-untyped-def]
    place = Place("/etc/c", 1)
    return section_settings(
        [Directive(name, rest, place) for name, rest in (line.split(maxsplit=1) for line in lines)]
    )


def merged(*sections: tuple[str, ...]):  # type: ignore[no-untyped-def]
    result = settings()
    for section in sections:
        result = settings(*section).over(result)
    return result


@pytest.mark.parametrize(
    ("sections", "expected"),
    [
        (["Options Indexes"], Opt.INDEXES),
        (["Options Indexes FollowSymLinks", "Options None"], Opt.NONE),
        (["Options Indexes", "Options +FollowSymLinks"], Opt.INDEXES | Opt.FOLLOW),
        (["Options Indexes FollowSymLinks", "Options -Indexes"], Opt.FOLLOW),
        (["Options Indexes", "Options -Indexes", "Options +Indexes"], Opt.INDEXES),
        (["Options +MultiViews", "Options Indexes"], Opt.INDEXES),
        (["Options All", "Options -ExecCGI -Includes -Indexes"], Opt.FOLLOW),
    ],
)
def test_options_replace_or_add(sections: list[str], expected: int) -> None:
    base = Options(Opt.NONE, True)
    result = base
    for line in sections:
        own = settings(line).options
        assert own is not None
        result = own.over(result)
    assert result.bits == expected


@pytest.mark.parametrize(
    ("name", "lines", "expected"),
    [
        ("a.html", (), "text/html"),
        ("a.HTML", (), "text/html"),
        ("a.html.txt", (), "text/plain"),
        ("a.html.unknown", (), "text/html"),
        ("a.unknown.html", (), "text/html"),
        ("html", (), None),
        (".html", (), None),
        ("..html.css", (), "text/css"),
        ("a..css", (), "text/css"),
        ("a.html.de", ("AddLanguage de .de",), "text/html"),
        ("a.de.html", (), "text/html"),
        ("a.css.gz", ("AddEncoding x-gzip .gz", "RemoveType gz"), "text/css"),
        ("a.html", ("AddCharset UTF-8 html",), "text/html; charset=utf-8"),
        ("a.txt", ("AddDefaultCharset utf-8",), "text/plain; charset=utf-8"),
        ("a.css", ("AddDefaultCharset utf-8",), "text/css"),
        ("a.css", ("ForceType Text/X-Y",), "text/x-y"),
        ("a.css", ("ForceType None",), "text/css"),
        ("a.html", ("RemoveType .html",), None),
        ("a.odd", ("AddType Text/Odd .odd",), "text/odd"),
        ("a.html.odd", ("AddOutputFilter INCLUDES .odd",), "text/html"),
    ],
)
def test_the_type_of_a_file_is_in_its_endings(
    name: str, lines: tuple[str, ...], expected: str | None
) -> None:
    assert type_of(name, settings(*lines), TYPES).type == expected


def test_index_names_add_up_in_a_section_and_replace_each_other_between_sections() -> None:
    assert merged(("DirectoryIndex a b", "DirectoryIndex c")).index == ("a", "b", "c")
    assert merged(("DirectoryIndex a",), ("DirectoryIndex b",)).index == ("b",)
    assert merged(("DirectoryIndex a",), ("DirectoryIndex disabled",)).index == ()
    assert merged(("DirectoryIndex disabled", "DirectoryIndex x")).index == ("x",)
    assert merged(("DirectoryIndex a",), ("Options None",)).index == ("a",)


def test_endings_are_merged_one_by_one() -> None:
    both = merged(("AddType text/a .x", "AddLanguage de .x"), ("AddType text/b .x",))
    assert (both.endings["x"].type, both.endings["x"].language) == ("text/b", "de")


def test_what_is_not_evaluated_is_kept() -> None:
    kept = merged(("Fancy 1",), ("Options Sideways", "KeepAlive On")).unread
    assert sorted(directive.name for directive in kept) == ["Fancy", "Options"]
