"""One configuration of a package beside the real server, in name spaces of its own: started by
`tests.corpus.run` as `unshare -m -n python -m tests.corpus.inside JOB`, JOB in JSON on the command
line. What it finds goes to standard output, in JSON.
"""

from __future__ import annotations

import json
import os
import random
import re
import subprocess
import sys
import tempfile
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from pathlib import Path

from ecumen.passage import Follower
from ecumen.passage.request import request_of
from ecumen_machine import EngineSpec, take_survey
from tests.worlds.agreement import differences
from tests.worlds.live import ask, httpd, nginx

ADDRESS, PORT = "127.0.0.1", 80
MODULES = (
    "mpm_event authz_core authz_host authz_user authn_core authn_file auth_basic access_compat "
    "alias dir autoindex mime negotiation env setenvif filter deflate reqtimeout status rewrite "
    "headers expires actions include cgid proxy proxy_http proxy_fcgi dav dav_fs macro ssl "
    "socache_shmcb userdir"
).split()
# What the packages of the server set up around each part, on Debian 12.
HTTPD = """\
ServerRoot /etc/apache2
ServerName main.test
PidFile {base}/pid
ErrorLog {base}/logs/error
ScriptSock {base}/programs
User www-data
Group www-data
Listen 80
Define APACHE_LOG_DIR {base}/logs
Define APACHE_RUN_DIR {base}
TypesConfig /etc/mime.types
DocumentRoot /var/www/html
DirectoryIndex index.html index.cgi index.pl index.php index.xhtml index.htm
<Directory />
Options FollowSymLinks
AllowOverride None
Require all denied
</Directory>
<Directory /usr/share>
AllowOverride None
Require all granted
</Directory>
<Directory /var/www/>
Options Indexes FollowSymLinks
AllowOverride None
Require all granted
</Directory>
<FilesMatch "^\\.ht">
Require all denied
</FilesMatch>
"""
NGINX = """\
user www-data;
pid {base}/pid;
error_log {base}/logs/error;
events {{}}
http {{
include /etc/nginx/mime.types;
default_type application/octet-stream;
access_log off;
{inner}
}}
"""
ALONE = (
    "server {{ listen 80; server_name {name}; root /var/www/html; index index.html; {include} }}"
)
# Modules of other packages, which only some need: by the words that ask for them.
OTHERS = {"wsgi": r"\bWSGI", "fcgid": r"\bFcgid|\bfcgid-script"}
_MAPS = re.compile(
    r"^\s*(?:WSGI|Script)?Alias(?:Match)?\s+(\S+)\s+(\S+)|^\s*alias\s+([^;\s]+)", re.M | re.I
)
_PLACES = re.compile(
    r"^\s*(?:<Location(?:Match)?|ProxyPass|Redirect(?:Match)?(?:\s+\w+)?|location)\s+"
    r"(?:(?:=|~\*?|\^~)\s+)?([^\s>{]+)",
    re.M | re.I,
)
_ROOTS = re.compile(r"^\s*(?:DocumentRoot|root)\s+([^;\s]+)", re.M | re.I)
_NAMES = re.compile(r"^\s*(?:ServerName|server_name)\s+([\w.-]+)", re.M | re.I)
_MOST_FILES = 30


def laid_over(layers: list[str], room: str) -> None:
    """The packages' trees over this machine's own, for this process alone."""
    subprocess.run(["mount", "-t", "tmpfs", "none", room], check=True)
    for top in ("usr", "etc", "var", "srv", "opt"):
        trees = [f"{layer}/{top}" for layer in layers if Path(layer, top).is_dir()]
        if not trees:
            continue
        for name in ("up", "work"):
            os.makedirs(f"{room}/{top}/{name}")
        where = f"upperdir={room}/{top}/up,workdir={room}/{top}/work"
        options = f"lowerdir={':'.join([*trees, f'/{top}'])},{where}"
        subprocess.run(["mount", "-t", "overlay", "-o", options, "none", f"/{top}"], check=True)
    subprocess.run(["ip", "link", "set", "lo", "up"], check=True)


def configured(kind: str, paths: list[str], base: Path) -> Path:
    """The packages' parts as they are included on Debian, where the server looks for what they name
    besides.
    """
    config = Path("/etc/apache2" if kind == "httpd" else "/etc/nginx") / "server.conf"
    if kind == "httpd":
        text = "".join(Path(path).read_text(errors="replace") for path in paths)
        others = [name for name, word in OTHERS.items() if re.search(word, text)]
        there = [
            name for name in others if Path(f"/usr/lib/apache2/modules/mod_{name}.so").exists()
        ]
        loaded = [
            f"LoadModule {n}_module /usr/lib/apache2/modules/mod_{n}.so" for n in (*MODULES, *there)
        ]
        parts = [f'Include "{path}"' for path in paths]
        config.write_text("\n".join([*loaded, HTTPD.format(base=base), *parts]) + "\n")
        return config
    texts = [(path, Path(path).read_text(errors="replace")) for path in paths]
    if len(paths) == 1 and re.search(r"^\s*http\s*\{", texts[0][1], re.M):
        config.write_text(texts[0][1])
        return config
    inner = []
    for number, (path, text) in enumerate(texts):
        include = f"include {path};"
        whole = re.search(r"^\s*(server|upstream|map)\b.*\{", text, re.M)
        inner.append(include if whole else ALONE.format(include=include, name=_own_name(number)))
    config.write_text(NGINX.format(base=base, inner="\n".join(inner)))
    return config


def _own_name(number: int) -> str:
    return f"part{number}.test"


def fault(kind: str, config: Path, base: Path) -> str | None:
    """Why the server would not take this, in its own words."""
    program = ["apache2", "-f", str(config), "-t"]
    if kind == "nginx":
        program = ["nginx", "-c", str(config), "-t", "-e", f"{base}/logs/first"]
    done = subprocess.run(program, capture_output=True, text=True, check=False)
    lines = [line for line in done.stderr.splitlines() if line.strip()]
    return None if done.returncode == 0 else " ".join(lines[-3:])[-300:]


def addresses(text: str, rng: random.Random) -> Iterator[str]:
    """Addresses that the text speaks of, and names of what lies behind them."""
    yield from ("/", "/none", "/none/", "/index.html", "/index.php", "/icons/", "/cgi-bin/x")
    behind: dict[str, str] = {"/": "/var/www/html"}
    for root in _ROOTS.findall(text):
        behind["/"] = root.strip('"')
    prefixes: list[str] = []
    for made, folder, nginx_folder in _MAPS.findall(text):
        if made:
            behind[_plain(made)] = folder.strip('"')
        elif prefixes:
            behind[prefixes[-1]] = nginx_folder
    prefixes += [_plain(each) for each in _PLACES.findall(text)]
    for prefix in dict.fromkeys([*behind, *prefixes]):
        if not prefix.startswith("/"):
            continue
        stem = prefix.rstrip("/")
        yield from (prefix, f"{stem}/", f"{stem}/none", f"{stem}/index.php", f"{stem}/.htaccess")
        yield from (f"{stem}/index.php/more", f"{stem}/a%20b?x=1", f"{stem}//")
    for prefix, folder in behind.items():
        found = list(_below(folder))
        for name in rng.sample(found, min(len(found), _MOST_FILES)):
            yield f"{prefix.rstrip('/')}/{name}"


def _plain(pattern: str) -> str:
    """A literal that an expression may be about."""
    return re.sub(
        r"\\\\?|[\"'^$]|\(\?:?|\([^)]*\)[?*]?|\[[^\]]*\][+*?]?|\.[*+?]|[?*+|()]", "", pattern
    )


def _below(folder: str) -> Iterator[str]:
    count = 0
    for top, folders, files in os.walk(folder):
        folders.sort()
        inner = os.path.relpath(top, folder)
        for name in sorted(files) + [f"{each}/" for each in folders]:
            path = name if inner == "." else f"{inner}/{name}"
            if re.fullmatch(r"[\w./~+@,=-]+", path):
                yield path
            count += 1
            if count > 5000:
                return


def _rows(text: str, number: int, rng: random.Random) -> Iterator[dict[str, object]]:
    names = [name for name in dict.fromkeys(_NAMES.findall(text)) if "." in name]
    names = names or ["main.test", _own_name(number)]
    for path in dict.fromkeys(addresses(text, rng)):
        if not re.fullmatch(r"/[!-~]*", path):
            continue
        method = rng.choices(("GET", "HEAD", "POST", "OPTIONS", "PUT"), (20, 3, 3, 1, 1))[0]
        yield {
            "url": f"http://{rng.choice(names[:5])}:{PORT}{path}",
            "method": method,
            "to": ADDRESS,
            "from": ADDRESS,
        }


def compared(kind: str, paths: list[str], base: Path, seed: int) -> dict[str, object]:
    """What became of each question."""
    (base / "logs").mkdir()
    config = configured(kind, paths, base)
    why = fault(kind, config, base)
    if why is not None:
        return {"refused": why}
    texts = [Path(path).read_text(errors="replace") for path in paths]
    text = "\n".join(texts)
    folders = {each.strip('"') for found in _MAPS.findall(text) for each in found[1:] if each}
    folders |= {each.strip('"') for each in _ROOTS.findall(text)}
    scanned = sorted(each for each in (*folders, "/var/www") if os.path.isdir(each))
    follower = Follower(take_survey([EngineSpec(kind, str(config))], scanned))
    run: Callable[[Path, str, int], AbstractContextManager[None]] = (
        httpd if kind == "httpd" else nginx
    )
    asked = decided = 0
    wrong: list[str] = []
    unsure: Counter[str] = Counter()
    with run(config, ADDRESS, PORT):
        rng = random.Random(seed)
        for row in (row for number, each in enumerate(texts) for row in _rows(each, number, rng)):
            seen = ask(row)
            answer = follower.brief(request_of(row))
            asked += 1
            told = f"{row['method']} {row['url']}"
            if answer["decided"]:
                decided += 1
                wrong += [f"{told}: {one}" for one in differences(answer, seen)]
            else:
                first = next(iter(answer["unsure_because"] or []), {})
                unsure[f"{first.get('reason')} ({first.get('at')})"] += 1
    return {"asked": asked, "decided": decided, "wrong": wrong, "unsure": dict(unsure)}


def main() -> None:
    job = json.loads(sys.argv[1])
    with tempfile.TemporaryDirectory(dir="/srv") as room, tempfile.TemporaryDirectory() as folder:
        base = Path(folder)
        base.chmod(0o755)
        laid_over(job["layers"], room)
        try:
            found = compared(job["kind"], job["paths"], base, job["seed"])
        except RuntimeError as error:
            found = {"refused": str(error)[-300:]}
        finally:
            subprocess.run(["umount", "-l", room], check=False)
        print(json.dumps(found))


if __name__ == "__main__":
    main()
