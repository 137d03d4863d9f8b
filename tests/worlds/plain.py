"""A plain configuration of the real server, for tests that need no variety."""

from __future__ import annotations

from pathlib import Path

MODULES = ("mpm_event", "authz_core", "authz_host", "alias", "dir", "mime", "userdir", "autoindex")
HEAD = """\
ServerRoot {base}
ServerName main.test
PidFile {base}/pid
ErrorLog {base}/error.log
User www-data
Group www-data
Listen {address}:{port}
TypesConfig /etc/mime.types
<Directory />
    Require all denied
</Directory>
<Directory {base}/www>
    Require all granted
</Directory>
"""


# Modules that change what the others do by being there, that need what is not here, or that are
# there to try the server itself.
_LEFT_OUT = frozenset(
    """
    mpm_prefork mpm_worker case_filter case_filter_in dialup bucketeer echo heartbeat heartmonitor
    lbmethod_heartbeat ident authnz_ldap ldap suexec proxy_fdpass proxy_hcheck dumpio data lua
    log_debug allowmethods dav_lock cgi
    """.split()
)
_FIRST = (
    "authz_core authn_core auth_basic slotmem_shm proxy cache socache_shmcb session dav dbd "
    "filter authz_host alias dir mime userdir autoindex"
).split()


def all_modules() -> list[str]:
    """Those of the installed server that can be loaded together, in an order that works."""
    found = sorted(
        p.stem.removeprefix("mod_") for p in Path("/usr/lib/apache2/modules").glob("mod_*.so")
    )
    return [*_FIRST, *(name for name in found if name not in (*_FIRST, *_LEFT_OUT))]


def open_way(base: Path) -> None:
    """The servers' own accounts can reach what lies below: a test's folder is closed to others."""
    for folder in (base, *base.parents):
        if folder.stat().st_mode & 0o5 != 0o5:
            folder.chmod(0o755)


def plain_head(base: Path, address: str, port: int) -> str:
    """Everything below `base`; what lies in www/ is open, all else is closed."""
    lines = [HEAD.format(base=base, address=address, port=port)]
    lines += [f"LoadModule {n}_module /usr/lib/apache2/modules/mod_{n}.so" for n in MODULES]
    return "\n".join(lines) + "\n"
