"""What whoever has taken over the web part may ask of the agent: nothing that makes them root."""

from __future__ import annotations

import random
from collections.abc import Iterator
from pathlib import Path

import pytest

from ecumen.engines.httpd import lexer as httpd_lexer
from ecumen.engines.nginx import lexer as nginx_lexer
from ecumen.operations import Operation
from ecumen.operations.acl import AclGrant
from ecumen.operations.context import Context
from ecumen.operations.digest import digest
from ecumen.operations.file import File
from ecumen.operations.folder import Folder
from ecumen.operations.homes import NewHomes
from ecumen.operations.hosts import Hosts
from ecumen.operations.link import Link
from ecumen.operations.mode import Mode
from ecumen.operations.owner import Owner, OwningGroup
from ecumen.operations.reload import Reload
from ecumen.operations.remove import Remove
from ecumen.operations.rename import Rename
from ecumen.operations.rotation import Rotation
from ecumen.operations.running import Start, Stop
from ecumen.operations.switch import Switch
from ecumen_agent.bounds import Bounds, BoundsError, read_bounds
from ecumen_agent.lines import LineError, read_lines

SITE, HTTPD, NGINX = "/srv/choir", "/etc/apache2/sites-available", "/etc/nginx/sites-enabled"
BOUNDS = Bounds()


def file(path: str, text: str, mode: str = "0644", owner: int = 0, group: int = 0) -> File:
    return File(path, "", digest(text.encode()), text, mode, owner, group)


def httpd(line: str, name: str = "x.conf") -> File:
    text = f"<VirtualHost *:80>\nServerName a.test\n{line}\n</VirtualHost>\n"
    return file(f"{HTTPD}/{name}", text)


def nginx(line: str) -> File:
    return file(f"{NGINX}/x", f"server {{\n listen 80;\n {line}\n}}\n")


def rotation(name: str, log: str, by: str) -> Rotation:
    return Rotation(f"/etc/logrotate.d/{name}", "", (log,), user=by, group=by)


def acl(path: str, perms: str) -> AclGrant:
    was = "user::rwx,group::r-x,other::---"
    to = f"user::rwx,user:1001:{perms},group::r-x,mask::r-x,other::---"
    return AclGrant(path, was, to, None, f"user:ines:{perms}")


# Each would give more than the files of sites: a program that runs as root, a file where root's
# programs look for one, what only root may read.
WAYS: list[Operation] = [
    Mode("/etc/shadow", "0640", "0644"), Mode("/usr/bin/env", "0755", "4755"),
    Mode(f"{SITE}/x", "0755", "4755"), Mode(f"{SITE}/x", "0755", "2755"),
    Mode(f"{SITE}/d", "4755", "4755", (("0644", 3),)), Mode("/home/ines", "0700", "0755"),
    Mode("/home/ines/.ssh", "0700", "0711"), Mode("/home", "0755", "0777"),
    Mode("/", "0755", "0777"),
    Mode("/srv", "0755", "0777"), Mode(f"{HTTPD}/x.conf", "0644", "0666"),
    Mode(HTTPD, "0755", "0777"), Mode("/srv/../etc/shadow", "0640", "0644"),
    Mode("/srv/choir/../../etc/shadow", "0640", "0644"), Mode("/srv/choir//x", "0640", "0644"),
    Mode("/srv/choir/./x", "0640", "0644"), Mode("/home/ines", "0711", "0700"),
    Mode("/home/ines", "0700", "0711", (("0600", 4),)),
    Mode("/var/lib/ecumen-agent", "0700", "0755"),
    Owner("/etc/passwd", "0", "1001"), Owner(f"{SITE}/x", "1001", "0"),
    Owner(f"{SITE}/x", "1001", "5"),
    Owner(f"{HTTPD}/x.conf", "0", "1001"), Owner("/home/ines", "0", "1001"),
    OwningGroup(f"{SITE}/x", "1001", "0"), OwningGroup(f"{SITE}/x", "1001", "42"),
    acl("/etc/shadow", "r--"), acl("/home/ines", "r-x"), acl("/home/ines/.ssh", "--x"),
    acl(f"{HTTPD}/x.conf", "rw-"),
    Context(f"{SITE}/x", "", "system_u:object_r:shadow_t:s0"), Context(f"{SITE}/x", "", "bogus"),
    Context("/etc/shadow", "", "system_u:object_r:httpd_sys_content_t:s0"),
    rotation("apache2", f"{SITE}/log/a", "games"), rotation("ecumen-x", f"{SITE}/log/a", ""),
    rotation("ecumen-x", f"{SITE}/log/a", "root"), rotation("ecumen-x", "/etc/passwd", "games"),
    rotation("ecumen-x", f"{SITE}/log/a", "nosuch"), rotation("ecumen-x", "/var/log/auth.log", ""),
    NewHomes("useradd", "0700", "0755"), NewHomes("adduser", "0700", "0777"),
    Folder("/etc/skel/.ssh", "0755", 0, 0), Folder("/etc/skel/public_html", "0777", 0, 0),
    Hosts("mirror.example", "", "192.0.2.66"), Hosts("choir.example", "192.0.2.1", ""),
    Switch("secure_mode_insmod", "on", "off"), Switch("deny_ptrace", "on", "off"),
    Folder("/etc/cron.d/x", "0777", 1001, 1001), Folder(f"{SITE}/x", "4755", 1001, 1001),
    Folder(f"{SITE}/x", "0775", 0, 0), Folder(f"{HTTPD}/x.conf", "0755", 1001, 1001),
    Link(f"{SITE}/x", "/etc/shadow"), Link(f"{SITE}/x", "../../etc/shadow"), Link("/etc/x", "y"),
    Link("/etc/nginx/sites-enabled/x", "/srv/choir/x"),
    Link("/etc/apache2/sites-enabled/x.conf", "../../../home/ines/x"),
    file("/etc/cron.d/x", "* * * * * root id\n"), file("/root/.ssh/authorized_keys", "key"),
    file(f"{SITE}/x", "x", "4755", 1001, 1001), file(f"{SITE}/x", "x", "0644", 0, 0),
    file(f"{HTTPD}/x.conf", "ServerName a\n", owner=1001), file(f"{HTTPD}/x.conf", "", "0666"),
    file("/etc/apache2/envvars", "export X=$(id)"), file("/etc/apache2/mods-enabled/x.load", "x"),
    file(f"{HTTPD}/sub/x.conf", "ServerName a\n"),
    Remove("/etc/passwd", "file 0644 0:0"), Remove("/srv", "dir 0755 0:0"),
    Remove(HTTPD, "dir 0755 0:0"), Remove("/home/ines", "dir 0755 1001:1001"),
    Rename(f"{SITE}/x", f"{HTTPD}/x.conf", "file 0644 0:0"),
    Rename(f"{HTTPD}/x.conf", f"{SITE}/x", "file 0644 0:0"),
    Rename(f"{SITE}/x", "/etc/cron.d/x", "file 0644 0:0"),
    Rename("/etc/shadow", f"{SITE}/x", "file 0644 0:0"), Reload("sshd"), Stop("sshd"),
    Start("sshd"),
    *map(httpd, (
        "ErrorLog /etc/cron.d/x", 'ErrorLog "|/bin/sh -c id"', "ErrorLog '||id'", "CustomLog |id x",
        "CustomLog /var/log/apache2/../../../etc/cron.d/x combined", "ErrorLog syslog:x",
        "ErrorLog logs/x", "LoadModule x /srv/choir/x.so", "LoadFile /srv/choir/x.so",
        "Include /srv/choir/x.conf", "IncludeOptional /etc/shadow", "User root", "Group root",
        "PidFile /etc/x", "ScriptSock /etc/x", "ScriptLog /etc/cron.d/x", "Define X /etc",
        "ErrorLog ${X}/y", "ErrorLog ${APACHE_LOG_DIR}/../x", "ErrorLog ${APACHE_LOG_DIR}x",
        "SSLCertificateKeyFile /etc/shadow", "SSLPassPhraseDialog exec:/srv/x",
        "SSLCertificateKeyFile /etc/ssl/../shadow", "RewriteMap x prg:/srv/choir/x",
        "DocumentRoot /etc", "DocumentRoot /", "Alias /x /etc", "AliasMatch ^/(.*) /$1",
        "ScriptAlias /x /bin/", "Options ExecCGI", "Options +Includes", "Options All",
        "Mutex file:/etc", "CoreDumpDirectory /etc", "ServerRoot /srv/choir", "Listen 81",
        "ProxyPass /x balancer://y", "ProxyPass /x unix.sock", "<Perl>\n</Perl>", "PerlRequire /x",
        "php_admin_value sendmail_path id", "SetEnv LD_PRELOAD /x", "Error\\\nLog /etc/x",
        "ServerName b \\\\\nErrorLog /etc/x", "TransferLog\t/etc/cron.d/x", "eRRORlOG /etc/x",
        '"ErrorLog" /etc/x', "ErrorLog\v/etc/x", "</VirtualHost>\nUser root\n<VirtualHost *:81>",
        "<Macro x>\n</Macro>", "Use x", "# a comment\nChrootDir /srv/choir",
    )),
    *map(nginx, (
        "error_log /etc/cron.d/x;", "access_log /etc/cron.d/x;", "access_log logs/x;",
        "access_log /var/log/nginx/../../../etc/x;", "error_log syslog:server=a;",
        "include /srv/choir/x;", "include /etc/shadow;", "types { include /etc/shadow; }",
        "load_module /srv/x.so;", "} user root; server {", "ssl_certificate_key /etc/shadow;",
        "ssl_certificate_key engine:x:y;", "ssl_certificate data:$x;", "root /etc;", "root /;",
        "root $document_root;", "root /srv/$host;", "alias /etc/;", "perl 'sub {}';",
        "content_by_lua_block { os.execute('id') }", "client_body_temp_path /etc/x;",
        "proxy_cache_path /etc/x keys_zone=a:1m;", "\"error_log\" /etc/x;", "error_lo\\g /etc/x;",
        "error_log /var/log/nginx/x; error_log /etc/x;", "return 200 'x' ; access_log\n/etc/x;",
        "return 200 \"}\"; error_log /etc/x;", "# \n error_log /etc/x;", "pid /etc/x;",
        "location / { root /srv/choir/../../etc; }", "ssl_dhparam /etc/shadow;",
    )),
]  # fmt: skip


def test_no_way_to_become_root_is_within_the_bounds() -> None:
    assert len(WAYS) >= 60
    for way in WAYS:
        with pytest.raises(BoundsError):
            BOUNDS.check(way)


GOOD: list[Operation] = [
    Mode(f"{SITE}/x", "0600", "0644"), Mode("/home/ines", "0700", "0711"), acl("/home/ines", "--x"),
    Mode("/home/ines/public_html/a", "0600", "0644"), Owner(f"{SITE}/x", "0", "1001"),
    Mode(f"{SITE}/old", "4755", "4750"), Mode(f"{HTTPD}/x.conf", "0600", "0644"),
    Folder("/home/ines/public_html", "0755", 1001, 1001), Link(f"{SITE}/now", "releases/7"),
    Folder(f"{SITE}/x", "0755", 0, 0),
    Link("/etc/apache2/sites-enabled/x.conf", "../sites-available/x.conf"),
    Link("/etc/nginx/sites-enabled/x", "/etc/nginx/sites-available/x"),
    Remove("/etc/nginx/sites-enabled/x", "link 0777 0:0 -> /etc/nginx/sites-available/x"),
    Rename(f"{HTTPD}/x.conf", f"{HTTPD}/y.conf", "file 0644 0:0"), Reload("httpd"), Start("httpd"),
    file(f"{SITE}/index.html", "<p>", "0644", 1001, 1001),
    Switch("httpd_enable_homedirs", "off", "on"),
    Context(f"{SITE}/x", "", "system_u:object_r:httpd_sys_content_t:s0"),
    *map(httpd, (
        "DocumentRoot /srv/choir", "DocumentRoot \"/srv/a 'b/c\"", "Alias /x /srv/choir/y",
        "ErrorLog ${APACHE_LOG_DIR}/choir.log", "CustomLog /var/log/apache2/choir.log combined",
        "<Directory /srv/choir>\nOptions -Indexes\nRequire all granted\n</Directory>",
        "SSLCertificateFile /etc/ssl/certs/a.pem", "ProxyPass / http://127.0.0.1:8000/",
    "# nothing",
        "<Location /x>\nProxyPass unix:/run/x.sock|http://x/\n</Location>", "Options None",
        'RewriteRule "^/(a|b) c$" \\\n  /d [R=301,L]',
    "<IfModule mod_ssl.c>\nSSLEngine on\n</IfModule>",
    )),
    *map(nginx, (
        "root /srv/choir;", "root /srv/choir/$host;", "access_log off;", "root \"/srv/a b\";",
        "error_log /var/log/nginx/choir.log warn;", "include fastcgi_params;",
        "location ~ \\.php$ { fastcgi_pass unix:/run/x; include snippets/fastcgi-php.conf; }",
        "location ~* \"^/a{2}$\" { return 301 https://$host$request_uri; }", "types { text/x x; }",
        "if ($http_x = 'a b') { return 403; }", "ssl_certificate /etc/ssl/a.pem;",
    )),
]  # fmt: skip


def test_what_administrators_do_all_day_is_within_the_bounds() -> None:
    for each in GOOD:
        BOUNDS.check(each)


def test_the_administrator_widens_them_in_a_file_of_roots(tmp_path: Path) -> None:
    path = tmp_path / "agent.toml"
    path.write_text(
        'grounds = ["/data/*/web"]\naccounts = [33]\ngroups = [33]\nnames = ["*.example"]\n'
        '[lines]\nhttpd = ["ScriptAlias"]\n'
        '[configuration]\nhttpd = ["/etc/httpd/conf.d"]\n'
    )
    path.chmod(0o644)
    wider = read_bounds(str(path))
    wider.check(Mode("/data/choir/web/x", "0600", "0644"))
    wider.check(Owner("/data/choir/web/x", "1000", "33"))
    wider.check(Hosts("Choir.example", "", "192.0.2.1"))
    wider.check(NewHomes("useradd", "0700", "0711"))
    wider.check(rotation("ecumen-x", "/data/choir/web/log", "www-data"))
    wider.check(rotation("ecumen-x", "/var/log/nginx/choir", ""))
    wider.check(file("/etc/httpd/conf.d/a.conf", "ScriptAlias /x /data/choir/web/cgi\n"))
    for beyond in (Mode(f"{SITE}/x", "0600", "0644"), Reload("nginx")):
        with pytest.raises(BoundsError):
            wider.check(beyond)
    path.chmod(0o666)
    with pytest.raises(BoundsError, match="root alone"):
        read_bounds(str(path))
    path.chmod(0o644)
    for wrong in ("x = 1", "grounds = 7", 'grounds = ["srv"]', "grounds = [", "lines = 1"):
        path.write_text(wrong)
        with pytest.raises(BoundsError, match=str(path)):
            read_bounds(str(path))
    assert read_bounds(str(tmp_path / "none")) == Bounds()


# --- the small reader beside the one that agrees with the servers ---

PIECES = (
    "ServerName", "a.test", " ", "  ", "\t", "\n", "\\\n", "\\", "\\\\", '"', "'", "#", "<If x>",
    "</If>", "<", ">", ";", "{", "}", "server", "root", "/srv/choir", "$x", "${x}", "(", ")", "~",
    "location", "\\.php$", "a{2}", "ErrorLog", "é", "\udcff", "\v", "x",
    "listen 80;", "return 200;",
)  # fmt: skip


def read_by(engine: str, text: str) -> list[tuple[str, ...]] | None:
    """What it reads; None for what it refuses to read, and for blocks that do not fit."""
    depth, found = 0, []
    try:
        for line in read_lines(engine, text):
            depth += line.block - line.closes
            if depth < 0:
                return None
            if not line.closes:
                found.append(line.words)
    except LineError:
        return None
    return None if depth else found


def theirs(engine: str, text: str) -> list[tuple[str, ...]]:
    if engine == "nginx":
        lines: list[nginx_lexer.Line] = []
        nginx_lexer.Lexer().read(text, "x", lines, lambda line, into: into.append(line))
        return list(flat(lines))
    found = []
    for _, line in httpd_lexer.logical_lines(text):
        name, rest = httpd_lexer.next_word(line)
        if not name.startswith("<"):
            found.append((name, *httpd_lexer.words(rest)))
        elif not name.startswith("</"):
            inner = line[1 : line.rfind(">")]
            found.append(tuple(httpd_lexer.words(inner)))
    return found


def flat(lines: list[nginx_lexer.Line]) -> Iterator[tuple[str, ...]]:
    for line in lines:
        yield line.name, *line.args
        yield from flat(line.children or [])


@pytest.mark.parametrize("engine", ["httpd", "nginx"])
def test_what_it_reads_the_servers_read_alike(engine: str, seed: int) -> None:
    rng, read = random.Random(seed), 0
    for _ in range(40_000):
        text = "".join(rng.choices(PIECES, k=rng.randint(1, 14)))
        ours = read_by(engine, text)
        if ours is None:
            continue
        read += 1
        assert ours == theirs(engine, text), repr(text)
    assert read > 2000
