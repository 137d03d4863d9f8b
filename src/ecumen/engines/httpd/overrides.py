"""Per-folder override files: what one says, or why the server fails on it.

Source: httpd 2.4, ".htaccess files", core ("AllowOverride", "AllowOverrideList"); measured. Which
directives there are, and what each needs, is the table `directives.tsv`, as the server tells it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from ecumen.engines.httpd import arguments, values
from ecumen.engines.httpd.access import access_fault, expression_of
from ecumen.engines.httpd.draft import CONDITIONAL, Draft
from ecumen.engines.httpd.expressions import read as read_condition
from ecumen.engines.httpd.modules import KNOWN, is_built_in, known_directives
from ecumen.engines.httpd.reader import Reader
from ecumen.engines.httpd.settings import Opt, Options, Override, Settings
from ecumen.engines.tree import Directive, Place

# Sections in which one may stand whose own lines are allowed by the class of their section.
_SECTIONS = frozenset(
    ("<files", "<filesmatch", "<limit", "<limitexcept", "<if", "<elseif", "<else")
)


MOST_LINES = 10_000  # of one file


@dataclass(frozen=True, slots=True)
class Overriding:
    """One override file as it is read under what is allowed.

    fault: where and why the server fails on it. doubts: lines of which that is not known.
    """

    path: str
    settings: Settings
    fault: tuple[Place, str] | None = None
    doubts: tuple[Directive, ...] = ()
    of_server: bool = True


class OverrideReader:
    """Reads override files for one server; each once for each set of what is allowed."""

    def __init__(self, reader: Reader) -> None:
        self.reader = reader
        self._read: dict[tuple[str, Override | None, frozenset[str] | None], Overriding | None] = {}

    def read(
        self, path: str, physical: str, override: Override | None, names: frozenset[str] | None
    ) -> Overriding | None:
        """path: as the folder was asked for. None: the survey does not hold the text."""
        key = (path, override, names)
        if key not in self._read:
            text = self.reader.source.read(physical)
            if text is not None and text.count(b"\n") > MOST_LINES:
                # Each of its requests would take as long as reading all of it.
                what = Directive(f"more than {MOST_LINES} lines", "", Place(path, MOST_LINES + 1))
                self._read[key] = Overriding(path, Settings(), None, (what,))
            elif text is not None:
                self._read[key] = self._parsed(path, text, override, names)
            else:
                self._read[key] = None
        return self._read[key]

    def _parsed(
        self, path: str, text: bytes, override: Override | None, names: frozenset[str] | None
    ) -> Overriding:
        folder = path.rpartition("/")[0] or "/"
        tree = self.reader.fragment(path, text)
        if tree.mistakes:
            mistake = tree.mistakes[0]
            return Overriding(path, Settings(), (mistake.place, mistake.message))
        if override is None and not names and tree.directives:
            # Whatever it is, a section that does not hold included (measured).
            first = tree.directives[0]
            why = f"{first.name.lstrip('<')} not allowed here"
            return Overriding(path, Settings(), (first.place, why))
        allowed = override or Override(frozenset())
        judge = _Judge(self.reader.modules, allowed, names or frozenset())
        draft = Draft(folder)
        doubts: list[Directive] = []
        of_server = False
        for directive in _opened(tree.directives, doubts, judge):
            known = known_directives().get(directive.name.lower())
            of_server = of_server or known is None or known.module == "core_module"
            verdict = judge.verdict(directive)
            if verdict == "":
                draft.all((directive,))
            elif verdict is None:
                doubts.append(directive)
            elif verdict != "passed over":
                return Overriding(path, Settings(), (directive.place, verdict), tuple(doubts))
            if draft.refused:
                at, why = draft.refused[0]
                return Overriding(path, Settings(), (at.place, why), tuple(doubts))
        settings = draft.settings()
        fault = access_fault(settings.access, self.reader.modules) if settings.access else None
        if fault is not None:
            return Overriding(path, Settings(), (fault[0].place, fault[1]), tuple(doubts))
        if settings.access is not None:
            # Where the server cannot read a condition either, it fails on the file.
            leaves = [leaf for rule in settings.access.rules for leaf in rule.leaves()]
            doubts += [
                leaf.directive
                for leaf in leaves
                if leaf.kind == "require expr" and read_condition(expression_of(leaf)) is None
            ]
        return Overriding(path, settings, None, tuple(doubts), of_server)


def _opened(
    directives: Sequence[Directive], doubts: list[Directive], judge: _Judge
) -> Iterator[Directive]:
    """The lines that hold, with what stands in conditional sections that are met.

    A conditional section must be permitted itself, met or not; one that may not
    stand here is given as it is, to be judged.
    """
    for directive in directives:
        if directive.name.lower() in CONDITIONAL:
            verdict = judge.verdict(directive)
            if verdict == "passed over" or directive.taken is None:
                doubts.append(directive)
            elif verdict != "":
                yield directive
            elif directive.taken:
                yield from _opened(directive.children or (), doubts, judge)
        else:
            yield directive


class _Judge:
    """Whether an override file may hold a line."""

    def __init__(self, modules: set[str], allowed: Override, names: frozenset[str]) -> None:
        self.modules = modules
        self.allowed = allowed
        self.names = names
        self.others = not modules <= KNOWN

    def verdict(self, directive: Directive) -> str | None:
        """ "" where it may; `passed over`; None where that is not known; else why it may not."""
        name = directive.name.lower()
        known = known_directives().get(name)
        shown = directive.name
        if known is None or (known.module not in self.modules and not is_built_in(known.module)):
            if known is None and (self.others or name.startswith("php_")):
                return None
            if "unknown" in self.allowed.nonfatal:
                return "passed over"
            return (
                f"Invalid command '{shown}', perhaps misspelled or defined by a module "
                "not included in the server configuration"
            )
        classes = self.allowed.classes
        fits = bool(classes) if known.needs == {"any"} else bool(known.needs & classes)
        if not fits and name.lstrip("<") not in self.names and name not in self.names:
            if "override" in self.allowed.nonfatal:
                return "passed over"
            return f"{shown.lstrip('<')} not allowed here"
        wrong = arguments.fault(shown, directive.text, known.takes)
        if wrong:
            return wrong
        value_fault = values.fault(name, directive.text, self.modules)
        if value_fault != "":
            return value_fault
        if name == "options":
            return self._options(directive)
        return self._inside(directive)

    def _options(self, directive: Directive) -> str | None:
        if self.allowed.options is None:
            return ""
        draft = Draft()
        draft.take(directive)
        taken = draft.values.get("options")
        if not isinstance(taken, Options):
            return None
        wanted = taken.bits | taken.added | taken.removed
        if wanted & ~self.allowed.options & ~Opt.NONE:
            return "an option is not allowed here"
        return ""

    def _inside(self, directive: Directive) -> str | None:
        if directive.name.lower() not in _SECTIONS:
            return ""
        for child in _opened(directive.children or (), [], self):
            verdict = self.verdict(child)
            if verdict != "":
                return verdict
        return ""


def asks_for(override: Override | None, names: frozenset[str] | None) -> bool:
    """Whether override files are looked for at all."""
    if override is None:
        # Never set is not none of them: they are looked for, and nothing in them is allowed.
        return True
    return bool(names) or bool(override.classes or override.nonfatal)
