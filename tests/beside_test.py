"""Ecumen beside the real servers, on what the manuals say one can write: each file in `beside/` is
a few sites with requests to all of them.

A file begins with what is set up: `engine`, `modules`, `files` (mode or kind, owner, path below the
world's folder, and `= text` or `-> target`), `ask` (methods) with the targets below it (`//*.NAME/`
for another name in front of the site's own), `head` (the server as a whole), and one `site` each
with its lines; `@` is the world's folder. `unsure N` says how many answers are known to be left
open, so that no more become so; `sealed` has an nginx expect TLS, which is asked plainly.
"""

from __future__ import annotations

import os
import pwd
import stat
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from ecumen.passage import Follower
from ecumen.passage.request import request_of
from ecumen_machine import EngineSpec, take_survey
from tests.worlds.agreement import ENGINES, differences
from tests.worlds.live import ask
from tests.worlds.plain import MODULES, open_way
from tests.worlds.seals import certificates

pytestmark = [pytest.mark.server, pytest.mark.apart]
# Each process that runs tests beside others has its own port.
ADDRESS, PORT = "127.0.0.1", 18190 + int(os.environ.get("PYTEST_XDIST_WORKER", "gw0")[2:])
CASES = sorted((Path(__file__).parent / "beside").glob("*.txt"))
# What is no plain file: a socket, a pipe, and the device that holds nothing.
_ODD = {
    "socket": stat.S_IFSOCK | 0o777,
    "pipe": stat.S_IFIFO | 0o755,
    "device": stat.S_IFCHR | 0o666,
    "closed-device": stat.S_IFCHR | 0o600,
}
HTTPD = """\
ServerRoot {base}
PidFile {base}/pid
ErrorLog {base}/logs/error
Listen {address}:{port}
User www-data
Group www-data
ServerName main.test
TypesConfig /etc/mime.types
DocumentRoot {base}/root
<Directory />
AllowOverride None
Options FollowSymLinks
Require all granted
</Directory>
"""


@dataclass
class Case:
    """What one file says. asked: methods with targets."""

    engine: str = "httpd"
    modules: list[str] = field(default_factory=list)
    unsure: int = 0
    sealed: bool = False
    files: list[str] = field(default_factory=list)
    asked: list[tuple[str, str]] = field(default_factory=list)
    head: list[str] = field(default_factory=list)
    sites: list[list[str]] = field(default_factory=list)


def read(path: Path) -> Case:
    case, block, methods = Case(), "", ""
    for line in path.read_text().splitlines():
        word, _, rest = line.partition(" ")
        if not line or line.startswith("## "):
            continue
        if word == "sealed" and not block:
            case.sealed = True
        elif word in ("engine", "modules", "unsure") and not block:
            given: object = {"engine": rest, "modules": rest.split(), "unsure": rest}[word]
            setattr(case, word, int(rest) if word == "unsure" else given)
        elif word in ("files", "ask", "head", "site") and not line.startswith(" "):
            block, methods = word, rest
            if word == "site":
                case.sites.append([])
        elif block == "files":
            case.files.append(line.strip())
        elif block == "ask":
            case.asked += [(m, target) for m in methods.split() for target in line.split()]
        else:
            (case.head if block == "head" else case.sites[-1]).append(line)
    return case


def lay_out(base: Path, files: list[str]) -> None:
    """Owners and modes last, the innermost first: a folder may be closed to its maker, too."""
    made: list[tuple[Path, int, str]] = []
    for line in files:
        mode, owner, rest = line.split(" ", 2)
        rest, leads, target = rest.partition(" -> ")
        name, _, text = rest.partition(" = ")
        path = base / name.strip("/")
        if leads:
            path.parent.mkdir(parents=True, exist_ok=True)
            path.symlink_to(target.replace("@", str(base)))
        elif name.endswith("/"):
            path.mkdir(parents=True, exist_ok=True)
        elif mode in _ODD:
            path.parent.mkdir(parents=True, exist_ok=True)
            os.mknod(path, _ODD[mode], os.makedev(1, 3))
            mode = f"{_ODD[mode] & 0o777:o}"
        else:
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text.replace("\\n", "\n").replace("@", str(base)) or name)
        made.append((path, int(mode, 8), owner))
    for path, bits, owner in reversed(made):
        account = pwd.getpwnam(owner)
        os.chown(path, account.pw_uid, account.pw_gid, follow_symlinks=False)
        if not path.is_symlink():
            path.chmod(bits)


def configured(base: Path, case: Case) -> Path:
    (base / "logs").mkdir()
    (base / "sites").mkdir()
    place = {"base": base, "address": ADDRESS, "port": PORT}
    httpd = case.engine == "httpd"
    for number, lines in enumerate(case.sites):
        own = "\n".join(lines).replace("@", str(base))
        if httpd:
            text = f"<VirtualHost *:{PORT}>\nServerName s{number}.test\n"
            text += f"ServerAlias *.s{number}.test\nDocumentRoot {base}/root\n"
            text += f'Header always set X-Site "{number}"\n{own}\n</VirtualHost>\n'
        else:
            ssl = " ssl" if case.sealed else ""
            text = f"server {{ listen {ADDRESS}:{PORT}{ssl}; server_name .s{number}.test;\n"
            text += "" if own.startswith("root ") else f"root {base}/root;\n"
            text += f"add_header X-Site {number} always;\n{own}\n}}\n"
        (base / "sites" / f"{number}.conf").write_text(text)
    head = "\n".join(case.head).replace("@", str(base))
    if case.sealed:
        certificate, key = certificates(base)[0]
        head += f"\nssl_certificate {certificate}; ssl_certificate_key {key};"
    if httpd:
        names = dict.fromkeys((*case.modules, *MODULES, "headers"))
        loaded = [f"LoadModule {n}_module /usr/lib/apache2/modules/mod_{n}.so" for n in names]
        text = "\n".join([*loaded, HTTPD.format(**place), head, f"Include {base}/sites/*.conf"])
    else:
        text = (
            f"user www-data; pid {base}/pid; error_log {base}/logs/error;\nevents {{}}\n"
            f"http {{ include /etc/nginx/mime.types; access_log off;\n{head}\n"
            f"include {base}/sites/*.conf; }}\n"
        )
    config = base / "server.conf"
    config.write_text(text + "\n")
    return config


@pytest.mark.share(3)
@pytest.mark.parametrize("path", CASES, ids=lambda path: path.stem)
def test_the_server_says_the_same(path: Path, tmp_path: Path) -> None:
    case = read(path)
    open_way(tmp_path)
    lay_out(tmp_path, case.files)
    config = configured(tmp_path, case)
    follower = Follower(take_survey([EngineSpec(case.engine, str(config))]))
    wrong: list[str] = []
    unsure: list[str] = []
    statuses: Counter[int | None] = Counter()
    with ENGINES[case.engine][1](config, ADDRESS, PORT):
        for number in range(len(case.sites)):
            for method, target in case.asked:
                name, local = f"s{number}.test", target
                if target.startswith("//*"):
                    # Another name of the site: `//*.a.b/x` is asked as `a.b` in front of its own.
                    front, _, local = target[4:].partition("/")
                    name, local = f"{front}.{name}", f"/{local}"
                row: dict[str, object] = {
                    "url": f"http://{name}:{PORT}{local}",
                    "method": method,
                    "to": ADDRESS,
                    "from": ADDRESS,
                }
                seen = ask(row)
                statuses[seen.status] += 1
                request = request_of(row)
                answer = follower.brief(request)
                assert follower.at_length(request) == answer
                if not answer["decided"]:
                    unsure.append(f"site {number}, {method} {target}: {answer['unsure_because']}")
                else:
                    wrong += [
                        f"site {number}, {method} {target}: {one}"
                        for one in differences(answer, seen)
                    ]
    assert not wrong, "\n".join(wrong[:30])
    assert len(statuses) >= 3, statuses
    assert len(unsure) <= case.unsure, f"{len(unsure)} unsure\n" + "\n".join(unsure[:2000])
