"""Every `%` of httpd's table and the variables of nginx's logs, written by the real servers about
odd requests: each line is read, with its method, path and moment.
"""

from __future__ import annotations

import socket
import time
from datetime import UTC, datetime
from pathlib import Path

import pytest

from ecumen.logs.entry import EntryReader, LogEntry
from ecumen.logs.forms import form_of
from ecumen.logs.tally import Counting
from tests.worlds.live import httpd, nginx
from tests.worlds.plain import open_way, plain_head

pytestmark = [pytest.mark.server, pytest.mark.apart]
# httpd 2.4, mod_log_config, "Custom Log Formats", and mod_logio's three.
_LETTERS = (
    "%% %a %{c}a %A %B %b %{sid}C %D %{HOME}e %f %h %{c}h %H %{User-Agent}i %{X-Odd}i %k %l %L %m "
    "%{dialog}n %{Content-Type}o %p %{canonical}p %{local}p %{remote}p %P %{tid}P %{hextid}P %q "
    "%R %s %>s %T %{s}T %{ms}T %{us}T %u %U %v %V %X %I %O %S %{Accept}^ti %!200s "
    "%400,501{User-agent}i %<U %v:%p %V:%{remote}p"
).split(" ")
_TIMES = (
    "%t", "%{%Y-%m-%dT%H:%M:%S%z}t", "%{sec}t", "%{msec}t", "%{usec}t",
    "%{%d/%b/%Y:%T}t.%{msec_frac}t %{%z}t", "%{begin:%F %T}t", "%{end:%a, %e %B %Y %r %z}t",
    "%{%D %R}t", "%{%c}t", "%{%s}t.%{usec_frac}t", "%{%j %y %k}t", "%{%Y}t-%{%m}t-%{%d}t %{%H}t",
)  # fmt: skip
_VARIABLES = (
    "$remote_addr $remote_user $remote_port $host $http_host $server_name $server_addr "
    "$server_port $server_protocol $scheme $request_method $request_uri $uri $args $is_args "
    "$query_string $status $body_bytes_sent $bytes_sent $request_length $request_time $pipe "
    "$connection $connection_requests $msec $nginx_version $pid $hostname $request_id "
    "$request_filename $document_root $http_user_agent $http_referer $sent_http_content_type "
    "$upstream_addr $upstream_status $upstream_response_time $gzip_ratio $ssl_protocol $https "
    "$content_type $content_length $limit_rate $realpath_root $binary_remote_addr"
).split(" ")
_ASKED = (
    ("GET", "/a.txt", "a.test"),
    ("GET", "/none?x=1&y=%20z", "b.test:80"),
    ("HEAD", "/a.txt", "[::1]"),
    ("POST", '/q"uote', "[2001:db8::1]:8080"),
    ("OPTIONS", "/a%09b%0Ac/", "x"),
    ("GET", "/back\\slash", "a.test"),
    ("GET", "/tab\tin", "a.test"),
    ("GET", "/caf\xe9", "a.test."),
)


def _send(address: str, port: int) -> None:
    for method, target, host in _ASKED:
        with socket.create_connection((address, port), 5) as line:
            head = f"{method} {target} HTTP/1.1\r\nHost: {host}\r\nContent-Length: 0\r\n"
            head += 'User-Agent: a "b" \\c\t\r\nX-Odd: 1\r\nConnection: close\r\n\r\n'
            line.sendall(head.encode("latin-1"))
            while line.recv(65536):
                pass


def _checked(path: Path, form: str, *, moment: bool) -> None:
    lines = path.read_bytes().split(b"\n")[:-1]
    # What is refused early may not be logged by every site.
    assert len(lines) >= 6, form
    reader, counting = EntryReader([form_of(form)]), Counting([form_of(form)])
    counting.take(lines)
    tally = counting.tally
    assert tally.rejected == 0, (form, [line for line in lines if reader.read(line)])
    if not moment:
        return
    now = time.time()
    paths = set()
    for line in lines:
        entry = reader.read(line)
        assert isinstance(entry, LogEntry), (form, line, entry)
        # Of a form that tells no minutes, or no seconds, only the hour is known.
        assert abs(entry.at - now) < 3700, (form, line, datetime.fromtimestamp(entry.at, UTC))
        paths.add((entry.method, entry.path))
    assert {(b"GET", b"/a.txt"), (b"GET", b"/back\\slash")} <= paths, form
    assert (b"OPTIONS", b"/a%09b%0Ac/") in paths, form


def test_lines_of_httpd_are_read_whatever_the_format_holds(tmp_path: Path) -> None:
    base = tmp_path
    open_way(base)
    (base / "www").mkdir()
    (base / "www" / "a.txt").write_text("x")
    forms = [f'{each} "%r" %>s {time}' for each in _LETTERS for time in _TIMES[:1]]
    forms += [f'%h {each} "%r" %>s %b' for each in _TIMES]
    logs = [
        'CustomLog {} "{}"'.format(
            base / f"{n}.log", form.replace("\\", "\\\\").replace('"', '\\"')
        )
        for n, form in enumerate(forms)
    ]
    more = ["LoadModule logio_module /usr/lib/apache2/modules/mod_logio.so"]
    more = [line for line in more if Path(line.split()[-1]).exists()]
    config = base / "httpd.conf"
    text = plain_head(base, "127.0.0.61", 8093)
    config.write_text(text + "\n".join([*more, f"DocumentRoot {base}/www", *logs]) + "\n")
    with httpd(config, "127.0.0.61", 8093):
        _send("127.0.0.61", 8093)
    for number, form in enumerate(forms):
        _checked(base / f"{number}.log", form, moment=True)


def test_lines_of_nginx_are_read_whatever_the_format_holds(tmp_path: Path) -> None:
    base = tmp_path
    open_way(base)
    (base / "www").mkdir()
    (base / "logs").mkdir()
    (base / "www" / "a.txt").write_text("x")
    forms = [f'[$time_local] {each} "$request" $status' for each in _VARIABLES]
    whole = [
        f'$remote_addr {at} "$request" $status $body_bytes_sent'
        for at in ("[$time_local]", "$time_iso8601", "$msec")
    ]
    forms += [f"{kind}{form}" for kind in ("", "escape=json ") for form in whole]
    lines = []
    for number, form in enumerate(forms):
        escape = "escape=json " if form.startswith("escape") else ""
        lines.append(f"log_format f{number} {escape}'{form.removeprefix(escape)}';")
    lines += [f"access_log {base}/{n}.log f{n};" for n in range(len(forms))]
    config = base / "nginx.conf"
    config.write_text(
        f"user www-data; pid {base}/pid; error_log {base}/logs/error; events {{}}\n"
        "http {\n"
        + "\n".join(lines)
        + f"\nserver {{ listen 127.0.0.61:8093; root {base}/www; }} }}\n"
    )
    with nginx(config, "127.0.0.61", 8093):
        _send("127.0.0.61", 8093)
    for number, form in enumerate(forms):
        _checked(base / f"{number}.log", form, moment=True)
