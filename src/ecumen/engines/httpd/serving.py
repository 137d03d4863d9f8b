"""What goes out: a file, an index, a listing, a redirect to the folder, or nothing.

Source: httpd 2.4, mod_dir, mod_autoindex, mod_negotiation, mod_status and the core's own handler;
measured.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from ecumen import codes
from ecumen.codes import Code, ContentType, Facts
from ecumen.engines.httpd import types
from ecumen.engines.httpd.asking import own_address
from ecumen.engines.httpd.methods import KNOWN
from ecumen.engines.httpd.modules import makes_nothing
from ecumen.engines.httpd.negotiation import is_ended
from ecumen.engines.httpd.phases import Looked, Phases
from ecumen.engines.httpd.server import Server, with_value
from ecumen.engines.httpd.settings import Opt, Settings
from ecumen.engines.httpd.spelling import Likeness, spelled_like
from ecumen.engines.httpd.targets import Target
from ecumen.engines.httpd.typeheaders import typed_by
from ecumen.engines.httpd.uri import escaped
from ecumen.engines.httpd.walk import Walked, may_read
from ecumen.engines.httpd.way import REDIRECT
from ecumen.engines.lifetimes import by_header, guessed, spelled_out, stated
from ecumen.engines.sites import (
    VALIDATORS,
    Answer,
    Block,
    Candidate,
    Doubt,
    Handling,
    Lifetime,
    Phase,
    Proof,
    Rank,
    not_shown,
    proof_of,
)
from ecumen.rights import READ, SEARCH, decide
from ecumen.rights.walk import join
from ecumen.survey import Entry, Kind

# A file that stands in for what is missing may be missing itself; the server gives up at some time.
DEEPEST_FALLBACK = 5
MOST_SPELLINGS = 8  # names that are told of those that are much like a missing one
_STATUS = "server-status"
_PROGRAM = "cgi-script"


@dataclass(frozen=True, slots=True)
class _StandIn:
    """What goes out in place of something missing: a file, a redirect, or why not."""

    name: str
    proof: Proof
    sub: Looked | None = None
    answer: Answer | None = None
    blocks: tuple[Block, ...] = ()


class Serving:
    """The last decision of one lap: file, index, listing, redirect to the folder, or nothing.

    goes_on: set by `decide`, where the server begins anew with another address.
    """

    def __init__(self, phases: Phases, handling: Handling, looked: Looked, target: Target) -> None:
        self.phases = phases
        self.server: Server = phases.server
        self.walker = phases.targets.walker
        self.handling = handling
        self.part = handling.serve
        self.looked = looked
        self.asking = looked.asking
        self.method = looked.asking.method
        self.target = target
        self.path = looked.way.path
        self.goes_on: Looked | None = None
        # Of what goes out, which may be an index or what stands in for something.
        self.served: Settings = target.settings

    def decide(self) -> None:
        """What goes out, or stands against it."""
        self._decide()
        answer = self.part.answer
        # Of what is answered to OPTIONS the type is not known before, either.
        known = self.part.code != codes.SERVE_OPTIONS
        if known and answer is not None and answer.status == 200 and self.served.type_headers:
            kind, unknown = typed_by(self.served.type_headers, answer.content_type, own=False)
            self.part.answer = replace(answer, content_type=kind)
            self.part.facts["type"] = ContentType(kind or "")
            if unknown is not None:
                facts = {"directive": unknown.directive.name}
                proof = proof_of(unknown.directive)
                self._doubt(codes.SERVE_TYPE_SET, answer.rank, facts, proof, only_type=True)

    def _decide(self) -> None:
        walked = self.target.walked
        if walked.unseen:
            self.part.code = codes.PASSAGE_NOT_REACHED
            return
        if self.looked.part.answer is not None:
            self.part.code = codes.PASSAGE_NOT_REACHED
            return
        entry = walked.entry
        chosen = self.looked.chosen
        if chosen is not None and chosen.target is not None and self.looked.goes_on is None:
            found = chosen.target.walked.entry
            assert found is not None
            self.part.code = codes.SERVE_VARIANT
            self._serve_sub(chosen, chosen.target, found)
        elif entry is not None and entry.kind is Kind.DIR:
            self._folder(walked, entry)
        elif self.looked.goes_on is not None:
            self._begins_anew(self.looked)
        elif entry is None:
            self._missing(walked)
        elif not _found_special(walked):
            self._file(self.looked, self.target, entry, walked.path)

    def _begins_anew(self, looked: Looked) -> None:
        """With another address, by which something else is served."""
        self.goes_on = looked
        self.part.code = codes.PASSAGE_NOT_REACHED

    def _doubt(
        self, code: Code, rank: Rank, facts: Facts, *proofs: Proof, only_type: bool = False
    ) -> None:
        self.part.doubts.append(Doubt(code, rank, facts, proofs, only_type))

    def _block(self, code: Code, rank: Rank, status: int, facts: Facts, *proofs: Proof) -> None:
        self.handling.take([Block(code, rank, status, facts, proofs)], [])

    # --- nothing there ---

    def _missing(self, walked: Walked) -> None:
        rank = Rank(Phase.CONTENT)
        if is_ended(walked):
            self.part.code = codes.PASSAGE_NOT_REACHED
            return
        typed = self._typed(self.looked, self.target, walked.path)
        # Where a maker of content is set, also by the missing name's ending, nothing stands in.
        spelled = self.target.settings.spelling
        if spelled and self._spells_first and self._respelled(walked):
            return
        if not self._has_handler(self.looked, self.target, typed):
            stand_in = self._fallback(self.looked)
            if stand_in is not None:
                self._stand_in(stand_in)
                return
        if spelled and not self._spells_first and self._respelled(walked):
            return
        self.part.facts["path"] = walked.path
        if self._made(self.looked, self.target, typed, walked.path, walked.entry):
            return
        if self._other_method(walked.path):
            return
        self._block(codes.SERVE_MISSING, rank, 404, {"path": walked.path})

    @property
    def _spells_first(self) -> bool:
        """Whether names are corrected before something stands in for them: both ask to be the last,
        and then the order in which the modules were loaded counts (measured).
        """
        modules = self.server.reader.load_order
        order = [each for each in modules if each in ("dir_module", "speling_module")]
        return order[:1] == ["speling_module"]

    def _respelled(self, walked: Walked) -> bool:
        """Whether a name much like a missing one takes its place.

        Source: mod_speling.c, check_speling; measured.
        """
        if self.method not in ("GET", "HEAD") or self.looked.goes_on is not None:
            return False
        settings, rank = self.target.settings, Rank(Phase.FOLDER, 1)
        folder, _, name = walked.path.rpartition("/")
        behind = f"{name}{walked.rest}"
        if not self.path.endswith(behind):
            # The address is not that of the file, as behind a rule or an alias by pattern.
            return False
        around = self.walker.walk(folder or "/").entry
        if around is None or around.kind is not Kind.DIR:
            return False
        if not decide(around, self.walker.subject, READ).allowed:
            return False
        # Which names lie beside it is what the answer hangs on.
        if not around.listed or self.asking.status != 200:
            self._doubt(codes.SERVE_SPELLING_UNSEEN, rank, {"name": name})
            return True
        found = spelled_like(
            name,
            # A folder lists itself and the one above, and names of a letter are like these.
            (".", "..", *self.walker.files.children(around.path)),
            by_case=bool(settings.spelling_by_case),
            by_stem=settings.spelling_by_stem is not False,
        )
        if not found:
            return False
        (likest, chosen), *others = found
        # The server only sends on where one name stands out; names of one stem it always offers for
        # choosing.
        if likest is Likeness.STEM or any(likeness == likest for likeness, _ in others):
            names = ", ".join(each for _, each in found[:MOST_SPELLINGS])
            facts = {"name": name, "count": len(found), "names": names}
            self._block(codes.SERVE_SPELLINGS, rank, 300, facts)
            return True
        self._send_to(f"{self.path.removesuffix(behind)}{chosen}{walked.rest}", rank)
        self.part.code = codes.SERVE_RESPELLED
        self.part.facts["name"] = name
        return True

    def _fallback(self, looked: Looked, deep: int = 0) -> _StandIn | None:
        """What stands in for what is missing, if anything is to."""
        target = looked.target
        choice = target.settings.fallback if target is not None else None
        if choice is None or choice.value.lower() == "disabled" or looked.goes_on is not None:
            return None
        proof = Proof(place=choice.place, text=choice.text)
        folder = looked.way.path.rpartition("/")[0]
        sub = self._aside(folder, choice.value, looked)
        entry = sub.target.walked.entry if sub.target is not None else None
        blocks = self._blocks_of(sub)
        first = min(blocks, key=lambda block: block.rank, default=None)
        if _is_nowhere(sub) or (first is not None and first.status == 404):
            return None
        if sub.way.upstream is not None:
            return _StandIn(choice.value, proof, sub)
        if sub.part.answer is not None and not blocks:
            return _StandIn(choice.value, proof, answer=sub.part.answer)
        if self._is_file(sub, entry):
            return _StandIn(choice.value, proof, sub, blocks=tuple(blocks))
        if sub.part.answer is not None:
            return _StandIn(choice.value, proof, answer=sub.part.answer)
        if blocks:
            return _StandIn(choice.value, proof, blocks=tuple(blocks))
        if entry is not None and entry.kind is Kind.DIR:
            try:
                return self._folder_stands_in(sub, choice.value, proof)
            except _NotPlainError:
                pass
        if entry is not None:
            self._doubt(codes.SERVE_FALLBACK, Rank(Phase.FOLDER), {"name": choice.value}, proof)
            return None
        if sub.target is not None:
            typed = self._typed(sub, sub.target, sub.target.walked.path)
            if self._has_handler(sub, sub.target, typed):
                return None
        if deep < DEEPEST_FALLBACK:
            # What stands in may be missing itself, and have something that stands in for it.
            return self._fallback(sub, deep + 1)
        facts = {"path": sub.target.walked.path if sub.target else choice.value}
        rank = Rank(Phase.FOLDER)
        block = Block(codes.SERVE_FALLBACK_MISSING, rank, 500, facts, (proof,))
        return _StandIn(choice.value, proof, blocks=(block,))

    def _folder_stands_in(self, sub: Looked, name: str, proof: Proof) -> _StandIn | None:
        """A folder stands in by its index, or by its address with a slash; without an index it is
        nothing that could. Raises _NotPlainError.
        """
        assert sub.target is not None
        if not sub.way.path.endswith("/"):
            if sub.target.settings.slash is False:
                return None
            answer = self._sent_to(f"{sub.way.path}/", Rank(Phase.FOLDER), sub)
            return _StandIn(name, proof, answer=answer)
        index = self._plain_index(sub)
        return None if index is None else _StandIn(name, proof, index)

    def _plain_index(self, folder: Looked) -> Looked | None:
        """The index of a folder that the server looks up for itself; None where it has none. Raises
        _NotPlainError where more than files that are there or not bears on it.
        """
        assert folder.target is not None
        settings = folder.target.settings
        if folder.goes_on is not None or settings.index_sent or settings.maker_first:
            raise _NotPlainError
        for name in settings.index_names:
            sub = self._aside(folder.way.path.rpartition("/")[0], name, folder)
            blocks, target = self._blocks_of(sub), sub.target
            rules = sub.goes_on is not None or sub.part.answer is not None
            elsewhere = sub.way.upstream is not None or name.partition("?")[0].endswith("/")
            if rules or elsewhere or target is None:
                raise _NotPlainError
            entry = target.walked.entry
            if self._is_file(sub, entry) and not blocks:
                return sub
            missing = all(block.status == 404 for block in blocks)
            fallback = target.settings.fallback
            stands_in = fallback is not None and fallback.value.lower() != "disabled"
            if entry is not None or stands_in or not missing:
                raise _NotPlainError
        return None

    def _stand_in(self, stand_in: _StandIn) -> None:
        sub = stand_in.sub
        self.part.proofs.append(stand_in.proof)
        self.handling.take(stand_in.blocks, [])
        if sub is None:
            self.part.code = codes.PASSAGE_NOT_REACHED
        elif sub.way.upstream is not None:
            self._upstream(sub.way.upstream)
        if stand_in.answer is not None:
            self.part.answer = _moved(stand_in.answer)
        if sub is not None and sub.target is not None and sub.target.walked.entry is not None:
            self.part.code = codes.SERVE_FALLBACK_FILE
            self.part.facts["fallback"] = stand_in.name
            self._serve_sub(sub, sub.target, sub.target.walked.entry)

    def _upstream(self, url: str) -> None:
        """An index, or what stands in for something, is handed on."""
        self.handling.upstream = url
        self.part.code = codes.PASSAGE_NOT_REACHED
        rank, facts = Rank(Phase.FOLDER, 1), {"upstream": url}
        fault = self.phases.ways.upstream_fault(url)
        if fault is not None:
            self._block(fault[0], rank, fault[1], facts)
        else:
            doubt = Doubt(codes.WAY_UPSTREAM_ANSWERS, rank, facts)
            self.handling.take([], [doubt])

    # --- a file ---

    def _file(self, looked: Looked, target: Target, entry: Entry, path: str) -> None:
        walked = target.walked
        self.served = target.settings
        rank = Rank(Phase.CONTENT)
        typed = self._typed(looked, target, path)
        self.part.facts |= {"path": path, "type": ContentType(typed.type or "")}
        self.part.proofs.append(Proof(entry=entry, path=path))
        if typed.ending is not None and typed.ending.place is not None:
            text = f"{typed.by}: {typed.type}"
            self.part.proofs.append(Proof(place=typed.ending.place, text=text))
        elif typed.by:
            self.part.facts["types_file"] = self.server.types_file
        if self._made(looked, target, typed, path, entry):
            return
        if self._other_method(path):
            return
        # Files take no path behind them, unless told to ("AcceptPathInfo").
        if walked.rest and target.settings.path_info != "on":
            facts = {"path": path, "rest": walked.rest}
            self._block(codes.SERVE_TRAILING_PATH, rank, 404, facts, Proof(entry=entry, path=path))
            return
        rung = may_read(self.walker, entry)
        self.handling.ladder.picture.append(rung)
        special = {"path": path, "kind": entry.kind.value}
        if entry.kind is Kind.SOCKET:
            # It cannot be opened; a device can, and goes out as an empty file.
            self._block(codes.SERVE_NO_FILE, rank, 403, special, Proof(entry=entry))
        elif entry.kind is Kind.PIPE:
            self._doubt(codes.SERVE_PIPE, rank, special, Proof(entry=entry))
        if not rung.allowed:
            facts = {"path": path}
            self._block(codes.LADDER_UNREADABLE, rank, 403, facts, Proof(entry=entry, path=path))
        self.handling.file = path
        self.part.answer = Answer(200, rank, content_type=typed.type)
        self.handling.lifetime = self._lifetime(target.settings, typed.type or "", entry)

    def _lifetime(self, settings: Settings, kind: str, entry: Entry) -> Lifetime:
        """How long browsers may go on showing this very file, once they have it."""
        lifetime = self._kept(settings, kind, entry)
        if settings.taken_off is None and settings.etag != "none":
            return lifetime
        gone = (settings.taken_off or frozenset()) | (
            {"etag"} if settings.etag == "none" else set()
        )
        kept = tuple(name for name in VALIDATORS if name.lower() not in gone)
        return replace(lifetime, validators=kept)

    def _kept(self, settings: Settings, kind: str, entry: Entry) -> Lifetime:
        said = settings.cache_control
        if said is not None:
            known = by_header(said.value, Proof(place=said.place, text=said.text))
            if known is not None:
                return known
        taken_at = self.phases.ways.survey.taken_at
        plain = kind.partition(";")[0].strip().lower()
        choice = settings.expires_types.get(plain) or settings.expires_default
        if settings.expires and choice is not None:
            seconds = spelled_out(choice.value, entry, taken_at)
            if seconds is not None:
                return stated(seconds, Proof(place=choice.place, text=choice.text))
        return guessed(entry, taken_at)

    def _typed(self, looked: Looked, target: Target, path: str) -> types.Typed:
        if target.settings.typed_by_rest:
            path += target.walked.rest
        name = path.rpartition("/")[2]
        return types.type_of(name, target.settings, self.server.types, looked.type)

    def _has_handler(self, looked: Looked, target: Target, typed: types.Typed) -> bool:
        return (
            looked.handler is not None
            or looked.scripts is not None
            or typed.handler is not None
            or with_value(target.settings.handler) is not None
        )

    def _made(
        self,
        looked: Looked,
        target: Target,
        typed: types.Typed,
        path: str,
        entry: Entry | None,
    ) -> bool:
        """Whether something else than the file itself is known to go out."""
        rank = Rank(Phase.CONTENT)
        choice = target.settings.handler
        handler = with_value(choice)
        if looked.handler is None and self._program(looked, target, typed, path, entry):
            return True
        self._acts(target, handler, typed)
        if handler is not None and choice is not None:
            if self._status_page(handler, choice.place is not None):
                return True
            if self._handed_on(handler, Proof(place=choice.place, text=choice.text)):
                return True
            if handler.lower() != "default-handler" and not self._nobody(handler):
                proof = Proof(place=choice.place, text=choice.text)
                self._doubt(codes.SERVE_HANDLER, rank, {"handler": handler}, proof)
        elif typed.handler is not None and not self._nobody(typed.handler):
            proof = Proof(place=typed.handler_place, text=f"{path}: {typed.handler}")
            if self._handed_on(typed.handler, proof):
                return True
            self._doubt(codes.SERVE_HANDLER, rank, {"handler": typed.handler}, proof)
        if looked.handler is not None:
            self._doubt(codes.SERVE_HANDLER, rank, {"handler": "a program"}, looked.handler)
        elif looked.scripts is not None and entry is not None and not self._nobody(_PROGRAM):
            self._doubt(codes.SERVE_HANDLER, rank, {"handler": "a program"}, looked.scripts)
        return False

    def _acts(self, target: Target, handler: str | None, typed: types.Typed) -> None:
        """What a program makes of a type, of a maker of content, or of a method is its own."""
        rank, actions = Rank(Phase.CONTENT), target.settings.actions
        asks = self.method != "GET" or bool(self.looked.way.query)
        for name in (handler, typed.handler, (typed.type or "").partition(";")[0], self.method):
            directive = actions.get(name) if name else None
            if directive is not None and (name != self.method or asks):
                proof = proof_of(directive)
                self._doubt(codes.SERVE_HANDLER, rank, {"handler": "a program"}, proof)

    def _handed_on(self, handler: str, proof: Proof) -> bool:
        """Whether a maker of content is an upstream: asked by any method, and for what is missing,
        too.
        """
        if not handler.startswith("proxy:") or "proxy_module" not in self.server.reader.modules:
            return False
        rank, url = Rank(Phase.CONTENT), handler.removeprefix("proxy:")
        self.handling.upstream, facts = url, {"upstream": url}
        fault = self.phases.ways.upstream_fault(url)
        # Where nothing speaks to it the file goes out after all, by other methods than usual.
        if fault is not None and fault[0] is not codes.WAY_UPSTREAM_UNSPOKEN:
            self._block(fault[0], rank, fault[1], facts, proof)
        else:
            doubt = Doubt(codes.WAY_UPSTREAM_ANSWERS, rank, facts, (proof,))
            self.handling.take([], [doubt])
        return True

    def _program(
        self,
        looked: Looked,
        target: Target,
        typed: types.Typed,
        path: str,
        entry: Entry | None,
    ) -> bool:
        """Whether it is told before a program begins what comes of asking for one, by any method.

        Source: mod_cgid.c, cgid_handler, and mod_cgi.c alike; measured.
        """
        choice = target.settings.handler
        set_by = with_value(choice) or typed.handler or (_PROGRAM if looked.scripts else None)
        if set_by != _PROGRAM or self._nobody(_PROGRAM):
            return False
        rank, facts = Rank(Phase.CONTENT), {"path": path}
        options = target.settings.options
        if looked.scripts is None and not target.settings.bits & Opt.EXEC:
            line = Proof(place=options.place, text=options.text) if options else Proof()
            proofs = (line,) if line.place else ()
            self._block(codes.SERVE_NO_PROGRAMS, rank, 403, facts, *proofs)
        elif entry is None:
            self._block(codes.SERVE_MISSING, rank, 404, facts)
        elif entry.kind is Kind.DIR:
            self._block(codes.SERVE_PROGRAM_FOLDER, rank, 403, facts, Proof(entry=entry))
        elif target.walked.rest and target.settings.path_info == "off":
            facts = {"path": path, "rest": target.walked.rest}
            self._block(codes.SERVE_TRAILING_PATH, rank, 404, facts, Proof(entry=entry, path=path))
        elif (
            # Another account may run it where there is a way to change to one.
            "suexec_module" not in self.server.reader.modules
            and not decide(entry, self.walker.subject, SEARCH).allowed
        ):
            self._block(codes.LADDER_NOT_RUN, rank, 500, facts, Proof(entry=entry, path=path))
        else:
            return False
        return True

    def _nobody(self, handler: str) -> bool:
        """Whether a handler leaves what lies there to the server itself."""
        status = handler == _STATUS and "status_module" in self.server.reader.modules
        if status and self.method not in ("GET", "HEAD"):
            return True
        return makes_nothing(handler, self.server.reader.modules)

    def _status_page(self, handler: str, known: bool) -> bool:
        if handler != _STATUS or "status_module" not in self.server.reader.modules:
            return False
        if self.method not in ("GET", "HEAD"):
            return False
        kind = "text/plain" if "auto" in (self.looked.way.query or "") else "text/html"
        self.part.code = codes.SERVE_STATUS_PAGE
        self.part.answer = Answer(200, Rank(Phase.CONTENT), f"{kind}; charset=ISO-8859-1")
        return True

    def _other_method(self, path: str) -> bool:
        """What comes of a method that asks for no content."""
        method, rank = self.method, Rank(Phase.CONTENT)
        facts = {"method": method, "path": path}
        if method in ("GET", "HEAD", "POST"):
            return False
        if self.target.settings.shared:
            # Files are written to, and folders made, by these.
            self._doubt(codes.SERVE_HANDLER, rank, {"handler": "what shares the files"})
        if method == "OPTIONS":
            # Answered whatever is there, or missing; the content type hangs on the build.
            self.part.code = codes.SERVE_OPTIONS
            self._doubt(codes.SERVE_OPTIONS, rank, facts, only_type=True)
            self.part.answer = Answer(200, rank)
        elif method in KNOWN:
            # The core knows the method and no maker of content took it.
            self._block(codes.SERVE_METHOD, rank, 405, facts)
        else:
            self._block(codes.SERVE_METHOD_UNKNOWN, rank, 501, facts)
        return True

    # --- a folder ---

    def _folder(self, walked: Walked, folder: Entry) -> None:
        settings = self.target.settings
        if not self.path.endswith("/"):
            # "DirectorySlash": before rules of rewriting begin anew, and before any index.
            if settings.slash is not False:
                self._redirect(self.looked, f"{self.path}/", Rank(Phase.FOLDER))
                return
            if self.looked.goes_on is not None:
                self._begins_anew(self.looked)
                return
            self._listing(walked, folder)
            return
        if self.looked.goes_on is not None:
            self._begins_anew(self.looked)
            return
        names = settings.index_names
        maker = with_value(settings.handler) is not None or self.looked.scripts is not None
        made = settings.maker_first and maker
        if names and not made and self._index(walked, folder, names):
            return
        self._listing(walked, folder)

    def _index(self, walked: Walked, folder: Entry, names: Sequence[str]) -> bool:
        """Tries the index names in order; False where a listing is the next to be tried."""
        place = self.target.settings.index_place
        if place is not None:
            self.part.facts["index_line"] = place
        refused: Looked | None = None
        refused_blocks: list[Block] = []
        closed: list[Block] = []
        for number, name in enumerate(names):
            if name.partition("?")[0].endswith("/"):
                if self._index_of_folder(name):
                    return True
                continue
            sub = self._aside(self.path.rpartition("/")[0], name, self.looked)
            entry = sub.target.walked.entry if sub.target is not None else None
            blocks = self._blocks_of(sub)
            first = min(blocks, key=lambda block: block.rank, default=None)
            if _is_nowhere(sub):
                blocks = []
            elif first is not None and first.status == 404:
                # As if it were not there; nothing stands in for it, either.
                self.part.picture.append(Candidate(name, _path_of(sub, name), "missing", None))
                continue
            elif sub.way.upstream is not None and not blocks:
                self.part.picture.append(Candidate(name, name, "served", None))
                self._upstream(sub.way.upstream)
                return True
            path = _path_of(sub, name)
            if sub.part.answer is not None and not blocks:
                self.part.answer = _moved(sub.part.answer)
                self.part.code = codes.SERVE_INDEX_SENT
                self.part.facts["index"] = name
                return True
            if entry is not None and entry.kind is Kind.DIR and not blocks:
                self.part.picture.append(Candidate(name, path, "folder", entry))
                assert sub.target is not None
                if sub.target.settings.slash is False:
                    continue
                self._redirect(sub, f"{sub.way.path}/", Rank(Phase.FOLDER, 1))
                return True
            if self._is_file(sub, entry) and not blocks:
                assert sub.target is not None
                assert entry is not None
                self.part.picture.append(Candidate(name, path, "served", entry))
                self._not_tried(names[number + 1 :], walked.path)
                if self.target.settings.index_sent:
                    self._index_elsewhere(sub, self.target.settings.index_sent)
                    return True
                self._serve_sub(sub, sub.target, entry)
                return True
            stand_in = self._stands_in(sub) if entry is None and not blocks else None
            if stand_in is not None and not stand_in.blocks:
                sent = self.target.settings.index_sent
                if sent and stand_in.sub is not None:
                    self._index_elsewhere(stand_in.sub, sent)
                    return True
                self._stand_in(stand_in)
                return True
            if stand_in is not None:
                blocks = list(stand_in.blocks)
            if entry is None and all(b.code == codes.LADDER_SHUT for b in blocks):
                # Once the folder is open, nothing is there.
                closed = closed or blocks
            elif blocks:
                refused, refused_blocks = sub, blocks
            outcome = "blocked" if blocks else "missing"
            self.part.picture.append(Candidate(name, path, outcome, entry))
        if refused is None:
            self.handling.take(closed, [])
            return False
        self.handling.take(refused_blocks, [])
        self._after_refusal(refused)
        return True

    def _index_of_folder(self, name: str) -> bool:
        """A name with a slash is looked up as a folder, whose own index goes out."""
        place = self.target.settings.index_place
        sub = self._aside(self.path.rpartition("/")[0], name, self.looked)
        entry = sub.target.walked.entry if sub.target is not None else None
        plain = sub.part.answer is None and sub.way.upstream is None and not self._blocks_of(sub)
        try:
            if not plain or entry is None or entry.kind is not Kind.DIR:
                raise _NotPlainError
            if self.target.settings.index_sent:
                raise _NotPlainError
            index = self._plain_index(sub)
        except _NotPlainError:
            proof = Proof(place=place, text=name)
            self._doubt(codes.SERVE_INDEX_ELSEWHERE, Rank(Phase.FOLDER), {"name": name}, proof)
            return False
        if index is None:
            self.part.picture.append(Candidate(name, _path_of(sub, name), "folder", entry))
            return False
        assert index.target is not None
        found = index.target.walked.entry
        assert found is not None
        self.part.picture.append(Candidate(name, index.target.walked.path, "served", found))
        self._serve_sub(index, index.target, found)
        return True

    def _index_elsewhere(self, sub: Looked, status: int) -> None:
        """The visitor is sent to the index by its own address, without the query (measured)."""
        rank = Rank(Phase.FOLDER, 1)
        where = own_address(self.looked.asking, self.target.settings)
        path = sub.way.path
        # The address is put together as it was looked up; what becomes of odd letters is not known.
        location = None if where is None or escaped(path) != path else f"{where}{path}"
        if location is None:
            self._doubt(codes.SERVE_OWN_NAME, rank, {}, only_type=True)
        self.part.code = codes.SERVE_INDEX_SENT
        self.part.facts["index"] = path.rpartition("/")[2]
        self.part.answer = Answer(status, rank, REDIRECT, location)

    def _stands_in(self, sub: Looked) -> _StandIn | None:
        """What stands in for what is missing, for an index too."""
        target = sub.target
        if target is None or is_ended(target.walked):
            return None
        typed = self._typed(sub, target, target.walked.path)
        return None if self._has_handler(sub, target, typed) else self._fallback(sub, 1)

    def _after_refusal(self, refused: Looked) -> None:
        """What would come of the index that may not be served, were that mended."""
        target = refused.target
        if target is None:
            self.part.code = codes.PASSAGE_NOT_REACHED
            return
        self.part.facts["path"] = target.walked.path
        self.part.code = codes.SERVE_INDEX_REFUSED
        entry = target.walked.entry
        if entry is not None and entry.kind is Kind.FILE:
            self._serve_sub(refused, target, entry)

    def _is_file(self, sub: Looked, entry: Entry | None) -> bool:
        """Whether the server takes this for an index: a plain file without a path behind it."""
        return entry is not None and entry.kind is Kind.FILE

    def _not_tried(self, names: Sequence[str], folder: str) -> None:
        for name in names:
            path = join(folder, name)
            entry = self.walker.files.get(path)
            outcome = "outranked" if entry is not None else "not-tried"
            self.part.picture.append(Candidate(name, path, outcome, entry))

    # --- questions that the server asks itself ---

    def _aside(self, folder: str, name: str, by: Looked) -> Looked:
        """Looks something up as the server does for itself: it is mapped anew.

        folder: without its last slash, decoded. name: as it is written, which is as it would stand
        in an address: with escapes, and a query (ap_sub_req_lookup_uri; measured).
        """
        whole = name if by.way.query is None else f"{name}?{by.way.query}"
        path, mark, query = whole.partition("#")[0].partition("?")
        if not path.startswith("/"):
            path = f"{escaped(folder)}/{path}"
        judged = by.target.judged if by.target is not None else None
        around = by.target.walked if by.target is not None else None
        asking = by.asking.aside(by.asking.read(path), query if mark else None, judged, around)
        sub = self.phases.look(asking)
        for doubt in sub.part.doubts:
            if doubt not in self.handling.part(doubt.code).doubts:
                self.handling.take([], [doubt])
        if sub.target is None:
            return sub
        sub = sub.chosen or sub
        assert sub.target is not None
        before = {d.same for d in self.target.doubts}
        for doubt in sub.target.doubts:
            if doubt.same not in before:
                moved = Doubt(doubt.code, Rank(Phase.FOLDER), doubt.facts, doubt.proofs)
                self.handling.take([], [moved])
        return sub

    def _blocks_of(self, sub: Looked) -> list[Block]:
        """What stops this question, without what stopped the one that it is asked for."""
        blocks = list(sub.part.blocks)
        if sub.target is not None:
            blocks += sub.target.blocks
        known = {(b.code, b.path) for b in self.target.blocks}
        known |= {(b.code, b.path) for b in self.handling.ladder.blocks}
        ruled = [b.proofs for b in self.target.blocks if b.rank.within == Phase.ACCESS]
        # What is met first in this question is met first by the one that it is asked for.
        order = sorted({block.rank for block in blocks})
        # A rule that closes the folder closes its index: mended together, listed once.
        return [
            Block(b.code, Rank(Phase.FOLDER, 1 + order.index(b.rank)), b.status, b.facts, b.proofs)
            for b in blocks
            if (b.rank.within == Phase.ACCESS and b.proofs not in ruled)
            or (b.rank.within != Phase.ACCESS and (b.code, b.path) not in known)
        ]

    def _serve_sub(self, sub: Looked, target: Target, entry: Entry) -> None:
        if sub.goes_on is not None:
            self._begins_anew(sub)
            return
        if self.part.code == codes.SERVE_FILE:
            self.part.code = codes.SERVE_INDEX
        path = target.walked.path
        self.part.facts["index"] = path.rpartition("/")[2]
        picture = self.handling.ladder.picture
        picture += not_shown(target.walked.rungs, picture)
        self._file(sub, target, entry, path)

    def _listing(self, walked: Walked, folder: Entry) -> None:
        settings = self.target.settings
        options = settings.options
        rank = Rank(Phase.CONTENT)
        facts = {"path": walked.path}
        handler = with_value(settings.handler) or (_PROGRAM if self.looked.scripts else None)
        if handler is not None and handler.lower() != "default-handler":
            typed = types.Typed(None, None, "")
            if self._made(self.looked, self.target, typed, walked.path, folder):
                return
        if self._other_method(walked.path):
            return
        # Listings are made for GET alone; without one a folder is nothing to the core (measured).
        plainly = handler is not None and (
            handler.lower() == "default-handler" or self._nobody(handler)
        )
        if self.method == "POST" or plainly:
            self._block(codes.SERVE_POST_ON_FOLDER, rank, 404, facts)
            return
        line = Proof(place=options.place if options else None, text=options.text if options else "")
        proofs = (line,) if line.place else ()
        self.part.facts |= facts
        if not settings.bits & Opt.INDEXES:
            self._block(codes.SERVE_NO_INDEX, rank, 403, facts, *proofs)
            return
        if not decide(folder, self.walker.subject, READ).allowed:
            self._block(codes.LADDER_UNLISTABLE, rank, 403, facts, Proof(entry=folder))
        self.part.code = codes.SERVE_LISTING
        self.part.proofs += proofs
        self.part.answer = Answer(200, rank, content_type=settings.listing_kind)

    def _redirect(self, looked: Looked, path: str, rank: Rank) -> None:
        """The visitor is sent to a folder's address with its slash."""
        index = looked is not self.looked
        self.part.code = codes.SERVE_INDEX_FOLDER if index else codes.SERVE_FOLDER_REDIRECT
        self._send_to(path, rank, looked)
        self.part.facts["path"] = self.target.walked.path

    def _send_to(self, path: str, rank: Rank, by: Looked | None = None) -> None:
        """The visitor is sent to another path of the site, with the query that was asked."""
        self.part.answer = self._sent_to(path, rank, by or self.looked)

    def _sent_to(self, path: str, rank: Rank, looked: Looked) -> Answer:
        assert looked.target is not None
        where = own_address(looked.asking, looked.target.settings)
        query = "" if looked.way.query is None else f"?{looked.way.query}"
        location = None if where is None else f"{where}{escaped(path)}{query}"
        if location is None:
            self._doubt(codes.SERVE_OWN_NAME, rank, {}, only_type=True)
        self.part.facts["location"] = location or path
        return Answer(301, rank, REDIRECT, location)


class _NotPlainError(Exception):
    """What a folder comes to hangs on more than is worked out here."""


def _path_of(sub: Looked, name: str) -> str:
    """Where a question of the server's own leads."""
    return sub.target.walked.path if sub.target is not None else name


def _is_nowhere(sub: Looked) -> bool:
    """Whether an address leads nowhere by itself, as with an escaped slash."""
    return sub.target is None and any(block.status == 404 for block in sub.part.blocks)


def _found_special(walked: Walked) -> bool:
    """Whether the walk ended at what is neither a file nor a folder."""
    codes_met = [block.code for block in walked.blocks] + [doubt.code for doubt in walked.doubts]
    return codes.SERVE_NO_FILE in codes_met or codes.SERVE_PIPE in codes_met


def _moved(answer: Answer) -> Answer:
    return Answer(answer.status, Rank(Phase.FOLDER, 1), answer.content_type, answer.location)
