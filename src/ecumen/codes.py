"""Every code that an answer can carry, declared once.

A code says which gate it belongs to, what it does to the request, in which words it is told (with
the facts filled in at the edge), which right it lacks, and which findings it makes. Nothing steers
by a code's text. A code that is used and not declared is no name of this module; one that is
declared and never used fails a test.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from enum import StrEnum
from functools import partial
from string import Formatter

from ecumen.rights.decide import READ, SEARCH

# What a code's words are filled with: texts, numbers, and whatever says itself as a text.
Facts = Mapping[str, object]


class ContentType(str):
    """The content type of what goes out, as a fact; "" where it goes out without one."""

    def __format__(self, spec: str) -> str:
        """`as`: the words behind "goes out"."""
        if spec == "as":
            return f"as {self}" if self else "without a content type"
        return super().__format__(spec)


class Verdict(StrEnum):
    """What a gate says."""

    CLEAR = "clear"
    BLOCKED = "blocked"
    DIVERTED = "diverted"
    UNSURE = "unsure"
    SKIPPED = "skipped"


class Code(str):
    """One code: its text, `gate.what`, and what is declared of it.

    gate: "" for what may stand at any. reason, mend: sentences with the names of facts in braces;
    mend is "" for all but what blocks. needs: the right that the worker lacks on the entry in the
    way, 0 for none. findings: ids of the checks that report it where it stops a front page.
    of_type: as a doubt it leaves the content type unknown. logged: whether what it stops leaves
    a line in the access log: what never comes to be a request leaves none. premise: what the
    answer holds under, where a doubt is no more than that; "" for any other.
    facts: the names of all that its words tell.
    """

    gate: str
    verdict: Verdict
    reason: str
    mend: str
    needs: int
    findings: tuple[str, ...]
    of_type: bool
    logged: bool
    premise: str
    facts: frozenset[str]

    def __reduce__(self) -> tuple[Callable[[str], Code], tuple[str]]:
        """One object for each code, in every process."""
        return _declared, (str(self),)


CODES: dict[str, Code] = {}


def _declared(text: str) -> Code:
    return CODES[text]


def _code(
    verdict: Verdict,
    text: str,
    reason: str,
    mend: str = "",
    *,
    gate: str | None = None,
    needs: int = 0,
    findings: tuple[str, ...] = (),
    of_type: bool = False,
    logged: bool = True,
    premise: str = "",
) -> Code:
    code = CODES[text] = Code(text)
    code.gate = text.partition(".")[0] if gate is None else gate
    code.verdict, code.reason, code.mend = verdict, reason, mend
    code.needs, code.findings, code.of_type, code.logged = needs, findings, of_type, logged
    code.premise = premise
    code.facts = frozenset(name for each in (reason, mend) for _, name, *_ in _FIELDS(each) if name)
    return code


_FIELDS = Formatter().parse
_clear = partial(_code, Verdict.CLEAR)
_blocked = partial(_code, Verdict.BLOCKED)
_diverted = partial(_code, Verdict.DIVERTED)
_unsure = partial(_code, Verdict.UNSURE)
_skipped = partial(_code, Verdict.SKIPPED)

# --- name ---

NAME_GIVEN = _skipped(
    "name.given",
    "The connection goes to {address} as asked; no name is looked up.",
)
NAME_SPLIT = _clear(
    "name.split",
    "{name} leads to this server, at {address}, and by {other} to another one: some visitors do "
    "not come here.",
)
NAME_LITERAL = _clear("name.literal", "The address names the server by its number, {address}.")
NAME_LEADS_HERE = _clear("name.leads-here", "{name} leads to this server, at {address}.")
NAME_NOWHERE = _blocked(
    "name.nowhere",
    "{name} does not resolve: no visitor finds a server by this name.",
    "Publish an address record for {name} that points to this server.",
    logged=False,
)
NAME_ELSEWHERE = _blocked(
    "name.elsewhere",
    "{name} leads to {address}, which is not this server.",
    "Point {name} to an address of this server, or ask the server that it names.",
    logged=False,
)
NAME_UNKNOWN = _unsure(
    "name.unknown",
    "The survey does not know where {name} leads. What follows holds if it leads here, to "
    "{address}.",
    premise="the name leads here",
)

# --- door ---

DOOR_OPEN = _clear("door.open", "{program} listens on {address}, port {port}.")
DOOR_DECLARED = _clear(
    "door.declared",
    "The configuration has the engine listen on {address}, port {port}.",
)
DOOR_KEPT_IN = _blocked(
    "door.kept-in",
    "The packet filter stops it: {rule}.",
    "Have the filter let port {port} through, in the place where this server keeps its own rules.",
    findings=("door.kept-in",),
    logged=False,
)
DOOR_NO_ANSWER = _blocked(
    "door.no-answer",
    "The packet arrives, and the filter keeps the answer back: {rule}.",
    "Have the filter let answers of established connections out.",
    findings=("door.kept-in",),
    logged=False,
)
DOOR_HANDED_ON = _unsure(
    "door.handed-on",
    "The packet filter hands it on to {to}, port {port}: what answers there is not known.",
)
DOOR_FILTER_UNKNOWN = _unsure(
    "door.filter-unknown",
    "Whether the packet filter lets it through is not known: {rule}.",
    premise="the packet filter lets it through",
)
DOOR_UNHEARD = _blocked(
    "door.unheard",
    "Nothing listens on {address}, port {port}: the connection is refused.",
    "Have the engine listen on port {port}, or bring the site to a port that is open.",
    logged=False,
)
DOOR_HELD = _unsure(
    "door.held",
    "Port {port} on {address} is held by {program}, which is no engine that Ecumen reads.",
)
DOOR_UNREAD_ENGINE = _unsure(
    "door.unread-engine",
    "{program} may listen on {address}, port {port}; its configuration could not be read to its "
    "end.",
)

# --- seal ---

SEAL_PLAIN_HTTP = _skipped("seal.plain-http", "Plain HTTP: no certificate is asked for.")
SEAL_SPOKEN = _clear("seal.spoken", "The door speaks TLS; the certificate shown is that of {site}.")
SEAL_OTHER_NAME = _clear(
    "seal.other-name",
    "The certificate shown, that of {site}, does not hold {asked}: browsers refuse it.",
)
SEAL_ENDED = _clear(
    "seal.ended", "The certificate shown, that of {site}, ended on {day}: browsers refuse it."
)
SEAL_NOT_YET = _clear(
    "seal.not-yet",
    "The certificate shown, that of {site}, begins on {day} only: browsers refuse it until then.",
)
SEAL_CUT = _clear(
    "seal.cut",
    "The certificate shown, that of {site}, comes without the one that issued it: many clients "
    "refuse it.",
)
SEAL_UNTRUSTED = _clear(
    "seal.untrusted",
    "The certificate shown, that of {site}, is vouched for by nobody whom this system trusts.",
)
SEAL_NOT_SPOKEN = _blocked(
    "seal.not-spoken",
    "The door does not speak TLS: the connection fails.",
    "Ask with http, or have the site speak TLS on this port.",
    findings=("seal.unspoken",),
)
SEAL_CERTIFICATE_WANTED = _blocked(
    "seal.certificate-wanted",
    "{site} lets nobody connect without a certificate of their own: the connection fails.",
    "Ask with a certificate that the site knows, or have it ask for one only where it must.",
    logged=False,
)
SEAL_NO_CERTIFICATE = _blocked(
    "seal.no-certificate",
    "{site} serves nobody without a certificate of their own.",
    "Ask with a certificate that the site knows, or have it ask for one only where it must.",
    gate="site",
)
SEAL_REJECTED = _blocked(
    "seal.rejected",
    "{site} rejects TLS for this name: the connection fails.",
    "Give the name a certificate, or ask for another name.",
    findings=("seal.unspoken",),
    logged=False,
)

# --- site ---

SITE_NAMED = _clear("site.named", "{site} answers: it claims the name {matched}.")
SITE_ONLY = _clear(
    "site.only",
    "{site} answers: it is the only site on this address and port, whatever the name.",
)
SITE_DEFAULT = _diverted(
    "site.default",
    "No site here claims {host}, so the first of {count} on this address answers: {site}.",
)
SITE_FIRST = _clear("site.first", "{site} answers, as the first site on this address and port.")
SITE_MAIN = _diverted(
    "site.main",
    "No site is bound to this address and port {port}; the main server answers.",
)
SITE_NO_HOST = _blocked(
    "site.no-host",
    "The request names no host, and the engine refuses it.",
    "Send a Host header; every browser does.",
    findings=("site.refuses",),
)
SITE_BAD_HOST = _blocked(
    "site.bad-host",
    "The engine refuses the host name {host} as malformed.",
    "Use a name of letters, digits, hyphens and dots.",
    findings=("site.refuses",),
)
SITE_FAILS_CHECK = _unsure(
    "site.fails-check",
    "The engine would not load this configuration: {why}.",
)
SITE_FAILS_RELOAD = _unsure(
    "site.fails-reload",
    "The engine would not load this configuration: {why}. It goes on with what it read on "
    "{read:%Y-%m-%d %H:%M} UTC.",
)
SITE_UNREAD = _unsure("site.unread", "What the engine reads there is not known: {why}.")
SITE_VARIABLE_UNKNOWN = _unsure(
    "site.variable-unknown",
    "The survey does not know the variable {name}.",
)
SITE_MODULE_UNKNOWN = _unsure("site.module-unknown", "What the module {module} does is not known.")
SITE_CONDITION_UNKNOWN = _unsure(
    "site.condition-unknown",
    "Whether this conditional section holds is not known.",
)
SITE_NOT_EVALUATED = _unsure("site.not-evaluated", "{directive} is not evaluated yet.")
SITE_BINDING_UNRESOLVED = _unsure(
    "site.binding-unresolved",
    "A site is bound to {name}, of which no address is known.",
)
SITE_NAMELESS = _unsure(
    "site.nameless",
    "A site without a name takes that of {address}, which is not known.",
)
SITE_PATTERN_UNKNOWN = _unsure("site.pattern-unknown", "The pattern {pattern} is not evaluated.")
SITE_MARKED = _diverted(
    "site.marked",
    "No site here claims {host}; {site} is marked as the one that answers then.",
)
SITE_MISDIRECTED = _blocked(
    "site.misdirected",
    "{site} is asked for, but the connection was sealed for {greeted}, which has another "
    "certificate or other terms: the engine refuses.",
    "Ask for the name that the connection was made for, or give both one certificate and the same "
    "terms.",
    findings=("site.refuses",),
)
SITE_UNGREETED = _blocked(
    "site.ungreeted",
    "The connection was sealed without a name, and {site} wants one: the engine refuses.",
    "Ask with a client that names the site when it connects.",
    findings=("site.refuses",),
)
SITE_BAD_REQUEST = _blocked(
    "site.bad-request",
    "The engine refuses the request as malformed.",
    "Mend the escapes in the address, and do not lead above its root.",
    findings=("site.refuses",),
)
SITE_NOBODY = _unsure("site.nobody", "No site is bound here, so it is not known who would answer.")
SITE_BAD_METHOD = _blocked(
    "site.bad-method",
    "The engine refuses requests by {method}.",
    "Ask with GET, HEAD or POST.",
)
SITE_RELEASE = _unsure(
    "site.release",
    "{engine} {version} may answer otherwise: it is since {release} that {what}.",
)
SITE_LONG_LINE = _unsure("site.long-line", "The engine may refuse a request line of this length.")
SEAL_PLAIN = _blocked(
    "seal.plain",
    "This door speaks TLS, and the request comes in plain HTTP.",
    "Ask with https.",
    findings=("site.refuses",),
    gate="site",
)

# --- way ---

WAY_ROOT = _clear("way.root", "{address} lies in the site's document root: {path}.")
WAY_ALIAS = _clear("way.alias", "The alias {alias} leads to {path}.")
WAY_PERSONAL = _clear("way.personal", "The personal site of {account} lives at {path}.")
WAY_PERSONAL_ELSEWHERE = _diverted(
    "way.personal-elsewhere",
    "Personal sites are elsewhere: the visitor is sent to {location}.",
)
WAY_BAD_PATH = _blocked(
    "way.bad-path",
    "The engine refuses the path as malformed.",
    "Mend the escapes in the address, and do not lead above its root.",
    findings=("way.fails",),
)
WAY_FORBIDDEN_ESCAPE = _blocked(
    "way.forbidden-escape",
    "The engine finds nothing under a path with an escaped slash or zero byte.",
    "Use a plain slash, or let the engine accept escaped ones.",
    findings=("way.fails",),
)
WAY_NO_ROOT = _unsure("way.no-root", "No document root is set, and the engine's own is not known.")
WAY_REWRITTEN = _clear("way.rewritten", "Rules of rewriting lead {address} to {path}.")
WAY_UPSTREAM = _clear("way.upstream", "The request is handed to {upstream}.")
WAY_UPSTREAM_ANSWERS = _unsure("way.upstream-answers", "What {upstream} answers is not known.")
WAY_UPSTREAM_CLOSED = _blocked(
    "way.upstream-closed",
    "Nothing listens at {upstream}, to which this address is handed.",
    "Start what should answer at {upstream}, or hand the address elsewhere.",
    findings=("way.fails",),
)
WAY_UPSTREAM_UNSPOKEN = _blocked(
    "way.upstream-unspoken",
    "The engine speaks to nobody as {upstream} asks for: it has no part that does.",
    "Load what speaks to {upstream}, or hand the address elsewhere.",
    findings=("way.fails",),
)
WAY_REDIRECT = _unsure("way.redirect", "Whether {directive} takes this address is not worked out.")
WAY_TRACED = _clear("way.traced", "The engine sends the request back as it came, and asks no rule.")
WAY_TRACE_OFF = _blocked(
    "way.trace-off",
    "This server does not send requests back.",
    "Nothing needs it but the search for faults on the way; then have it send them back.",
)
WAY_SENT = _diverted("way.sent", "The visitor is sent to {location}.")
WAY_STATUS = _blocked(
    "way.status",
    "The configuration answers this address with status {status}.",
    "Take the line out that gives this address a status.",
    findings=("way.fails",),
)
WAY_REFUSED = _blocked(
    "way.refused",
    "A rule of rewriting refuses this address.",
    "Leave this address out of the rule that refuses it.",
    findings=("way.fails",),
)
WAY_GONE = _blocked(
    "way.gone",
    "The configuration says that what was here is gone for good.",
    "Take the line out that says so, if it is back.",
    findings=("way.fails",),
)
WAY_RULES_FAIL = _blocked(
    "way.rules-fail",
    "The rules of rewriting go round without end on this address.",
    "End the rules once they have led somewhere.",
    findings=("way.fails",),
)
WAY_RULES_NEED_LINKS = _blocked(
    "way.rules-need-links",
    "Rules of rewriting in {path} need links to be followed, and they are not.",
    "Have links followed in {path}, at least where owners agree.",
    findings=("way.fails",),
)
WAY_PATTERN_UNKNOWN = _unsure(
    "way.pattern-unknown",
    "Whether the pattern {pattern} fits is not evaluated.",
)
WAY_SAID = _clear(
    "way.said",
    "The configuration answers this address itself, with status {status}.",
)
WAY_INTERNAL = _blocked(
    "way.internal",
    "The place that takes {address} is for the engine's own use: visitors find nothing.",
    "Ask for another address, or open the place to visitors.",
    findings=("way.fails",),
)
WAY_HUNG_UP = _blocked(
    "way.hung-up",
    "The configuration has the engine hang up without an answer.",
    "Take the line out that has it hang up.",
    findings=("way.fails",),
)
WAY_NO_SUCH_PLACE = _blocked(
    "way.no-such-place",
    "{name}, to which the request is led, is not there or was led to too often.",
    "Add the place {name} to the site's configuration, or lead elsewhere.",
    findings=("way.fails",),
)
WAY_ALIAS_REWRITTEN = _blocked(
    "way.alias-rewritten",
    "The address {address} was rewritten in a place that has an alias: the engine fails.",
    "Use a document root in place of the alias there.",
    findings=("way.fails",),
)
WAY_LOOPS = _blocked(
    "way.loops",
    "The rules of rewriting lead in a circle: the engine gives up after ten laps.",
    "Leave out of the rules what they themselves lead to.",
    findings=("way.fails",),
)
WAY_PATTERN_FAILS = _blocked(
    "way.pattern-fails",
    "The engine gives up on the pattern {pattern}, and fails the request: matching takes more "
    "steps than it allows, or the address is no UTF-8.",
    "Write the pattern so that no text can be taken by it in many ways.",
    findings=("way.fails",),
)
WAY_RULE_UNKNOWN = _unsure(
    "way.rule-unknown",
    "A rule of rewriting asks for {what}, which is not worked out.",
)
WAY_RELEASE = _unsure(
    "way.release",
    "{engine} {version} may answer otherwise: it is since {release} that {what}.",
)
WAY_NOT_EVALUATED = _unsure("way.not-evaluated", "{directive} is not evaluated yet.")
WAY_ACCOUNT_UNKNOWN = _unsure(
    "way.account-unknown",
    "The survey does not hold all accounts of this server; {account} may be one of them.",
)
WAY_PERSONAL_UNSEEN = _unsure("way.personal-unseen", "The survey does not hold {path}.")

# --- rule ---

RULE_OPEN = _clear("rule.open", "No rule closes this folder: everybody may.")
RULE_GRANTED = _clear("rule.granted", "The rules let this visitor in.")
RULE_DENIED = _blocked(
    "rule.denied",
    "The rules keep {client} out.",
    "Open the folder to these visitors, in the section that closes it.",
    findings=("rule.still-closed", "rule.no-rule"),
)
RULE_METHOD = _blocked(
    "rule.method",
    "Requests by {method} are not allowed here, only those by {allowed}.",
    "Name {method} in the line that says which are allowed.",
)
RULE_LOCAL_ONLY = _blocked(
    "rule.local-only",
    "Only the server itself may see this; {client} may not.",
    "Open the folder to everybody, if the site is ready for visitors.",
    findings=("rule.still-closed", "rule.no-rule"),
)
RULE_LOGIN = _blocked(
    "rule.login",
    "The visitor must sign in first.",
    "Sign in, or open the folder without a password.",
)
RULE_LOGIN_BROKEN = _blocked(
    "rule.login-broken",
    "A sign-in is asked for, but no way to sign in is set: the engine fails.",
    "Say how visitors sign in: the kind of sign-in and its name.",
    findings=("rule.sign-in",),
)
RULE_LOGIN_UNKNOWN = _unsure("rule.login-unknown", "What comes of signing in is not evaluated.")
RULE_NEEDS_SEAL = _blocked(
    "rule.needs-seal",
    "The folder is shown over TLS alone, and the request came plainly.",
    "Ask with https.",
    findings=("way.fails",),
)
RULE_ASKED_UNKNOWN = _unsure(
    "rule.asked-unknown", "Whether {page} lets the visitor in is not known."
)
RULE_ASKED_REFUSES = _blocked(
    "rule.asked-refuses",
    "Whether the visitor may is asked of {page}, which answers {status}.",
    "Have {page} let the visitor in.",
    findings=("rule.sign-in",),
)
RULE_ASKED_FAILS = _blocked(
    "rule.asked-fails",
    "Whether the visitor may is asked of {page}, which answers {status}: the engine fails.",
    "Have {page} answer with 200, 401 or 403.",
    findings=("way.fails",),
)
RULE_UNKNOWN_TEST = _unsure(
    "rule.unknown-test",
    "A rule tests something that the survey cannot tell.",
)
RULE_LOGIN_UNUSED = _blocked(
    "rule.login-unused",
    "A way to sign in is set, but no rule asks for it: the engine fails.",
    "Say who may, beside the kind of sign-in, or take the sign-in out.",
    findings=("rule.sign-in",),
)
RULE_OVERRIDE_FILE = _unsure(
    "rule.override-file",
    "The survey does not hold the override file {path}.",
)
RULE_OVERRIDE_CLOSED = _blocked(
    "rule.override-closed",
    "The web server may not read the override file {path}, and refuses all that is below.",
    "Let the web server read {path}, or take the file away.",
    needs=READ,
    findings=("rule.override-refused",),
)
RULE_OVERRIDE_REFUSED = _blocked(
    "rule.override-refused",
    "The override file {path} holds something that the engine does not accept: {why}.",
    "Take the line out of {path}, or allow it in the configuration.",
    findings=("rule.override-refused",),
)
RULE_PATTERN_UNKNOWN = _unsure(
    "rule.pattern-unknown",
    "Whether the pattern {pattern} fits is not evaluated.",
)
RULE_NOT_EVALUATED = _unsure("rule.not-evaluated", "{directive} is not evaluated yet.")

# --- ladder ---

LADDER_CLEAR = _clear("ladder.clear", "{worker} may pass every step down to the end.")
LADDER_WALKED_BY_ANOTHER = _unsure(
    "ladder.walked-by-another",
    "The engine's master walks to the folder, and {worker} only opens what lies there: whether a "
    "folder that is closed on the way stops the request is not worked out.",
)
LADDER_SHUT = _blocked(
    "ladder.shut",
    "The web server may not pass through {path}: it belongs to {owner}:{group} with mode "
    "{mode:04o}, and {worker} has no right to enter.",
    "Let {worker} pass through {path}.",
    needs=SEARCH,
    findings=("ladder.shut",),
)
LADDER_UNREADABLE = _blocked(
    "ladder.unreadable",
    "The web server may not read {path}: it belongs to {owner}:{group} with mode {mode:04o}, and "
    "{worker} has no right to read it.",
    "Let {worker} read {path}.",
    needs=READ,
    findings=("ladder.unreadable",),
)
LADDER_NOT_RUN = _blocked(
    "ladder.not-run",
    "The web server may not run {path}: it belongs to {owner}:{group} with mode {mode:04o}, and "
    "{worker} has no right to run it.",
    "Let {worker} run {path}.",
    needs=SEARCH,
    findings=("ladder.unreadable",),
)
LADDER_UNLISTABLE = _blocked(
    "ladder.unlistable",
    "The web server may enter {path}, but not list it: mode {mode:04o}, {owner}:{group}.",
    "Let {worker} list {path}.",
    needs=READ,
    findings=("ladder.unreadable",),
)
LADDER_LINK_REFUSED = _blocked(
    "ladder.link-refused",
    "{path} is a link, and the configuration does not follow links here.",
    "Put the files in place of the link, or have links followed where owners agree.",
    findings=("ladder.link",),
)
LADDER_LINK_OWNER = _blocked(
    "ladder.link-owner",
    "The link {path} and what it leads to belong to different owners.",
    "Give link and target one owner.",
    findings=("ladder.link",),
)
LADDER_LINK_NOWHERE = _blocked(
    "ladder.link-nowhere",
    "The link {path} leads to {target}, which is not there.",
    "Point the link {path} to something that exists, or remove it.",
    findings=("ladder.link",),
)
LADDER_LINK_LOOP = _blocked(
    "ladder.link-loop",
    "The link {path} leads in a circle.",
    "Point the link {path} to a file or folder.",
    findings=("ladder.link",),
)
LADDER_LINK_UNKNOWN = _unsure(
    "ladder.link-unknown",
    "Whether the engine lets the link {path} through is not worked out.",
)
LADDER_LINK_PROTECTED = _blocked(
    "ladder.link-protected",
    "The kernel does not follow the link {path}: it lies in a folder that everybody may write to,"
    " and belongs to somebody else.",
    "Move the link out of the shared folder.",
    findings=("ladder.link",),
)
LADDER_NAME_TOO_LONG = _blocked(
    "ladder.name-too-long",
    "A name in the path is longer than any file's can be.",
    "Ask for a shorter name.",
    findings=("ladder.link",),
)
LADDER_UNSEEN = _unsure("ladder.unseen", "The survey does not hold {path}.")
LADDER_NO_WORKER = _unsure(
    "ladder.no-worker",
    "The engine's worker account {worker} is not in the survey.",
)

# --- context ---

CONTEXT_NONE = _skipped("context.none", "No security policy is enforced on this server.")
CONTEXT_PERMISSIVE = _skipped(
    "context.permissive",
    "The security policy only warns: it stops nothing.",
)
CONTEXT_OTHER_DOMAIN = _skipped(
    "context.other-domain",
    "The engine's process runs as {domain}, and not as the system starts it: the policy keeps it "
    "from nothing.",
)
CONTEXT_DOMAIN_UNKNOWN = _unsure(
    "context.domain-unknown",
    "The engine's process runs as {domain}; what the policy keeps that from was not read.",
)
CONTEXT_CLEAR = _clear("context.clear", "The security policy lets {domain} take every step.")
CONTEXT_SHUT = _blocked(
    "context.shut",
    "The security policy does not let {domain} pass through {path}, which has the type {type}.",
    "{mend}.",
    findings=("context.switch-off", "context.shut"),
)
CONTEXT_UNREADABLE = _blocked(
    "context.unreadable",
    "The security policy does not let {domain} read {path}, which has the type {type}.",
    "{mend}.",
    findings=("context.switch-off", "context.shut"),
)
CONTEXT_UNLISTABLE = _blocked(
    "context.unlistable",
    "The security policy does not let {domain} list {path}, which has the type {type}.",
    "{mend}.",
    findings=("context.switch-off", "context.shut"),
)
CONTEXT_LINK = _blocked(
    "context.link",
    "The security policy does not let {domain} follow the link {path}, which has the type {type}.",
    "{mend}.",
    findings=("context.switch-off", "context.shut"),
)
CONTEXT_CONNECT = _blocked(
    "context.connect",
    "The security policy does not let {domain} connect to port {port}, which has the type {type}.",
    "{mend}.",
    findings=("context.switch-off", "context.shut"),
)
CONTEXT_UNKNOWN = _unsure("context.unknown", "What the policy says of {path} is not known: {why}.")
CONTEXT_NOT_READ = _unsure(
    "context.not-read",
    "The security policy of this server could not be read: {why}.",
)
CONTEXT_SHIPPED = _unsure(
    "context.shipped",
    "The survey holds no policy of this server: the answer is that of the policy which comes with"
    " Ecumen, and other policies differ.",
)
# --- serve ---

SERVE_FILE = _clear("serve.file", "{path} goes out {type:as}.")
SERVE_INDEX = _clear("serve.index", "The index {index} goes out {type:as}.")
SERVE_INDEX_REFUSED = _clear(
    "serve.index-refused",
    "The index {path} is there, but may not be served.",
)
SERVE_LISTING = _clear("serve.listing", "There is no index, and the folder's listing is shown.")
SERVE_FOLDER_REDIRECT = _diverted(
    "serve.folder-redirect",
    "{path} is a folder: the visitor is sent to {location}.",
)
SERVE_INDEX_FOLDER = _diverted(
    "serve.index-folder",
    "The index is a folder itself: the visitor is sent to {location}.",
)
SERVE_RESPELLED = _diverted(
    "serve.respelled",
    "There is no {name}; the visitor is sent to {location}, which is spelled much like it.",
)
SERVE_SPELLINGS = _blocked(
    "serve.spellings",
    "There is no {name}; the engine offers a choice of {count} names that are much like it.",
    "Ask for one of those names: {names}.",
)
SERVE_SPELLING_UNSEEN = _unsure(
    "serve.spelling-unseen",
    "There is no {name}; which names are much like it is not known.",
)
SERVE_MISSING = _blocked(
    "serve.missing",
    "There is no {path}.",
    "Put the file there, or mend the address that leads to it.",
    findings=("index.gone",),
)
SERVE_NO_INDEX = _blocked(
    "serve.no-index",
    "{path} has no index, and its listing is off.",
    "Add an index to {path}.",
    findings=("index.none",),
)
SERVE_NO_FILE = _blocked(
    "serve.no-file",
    "{path} is neither a file nor a folder.",
    "Put a plain file in its place.",
    findings=("index.gone",),
)
SERVE_POST_ON_FOLDER = _blocked(
    "serve.post-on-folder",
    "The folder {path} has no index to send a form to.",
    "Add an index to {path}.",
    findings=("index.gone",),
)
SERVE_TRAILING_PATH = _blocked(
    "serve.trailing-path",
    "{path} is a file, and {rest} behind it leads to nothing.",
    "Leave out what stands behind the file.",
    findings=("index.gone",),
)
SERVE_HANDLER = _unsure(
    "serve.handler",
    "The content is made by {handler}; what it answers is not known.",
)
SERVE_NO_PROGRAMS = _blocked(
    "serve.no-programs",
    "{path} is to be run as a program, and no program may be run there.",
    "Let programs be run in the folder, or have {path} sent as it is.",
    findings=("index.gone",),
)
SERVE_PROGRAM_FOLDER = _blocked(
    "serve.program-folder",
    "The folder {path} is to be run as a program, and has no index.",
    "Ask for a program in {path}.",
    findings=("index.none",),
)
SERVE_VARIANT = _clear("serve.variant", "{path}, whose endings fit, goes out {type:as}.")
SERVE_VARIANTS = _unsure(
    "serve.variants",
    "Several files could be chosen for {name}; which one is not worked out.",
)
SERVE_NO_VARIANT = _blocked(
    "serve.no-variant",
    "{path} is not there, and none of {names} can stand in for it.",
    "Put it there, or ask for the name with its ending.",
    findings=("index.gone",),
)
SERVE_INDEX_ELSEWHERE = _unsure(
    "serve.index-elsewhere",
    "The index {name} lies elsewhere; not evaluated yet.",
)
SERVE_PIPE = _unsure("serve.pipe", "{path} is a pipe: the request would wait for its other end.")
SERVE_TYPES_UNREAD = _unsure(
    "serve.types-unread",
    "The list of content types {path} is not in the survey.",
    of_type=True,
)
SERVE_TYPE_SET = _unsure(
    "serve.type-set",
    "{directive} at the end sets the content type; to what is not known.",
    of_type=True,
)
SERVE_ERROR_PAGE = _unsure(
    "serve.error-page",
    "For status {status} the site shows {page}; how is not known.",
    of_type=True,
)
SERVE_NO_FOLDER = _blocked(
    "serve.no-folder",
    "{path} should be a folder, and is none.",
    "Put a folder in its place.",
    findings=("index.gone",),
)
SERVE_LISTING_FAILS = _blocked(
    "serve.listing-fails",
    "The engine gives up on the listing of {path}: the link {link} leads to {target}, through a "
    "file.",
    "Mend or remove the link {link}.",
    findings=("index.gone",),
)
SERVE_LISTING_TYPE = _unsure(
    "serve.listing-type",
    "What the listing of {path} looks like is not worked out.",
)
SERVE_INDEX_SENT = _diverted(
    "serve.index-sent",
    "Asked for {index}, the engine sends the visitor on.",
)
SERVE_FALLBACK = _unsure(
    "serve.fallback",
    "What stands in for what is missing, {name}, is not worked out.",
)
SERVE_FALLBACK_FILE = _clear(
    "serve.fallback-file",
    "{fallback} stands in for what is missing; it goes out {type:as}.",
)
SERVE_FALLBACK_MISSING = _blocked(
    "serve.fallback-missing",
    "{path}, which should stand in for what is missing, is missing itself.",
    "Put {path} there, or take the line out that names it.",
    findings=("index.gone",),
)
SERVE_STATUS_PAGE = _clear("serve.status-page", "The engine shows its own status page.")
SERVE_OPTIONS = _unsure("serve.options", "The engine says which methods it takes.")
SERVE_METHOD = _blocked(
    "serve.method",
    "The engine does not take {method} for {path}.",
    "Ask with GET, HEAD or POST.",
)
SERVE_METHOD_UNKNOWN = _blocked(
    "serve.method-unknown",
    "The engine does not know the method {method}.",
    "Ask with GET, HEAD or POST.",
)
SERVE_OWN_NAME = _unsure("serve.own-name", "The name that the site calls itself by is not known.")

# --- record ---

RECORD_LOG = _clear("record.log", "The line lands in {log}.")
RECORD_PROGRAM = _clear("record.program", "The line goes to a program: {log}.")
RECORD_NOWHERE = _clear("record.nowhere", "No access log is set: the request leaves no line.")
RECORD_CONDITIONAL = _unsure(
    "record.conditional",
    "Whether a log gets the line depends on the request.",
)

# --- any gate ---

PASSAGE_NOT_REACHED = _skipped(
    "passage.not-reached",
    "The request does not come this far.",
    gate="",
)
