"""Within the small machine: sites with types of all kinds, both servers confined, what they say.

It runs by itself, with nothing but Python's own library; the seed stands in /job/seed.
"""

from __future__ import annotations

import errno
import json
import os
import random
import socket
import subprocess
import time
import zlib
from collections.abc import Iterator

ROOT = "/srv/w"
OPEN = "httpd_sys_content_t"
TYPES = (
    [OPEN] * 9
    + """
    default_t user_home_t user_home_dir_t shadow_t var_t etc_t usr_t tmp_t public_content_t
    var_log_t bin_t httpd_config_t var_lib_t home_root_t
""".split()
)
PORTS = (80, 8008)
HTTPD_MODULES = """
    mpm_event authz_core authz_host dir mime autoindex alias rewrite negotiation authn_core
    auth_basic authz_user authn_file
""".split()


STATES = 4  # of the switches
SWITCHES = "/sys/fs/selinux/booleans"


def label(path: str, kind: str) -> None:
    level = "s0:c1" if zlib.crc32(path.encode()) % 20 == 0 else "s0"
    context = f"system_u:object_r:{kind}:{level}\0".encode()
    try:
        os.setxattr(path, "security.selinux", context, follow_symlinks=False)
    except OSError as error:
        if error.errno != errno.EOPNOTSUPP:
            raise


def turned(rng: random.Random) -> None:
    """Another state of the switches that bear on the servers' domain."""
    for name in sorted(os.listdir(SWITCHES)):
        if "httpd" in name and rng.random() < 0.5:
            with open(f"{SWITCHES}/{name}", "w") as stream:
                stream.write(rng.choice("01"))
    with open("/sys/fs/selinux/commit_pending_bools", "w") as stream:
        stream.write("1")


def write(path: str, text: str, kind: str) -> None:
    with open(path, "w") as stream:
        stream.write(text)
    label(path, kind)


def site(rng: random.Random, number: int) -> tuple[str, list[str]]:
    """A root with its paths to ask for."""
    root = f"{ROOT}/s{number}"
    os.makedirs(root)
    mounted = rng.random() < 0.1
    if mounted:
        # What lies there has no context but that of the mount.
        kind = rng.choice([OPEN, OPEN, "user_home_t"])
        told = f"mode=755,context=system_u:object_r:{kind}:s0"
        run("mount", "-t", "tmpfs", "-o", told, "tmpfs", root)
    else:
        label(root, rng.choice([OPEN] * 6 + TYPES))
    asked = ["/", "/nope", "/nope/x"]
    for at in range(4):
        folder = f"{root}/d{at}"
        os.makedirs(folder)
        for name in rng.sample(
            ["index.html", "alt.html", "a.txt", "b.html", ".htaccess"], rng.randint(1, 4)
        ):
            override = name == ".htaccess"
            text = rng.choice(["", "", "Bogus\n"]) if override else f"{number} {at} {name}\n"
            write(f"{folder}/{name}", text, rng.choice(TYPES))
            asked += [] if override else [f"/d{at}/{name}"]
            asked += [f"/d{at}/{name}/more"] if rng.random() < 0.2 else []
        if rng.random() < 0.4:
            target = rng.choice(["a.txt", "../d0", "../f0.html", f"{ROOT}/s0/d1", "none"])
            os.symlink(target, f"{folder}/ln")
            label(f"{folder}/ln", rng.choice(TYPES))
            asked += [f"/d{at}/ln", f"/d{at}/ln/", f"/d{at}/ln/a.txt"]
        label(folder, rng.choice(TYPES))
        asked += [f"/d{at}", f"/d{at}/", f"/d{at}/none"]
    for at in range(4):
        write(f"{root}/f{at}.html", "f", rng.choice(TYPES))
        asked.append(f"/f{at}.html")
    for name in ("index.html", "err.html", "fb.html"):
        write(f"{root}/{name}", name, rng.choice([OPEN] * 5 + TYPES))
    return root, asked


def httpd_lines(rng: random.Random, root: str) -> list[str]:
    missing = "RewriteCond %{DOCUMENT_ROOT}%{REQUEST_URI}"
    options = rng.choice(["SymLinksIfOwnerMatch", "None", "Indexes SymLinksIfOwnerMatch"])
    inside = rng.choice(
        [
            ["AllowOverride All"],
            ["AllowOverride All"],
            [f"Options {options}"],
            [f"Options {options}"],
            ["RewriteEngine On", "RewriteCond %{REQUEST_FILENAME} -l", "RewriteRule ^ - [G]",
             "RewriteCond %{REQUEST_FILENAME} !-s", "RewriteRule ^ /fb.html [L]"],
            ["Options +MultiViews +Indexes"],
            ["Options +Indexes", "DirectoryIndex alt.html"],
        ]
    )  # fmt: skip
    return rng.choice(
        [
            [],
            [f"<Directory {root}>", *inside, "</Directory>"],
            [f"<Directory {root}>", *inside, "</Directory>"],
            ["ErrorDocument 403 /err.html", "ErrorDocument 404 /err.html"],
            ["ErrorDocument 403 http://o.test/"],
            ["FallbackResource /fb.html"],
            ["RewriteEngine On", f"{missing} !-f", f"{missing} !-d", "RewriteRule ^ /fb.html"],
            ["DirectoryIndex index.html alt.html"],
            ["<Location />", "AuthType Basic", "AuthName x", "AuthUserFile /etc/none",
             "Require valid-user", "</Location>"],
        ]
    )  # fmt: skip


def httpd(rng: random.Random, roots: list[str]) -> None:
    modules = "/usr/lib/apache2/modules"
    lines = ["ServerRoot /etc/apache2", "PidFile /run/apache2/t.pid",
             "ErrorLog /var/log/apache2/t.log"]  # fmt: skip
    lines += [f"LoadModule {m}_module {modules}/mod_{m}.so" for m in HTTPD_MODULES]
    lines += [f"Listen {PORTS[0]}", "User www-data", "Group www-data", "ServerName m.test",
              "TypesConfig /etc/mime.types", "<Directory />", "AllowOverride None",
              "Options FollowSymLinks", "Require all granted", "</Directory>"]  # fmt: skip
    for number, root in enumerate(roots):
        lines += [f"<VirtualHost *:{PORTS[0]}>", f"ServerName s{number}.test"]
        lines += [f"DocumentRoot {root}", *httpd_lines(rng, root), "</VirtualHost>"]
    os.makedirs("/run/apache2", exist_ok=True)
    with open("/etc/apache2/t.conf", "w") as stream:
        stream.write("\n".join(lines) + "\n")


def nginx(rng: random.Random, roots: list[str]) -> None:
    text = "user www-data; pid /run/tn.pid; error_log /var/log/nginx/t.log;\nevents {}\n"
    text += "http { include /etc/nginx/mime.types; access_log off;\n"
    for number, root in enumerate(roots):
        lines = rng.choice(
            [
                "",
                "try_files $uri $uri/ /fb.html;",
                "try_files $uri =404;",
                "if (!-e $request_filename) { return 418; }",
                "if (-f $request_filename) { return 410; }",
                "error_page 403 =200 /err.html;",
                "error_page 403 http://o.test/;",
                "error_page 404 /err.html; error_page 403 = @n; location @n { return 204; }",
                "autoindex on;",
                "index alt.html index.html;",
                "disable_symlinks if_not_owner;",
                f"location /d1 {{ alias {root}/d2; }}",
            ]
        )
        text += (
            f"server {{ listen {PORTS[1]}; server_name s{number}.test; root {root}; {lines} }}\n"
        )
    with open("/etc/nginx/t.conf", "w") as stream:
        stream.write(text + "}\n")


def ask(port: int, name: str, method: str, path: str) -> int | None:
    """The status; None for no answer."""
    request = f"{method} {path} HTTP/1.1\r\nHost: {name}:{port}\r\nConnection: close\r\n"
    data = b""
    try:
        with socket.create_connection(("127.0.0.1", port), 10) as link:
            link.sendall(f"{request}Content-Length: 0\r\n\r\n".encode())
            while more := link.recv(65536):
                data += more
        return int(data.split()[1])
    except (OSError, IndexError, ValueError):
        return None


def run(*command: str) -> None:
    subprocess.run(command, check=True)


def main() -> None:
    with open("/job/seed") as stream:
        rng = random.Random(int(stream.read()))
    os.makedirs(ROOT)
    label(ROOT, OPEN)
    sites = [site(rng, number) for number in range(12)]
    roots = [root for root, _ in sites]
    httpd(rng, roots)
    nginx(rng, roots)
    run("restorecon", "-RF", "/etc/apache2", "/etc/nginx", "/run/apache2",
        "/var/log/apache2", "/var/log/nginx")  # fmt: skip
    # By the system itself, so that both run in their own domain.
    run("systemd-run", "--unit=th", "/usr/sbin/apache2", "-f", "/etc/apache2/t.conf",
        "-DFOREGROUND")  # fmt: skip
    run("systemd-run", "--unit=tn", "/usr/sbin/nginx", "-c", "/etc/nginx/t.conf",
        "-g", "daemon off;")  # fmt: skip
    time.sleep(8)
    for state in range(STATES):
        if state:
            turned(rng)
        rows = list(answers(rng, [paths for _, paths in sites]))
        with open(f"/out/truth-{state}.json", "w") as out:
            json.dump({"switches": switches(), "rows": rows}, out)
        survey(f"/out/survey-{state}")
        # They take minutes here, and the policy stays as it is but for its switches.
        for tool in ("sesearch", "seinfo"):
            if os.path.exists(f"/usr/bin/{tool}"):
                os.unlink(f"/usr/bin/{tool}")


def switches() -> dict[str, bool]:
    found = {}
    for name in os.listdir(SWITCHES):
        with open(f"{SWITCHES}/{name}") as stream:
            found[name] = stream.read().startswith("1")
    return found


def answers(rng: random.Random, paths_of: list[list[str]]) -> Iterator[dict[str, object]]:
    for number, paths in enumerate(paths_of):
        for port in PORTS:
            for path in paths:
                for method in ("GET", rng.choice(["OPTIONS", "PUT", "POST", "HEAD"])):
                    row = {"url": f"http://s{number}.test:{port}{path}", "method": method,
                           "to": "127.0.0.1", "from": "127.0.0.1"}  # fmt: skip
                    status = ask(port, f"s{number}.test", method, path)
                    yield {"asked": row, "status": status}


def survey(out: str) -> None:
    words = [f"--engine={kind}:/etc/{folder}/t.conf"
             for kind, folder in (("httpd", "apache2"), ("nginx", "nginx"))]  # fmt: skip
    code = "from ecumen_cli.main import main; main()"
    env = os.environ | {"PYTHONPATH": "/job/src:/job/site", "ECUMEN_STATE": "/tmp/state"}
    subprocess.run(["python3", "-c", code, "survey", *words, "--out", out], env=env, check=False)


if __name__ == "__main__":
    main()
