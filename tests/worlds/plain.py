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


def plain_head(base: Path, address: str, port: int) -> str:
    """Everything below `base`; what lies in www/ is open, all else is closed."""
    lines = [HEAD.format(base=base, address=address, port=port)]
    lines += [f"LoadModule {n}_module /usr/lib/apache2/modules/mod_{n}.so" for n in MODULES]
    return "\n".join(lines) + "\n"
