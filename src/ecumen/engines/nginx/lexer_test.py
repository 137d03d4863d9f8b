"""Statements of the configuration language, plain ones and odd ones."""

from __future__ import annotations

from contextlib import suppress

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from ecumen.engines.nginx import lexer
from ecumen.engines.nginx.lexer import Lexer, Line, SyntaxFault


def read(text: str) -> list[Line]:
    found: list[Line] = []
    Lexer().read(text, "/c", found, lambda line, where: where.append(line))
    return found


def shown(lines: list[Line]) -> list[object]:
    return [
        (line.name, *line.args, *(() if line.children is None else (shown(line.children),)))
        for line in lines
    ]


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("a b c;", [("a", "b", "c")]),
        ("a b;\nc {\n d e;\n}\nf;", [("a", "b"), ("c", [("d", "e")]), ("f",)]),
        ("a b; c d; # said\ne;", [("a", "b"), ("c", "d"), ("e",)]),
        ("c { d e; }", [("c", [("d", "e")])]),
        ('a "b c" \'d;e\';', [("a", "b c", "d;e")]),
        ("a\n b\n c;", [("a", "b", "c")]),
        ("a \"b\\\"c\" d\\.e;", [("a", 'b"c', "d\\.e")]),
        ("a ${x}y $z;", [("a", "${x}y", "$z")]),
        ("location ~ ^/(a|b)\\.x$ { return 200; }",
         [("location", "~", "^/(a|b)\\.x$", [("return", "200")])]),
        ("a #b;\n c;", [("a", "c")]),
        ("if ($x = \"a b\") { break; }", [("if", "($x", "=", "a b", ")", [("break",)])]),
    ],
)  # fmt: skip
def test_statements(text: str, expected: list[object]) -> None:
    assert shown(read(text)) == expected


@pytest.mark.parametrize(
    ("text", "line"), [("a b", 1), ("a;\n}", 2), ("a {\n b;\n", 3), (";", 1), ('a "b"c;', 1)]
)
def test_a_fault_has_its_line(text: str, line: int) -> None:
    with pytest.raises(SyntaxFault) as fault:
        read(text)
    assert fault.value.place.line == line


@given(st.text(alphabet="ab \n\t;{}\"'\\$#", max_size=60))
def test_any_text_gives_statements_or_a_fault(text: str) -> None:
    with suppress(SyntaxFault):
        read(text)


@given(st.lists(st.sampled_from(["a b;", "c {", "}", 'd "e f";', "# g", "h i {j;}", " k\n l;"])))
def test_lines_are_numbered_alike_by_both_ways(parts: list[str]) -> None:
    text = "\n".join(parts)
    try:
        short = read(text)
    except SyntaxFault:
        return
    # A comment behind each line makes the lexer take the long way.
    long = read("\n".join(f"{line} #x" for line in text.split("\n")))
    assert [(x.name, x.number) for x in short] == [(x.name, x.number) for x in long]


def outcome(text: str) -> object:
    try:
        return read(text)
    except SyntaxFault as fault:
        return fault.message, fault.place


_PIECES = ["a", " ", "\\", "$", "{", "}", ";", '"', "\\.", "$x", "${x}", "\\ ", "n", "\n", "é"]


@given(st.lists(st.sampled_from(_PIECES), max_size=8), st.sampled_from([";", " {", "{", ""]))
@example(["$x", "$"], "{")  # a brace behind a dollar begins a variable, and no block
@example(["a", " ", "\\", "n"], ";")
def test_the_short_way_splits_as_the_long_one(parts: list[str], end: str) -> None:
    text = "".join(parts) + end + "\na b;\n}"
    short = outcome(text)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(lexer, "_plain", lambda line: (lexer._ODD_ONE, "", ()))
        assert outcome(text) == short
