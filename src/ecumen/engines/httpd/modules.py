"""Modules: the two names that each has, and which of them do nothing until a directive asks.

Source: httpd 2.4, "Module Index"; the source file names stand in each module's page.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache
from importlib import resources

_OTHER_FILES = {
    "core_module": "core.c",
    "http_module": "http_core.c",
    "mpm_event_module": "event.c",
    "mpm_worker_module": "worker.c",
    "mpm_prefork_module": "prefork.c",
    "mpm_itk_module": "mpm_itk.c",
}
_OTHER_IDENTIFIERS = {file: name for name, file in _OTHER_FILES.items()}

# Of these the list of directives holds none.
_NOT_LISTED = frozenset(("lua_module", "mpm_prefork_module", "mpm_worker_module"))
# Never loaded, as they are the server itself.
_ALWAYS = frozenset(("core_module", "http_module", "so_module", "unixd_module", "version_module"))

# The server's own modules; each leaves requests as they are until a directive of its own is set.
# mod_autoindex, mod_dir, mod_mime and the authorization modules are evaluated.
OWN = frozenset(
    f"{name}_module"
    for name in """
    access_compat actions alias allowmethods allowhandlers asis auth_basic auth_digest
    auth_form authn_anon authn_core authn_dbd authn_dbm authn_file authn_socache authnz_fcgi
    authnz_ldap authz_core authz_dbd authz_dbm authz_groupfile authz_host authz_owner
    authz_user autoindex brotli bucketeer buffer cache cache_disk cache_socache case_filter
    case_filter_in cern_meta cgi cgid charset_lite core data dav dav_fs dav_lock dbd deflate
    dialup dir dumpio echo env expires ext_filter file_cache filter headers heartbeat
    heartmonitor http http2 ident imagemap include info lbmethod_bybusyness
    lbmethod_byrequests lbmethod_bytraffic lbmethod_heartbeat ldap log_config log_debug
    log_forensic logio lua macro md mime mime_magic mpm_event mpm_itk mpm_prefork
    mpm_worker
    negotiation proxy proxy_ajp proxy_balancer proxy_connect proxy_express proxy_fcgi
    proxy_fdpass proxy_ftp proxy_hcheck proxy_html proxy_http proxy_http2 proxy_scgi
    proxy_uwsgi proxy_wstunnel ratelimit reflector remoteip reqtimeout request rewrite sed
    session session_cookie session_crypto session_dbd setenvif slotmem_plain slotmem_shm so
    socache_dbm socache_memcache socache_redis socache_shmcb speling ssl status substitute
    suexec systemd tls unique_id unixd userdir usertrack version vhost_alias watchdog
    xml2enc php php5 php7
""".split()
)


# With one of these merely loaded the server may ask anew who may for what it looks up for itself,
# as an index or the page of an error, under the very same rules too: what they hook into that phase
# does not say that it asks the same.
# Measured with each stock module that can be loaded alone (ap_hook_check_access, PER_CONF).
JUDGE_AGAIN = frozenset(("allowmethods_module", "log_debug_module", "lua_module"))

# Read at once: where a configuration is understood in a process that may open no file, it is too
# late for that.
_ROOM = resources.files("ecumen.engines.httpd")
_TABLE = _ROOM.joinpath("directives.tsv").read_text()
_OTHERS = [line.split("\t") for line in _ROOM.joinpath("others.tsv").read_text().splitlines()]
# These answer addresses of their own as soon as they are loaded.
_ANSWER = frozenset(("mod_shib",))
# Modules of other packages that leave a plain server as it is until a directive of theirs is set.
# Source: each loaded alone and asked (bin/make-other-modules).
OTHERS = frozenset(row[0] for row in _OTHERS if row[1:] == ["quiet"]) - _ANSWER
KNOWN = OWN | OTHERS


@dataclass(frozen=True, slots=True)
class KnownDirective:
    """module: its identifier. needs: what an override file needs to be allowed to hold it: `-` for
    never, or `any`, or classes of which one must be allowed. takes: how many arguments, as
    `arguments.fault` understands it.
    """

    module: str
    needs: frozenset[str]
    takes: str


@cache
def known_directives() -> Mapping[str, KnownDirective]:
    """By name in lower case, sections with `<`. Source: the server's own list
    (bin/make-directives, bin/make-other-modules).
    """
    rows = [line.split("\t") for line in _TABLE.splitlines()]
    rows += [row for row in _OTHERS if len(row) == 4]
    return {
        name: KnownDirective(module, frozenset(needs.split(",")), takes)
        for name, module, needs, takes in rows
    }


def is_built_in(module: str) -> bool:
    """Whether it is never loaded, as it is the server itself."""
    return module in _ALWAYS


def is_known(directive: str, modules: set[str]) -> bool | None:
    """Whether the server knows a directive (lower case) with these modules loaded; None where a
    module is loaded of which the list holds none, and that may bring it.
    """
    found = known_directives().get(directive)
    if directive.startswith("serveradm"):
        return True
    if found is not None and (found.module in modules or is_built_in(found.module)):
        return True
    if found is not None:
        # The models of workers share most of theirs, and the list has them of one.
        others = found.module.startswith("mpm_") and any(m.startswith("mpm_") for m in modules)
        return None if others else False
    return None if not modules <= KNOWN or modules & _NOT_LISTED else False


# What makes content, and the modules of which one must be there for it.
_MAKERS = {
    "cgi-script": ("cgi_module", "cgid_module"),
    "server-status": ("status_module",),
    "server-info": ("info_module",),
    "send-as-is": ("asis_module",),
    "type-map": ("negotiation_module",),
    "imap-file": ("imagemap_module",),
    "ldap-status": ("ldap_module",),
    "balancer-manager": ("proxy_balancer_module",),
}


def makes_nothing(handler: str, modules: set[str]) -> bool:
    """Whether no module here knows this maker of content, so that files go out as they are."""
    if not modules <= OWN or any(name.startswith("php") for name in modules):
        return False
    if handler.startswith("proxy:") or handler == "default-handler":
        return False
    return not any(name in modules for name in _MAKERS.get(handler, ()))


def identifier(name: str) -> str:
    """`mod_dir.c` and `dir_module` are one; the identifier is returned."""
    if name.endswith(".c"):
        if name in _OTHER_IDENTIFIERS:
            return _OTHER_IDENTIFIERS[name]
        return name.removeprefix("mod_").removesuffix(".c") + "_module"
    return name
