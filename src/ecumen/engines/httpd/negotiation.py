"""A file with further endings in place of one that is not there: what MultiViews chooses.

Source: httpd 2.4, "Content Negotiation"; mod_negotiation.c (read_types_multi, handle_multi), which
works before rules and redirects of the folder do (the order of hooks); measured.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from ecumen import codes
from ecumen.engines.httpd import types
from ecumen.engines.httpd.asking import Asking
from ecumen.engines.httpd.server import Server
from ecumen.engines.httpd.settings import Opt
from ecumen.engines.httpd.targets import Target
from ecumen.engines.httpd.uri import escaped
from ecumen.engines.httpd.walk import Walked
from ecumen.engines.sites import Block, Doubt, Phase, Proof, Rank
from ecumen.rights import READ, Walker, decide
from ecumen.rights.walk import join
from ecumen.survey import Entry, Kind

if TYPE_CHECKING:
    from ecumen.engines.httpd.phases import Looked

# Files that are looked at for one name: an owner may lay as many as he likes.
MOST_VARIANTS = 100
MOST_TOLD = 8  # of their names
RANK = Rank(Phase.ACCESS, 5)  # once who may has been asked, and before the folder's rules
# Behind these there is nothing to be found or missed.
_ENDED = frozenset(
    (
        codes.LADDER_LINK_REFUSED,
        codes.LADDER_LINK_OWNER,
        codes.LADDER_LINK_PROTECTED,
        codes.LADDER_LINK_LOOP,
        codes.LADDER_LINK_NOWHERE,
        codes.LADDER_NAME_TOO_LONG,
    )
)


def is_ended(walked: Walked) -> bool:
    """Whether the walk ended before it could be told that nothing is there."""
    return any(block.code in _ENDED for block in walked.blocks)


class Negotiation:
    """What is chosen on one server. look: asks the server's own question for a file."""

    def __init__(self, server: Server, walker: Walker, look: Callable[[Asking], Looked]) -> None:
        self.server = server
        self.walker = walker
        self._look = look
        # The option alone does nothing where the module is not there.
        self._chooses = "negotiation_module" in server.reader.modules

    def choose(self, looked: Looked, target: Target) -> Looked | None:
        """The question for the file that is chosen; None where the name stays what it is. What
        stands against it, and what is not known of it, is added to the target.
        """
        options = target.settings.options
        walked = target.walked
        if options is None or not options.bits & Opt.MULTI or walked.entry is not None:
            return None
        if not self._chooses or walked.unseen or is_ended(walked):
            return None
        folder = self.walker.walk(walked.path.rpartition("/")[0] or "/").entry
        if folder is None or folder.kind is not Kind.DIR:
            return None
        if not decide(folder, self.walker.subject, READ).allowed:
            facts = {"path": folder.path}
            proofs = (Proof(entry=folder),)
            target.blocks.append(Block(codes.LADDER_UNLISTABLE, RANK, 403, facts, proofs))
        leaf = walked.path.rpartition("/")[2]
        names = self._names(folder, leaf)
        if not names and folder.listed:
            return None
        by = target.settings.variants_by
        usual = (by is None or by.value == "negotiatedonly") and len(names) <= MOST_VARIANTS
        variants = self._variants(looked, target, names) if folder.listed and usual else None
        best = _best(variants) if variants else None
        if variants is None or (variants and best is None):
            line = Proof(place=options.place, text=options.text)
            doubt = Doubt(codes.SERVE_VARIANTS, RANK, {"name": leaf}, (line,))
            target.doubts.append(doubt)
            return None
        if best is not None:
            return best
        # "This request must die": nothing else is tried for it then.
        facts = {"path": walked.path, "names": ", ".join(names[:MOST_TOLD])}
        target.blocks.append(Block(codes.SERVE_NO_VARIANT, RANK, 404, facts))
        return None

    def _names(self, folder: Entry, leaf: str) -> list[str]:
        """Names with further endings; those of folders are passed over, of links they are not."""
        files = self.walker.files
        found = [name for name in files.children(folder.path) if name.startswith(f"{leaf}.")]
        entries = [(name, files.get(join(folder.path, name))) for name in found]
        return [name for name, entry in entries if entry is None or entry.kind is not Kind.DIR]

    def _variants(
        self, looked: Looked, target: Target, names: Sequence[str]
    ) -> list[tuple[Looked, types.Typed]] | None:
        """The files among which the server chooses; None where that is not worked out."""
        headers = looked.asking.arrival.headers
        if any(key.startswith("accept") for key in headers):
            return None
        found = []
        for name in names:
            sub = self._asked(looked, target, name)
            if sub is None:
                return None
            assert sub.target is not None
            entry = sub.target.walked.entry
            if entry is None or entry.kind is not Kind.FILE:
                continue
            typed = types.type_of(name, sub.target.settings, self.server.types, sub.type)
            if sub.handler is not None or typed.handler is not None or typed.encoded:
                return None
            if typed.type is None or typed.odd:
                continue
            if sub.part.blocks or sub.target.blocks or sub.part.answer is not None:
                continue
            found.append((sub, typed))
        return found

    def _asked(self, looked: Looked, target: Target, name: str) -> Looked | None:
        """The question for one file; None where it is not known what comes of it."""
        walked, asking = target.walked, looked.asking
        asked = looked.way.path.removesuffix(walked.rest) if walked.rest else looked.way.path
        path = f"{asked.rpartition('/')[0]}/{name}{walked.rest}"
        file = join(walked.path.rpartition("/")[0] or "/", name)
        aside = asking.aside(asking.read(escaped(path)), looked.way.query, target.judged, walked)
        sub = self._look(replace(aside, file=(file, walked.rest)))
        if sub.target is None or sub.part.doubts or sub.target.doubts:
            return None
        # What a rule leads elsewhere is chosen all the same, and met by the rules once more.
        return None if sub.goes_on is not None or sub.way.upstream is not None else sub


def _best(variants: Sequence[tuple[Looked, types.Typed]]) -> Looked | None:
    """The one that goes out to whoever says nothing of what is accepted; None where it is not known
    which. Among equals the shortest does, and of equal length the first that the folder lists
    (is_variant_better), which is nowhere said.
    """
    if len(variants) == 1:
        return variants[0][0]
    if any(typed.spoken or "charset" in (typed.type or "") for _, typed in variants):
        return None
    sized = []
    for sub, _ in variants:
        assert sub.target is not None
        assert sub.target.walked.entry is not None
        sized.append((sub.target.walked.entry.size, sub))
    sized.sort(key=lambda pair: pair[0])
    return None if sized[0][0] == sized[1][0] else sized[0][1]
