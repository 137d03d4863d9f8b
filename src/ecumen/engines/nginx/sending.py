"""Where the server sends a visitor: its own address, and that of a folder with its slash.

Source: nginx, ngx_http_core_module ("absolute_redirect", "server_name_in_redirect",
"port_in_redirect"); measured.
"""

from __future__ import annotations

from ecumen.engines.nginx.config import Conf
from ecumen.engines.nginx.uri import escaped_path


def own_address(
    conf: Conf, *, sealed: bool, address: str, port: int, first_name: str, host: str
) -> str:
    """Scheme, name and port that the server gives as its own.

    address: to which the request came. first_name: the server's; "" is given as nothing at all.
    host: the name that was asked for; "" for none.
    """
    scheme, usual = ("https", 443) if sealed else ("http", 80)
    name = first_name if conf.own_name else host
    if not name and not conf.own_name:
        name = f"[{address}]" if ":" in address else address
    shown = f":{port}" if conf.own_port and port != usual else ""
    return f"{scheme}://{name}{shown}"


def folder_address(path: str, query: str) -> str:
    """The address of a folder that was asked for without its slash. path: decoded."""
    return f"{escaped_path(path)}/" + (f"?{query}" if query else "")
