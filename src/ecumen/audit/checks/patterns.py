"""Patterns that a visitor can drive over the engine's own limit of matching."""

from __future__ import annotations

from collections.abc import Iterator

from ecumen.audit.check import Found, check, mended
from ecumen.audit.finding import Impact
from ecumen.audit.scene import Scene
from ecumen.engines.sites import AccessPattern
from ecumen.passage.verdict import Evidence
from ecumen.patterns.driven import drivers

MOST_TRIED = 300  # patterns that could be driven, of one server
LONGEST_SHOWN = 120  # letters of the text that does it
SECONDS = 1.0  # for one text


@check("rule.fails-open", Impact.EXPOSURE,
       "A rule of access can be driven to where it lets everybody in")  # fmt: skip
def fails_open(scene: Scene) -> Iterator[Found]:
    tried: dict[str, str | None] = {}
    for engine in scene.engines:
        for each in engine.access_patterns():
            if each.pattern not in tried:
                # Each costs up to a second, and an owner can write as many as he likes.
                if len(tried) >= MOST_TRIED:
                    return
                tried[each.pattern] = _driver(each)
            text = tried[each.pattern]
            if text is None:
                continue
            shown = text if len(text) <= LONGEST_SHOWN else f"{text[:LONGEST_SHOWN]}…"
            what = f"{len(text)} letters on which matching is given up: {shown}"
            yield Found(
                str(each.place),
                [s for s in scene.hosts if s.summary.place.file == each.place.file][:1],
                [scene.line(each.place), Evidence(text=what)],
                f"The pattern {each.pattern} at {each.place} can be driven over the engine's limit "
                "of matching, where it counts as no match",
                group=each.pattern,
                remedies=mended(
                    "Write the pattern so that no text can be taken by it in many ways",
                    "Deny the whole folder, and grant what is to be seen",
                ),
            )


def _driver(each: AccessPattern) -> str | None:
    """A text on which the engine gives up, as the library itself shows."""
    if each.regex is None:
        return None
    regex = each.regex
    return next((text for text in drivers(each.pattern) if regex.drives(text, SECONDS)), None)
