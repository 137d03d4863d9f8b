"""Sites of one kind each: what hosting users write into their configuration and override files."""

from __future__ import annotations

from collections.abc import Callable

from tests.worlds.grounds import PATHS, Ground, Theme, lay


def _opened(ground: Ground, *more: str) -> list[str]:
    return [f"<Directory {ground.root}>", "Require all granted", *more, "</Directory>"]


def override_files(ground: Ground) -> Theme:
    rng = ground.rng
    lay(ground)
    lines = [
        "Options +Indexes", "Options -Indexes", "Options Indexes", "Options +FollowSymLinks",
        "Options None", "Options +ExecCGI -Indexes", "Options Indexes -MultiViews", "Options Bogus",
        "DirectoryIndex about.html", "DirectoryIndex page.txt index.html", "DirectorySlash Off",
        "Require all denied", "Require all granted", "Require ip 192.0.2.1", "Require local",
        "Deny from all", "Order allow,deny", "Allow from all", "AddType text/x-mine .html",
        "ForceType text/x-f", "AddDefaultCharset utf-8", "ErrorDocument 404 /about.html",
        "ErrorDocument 403 closed", "ErrorDocument 404 http://other.test/n", "Redirect /old/a.html /about.html",
        "<Files page.txt>\nRequire all denied\n</Files>", "<IfModule mod_rewrite.c>\nRewriteEngine On\n</IfModule>",
        "<IfModule !mod_gone.c>\nOptions -Indexes\n</IfModule>", "php_value memory_limit 1", "Blunder here",
        "<Directory />\n</Directory>", "DocumentRoot /x", "ExpiresActive On", "Header set X-A b",
        "SetEnvIf Host x y", "<Files x", "RewriteEngine Maybe", "AuthType Basic\nAuthName x\nRequire valid-user",
        "AuthType Basic", "# a comment", "IndexOptions FancyIndexing", "Satisfy Any", "Include x.conf",
        "<RequireAny>\nRequire ip 192.0.2.1\nRequire local\n</RequireAny>", "SetHandler None", "Define X y",
        "<Limit POST>\nRequire all denied\n</Limit>", "AddHandler odd .odd", "<FilesMatch \"\\.css$\">\nRequire all denied\n</FilesMatch>",
        "FallbackResource /about.html", "AcceptPathInfo On", "ServerSignature Off", "LimitRequestBody 1000",
        "<RequireAll>\nRequire all granted\n</RequireAll>", "UseCanonicalName On", "Options", "DirectoryIndex",
        "Require", "AddType text/x", "<IfDefine Gone>\nBlunder\n</IfDefine>", "ServerAlias x", "RequireX y",
    ]  # fmt: skip
    for folder in ("", "sub", "sub/deep", "empty"):
        if rng.random() < 0.5:
            ground.override(rng.sample(lines, rng.randint(0, 3)), folder)
    if rng.random() < 0.15:
        (ground.root / "sub" / ".htaccess").unlink(missing_ok=True)
        rng.choice(
            [
                lambda: (ground.root / "sub" / ".htaccess").mkdir(parents=True),
                lambda: (ground.root / "sub" / ".htaccess").symlink_to("nowhere"),
                lambda: ground.write("sub/.htaccess", "Options -Indexes", 0o600),
            ]
        )()
    allowed = rng.choice(
        ["All"] * 8
        + ["None", "FileInfo", "Indexes", "AuthConfig Limit", "Options", "Options=Indexes,FollowSymLinks",
           "FileInfo Indexes", "Limit", "All Nonfatal=Override", "Nonfatal=All FileInfo", "Nonfatal=Unknown",
           "Indexes Nonfatal=Unknown"]
    )  # fmt: skip
    more = [f"AllowOverride {allowed}"]
    if rng.random() < 0.2:
        more.append(
            "AllowOverrideList " + rng.choice(["Redirect Options", "None", "Require ErrorDocument"])
        )
    more.append(rng.choice(["", "", "Options Indexes FollowSymLinks", "Options None"]))
    lines_ = _opened(ground, *more)
    if rng.random() < 0.2:
        lines_ += [f"<Directory {ground.root}/sub>", "AllowOverride None", "</Directory>"]
    return Theme(lines_, PATHS, ["GET", "GET", "GET", "POST"])


def front_controller(ground: Ground) -> Theme:
    rng = ground.rng
    lay(ground)
    where = rng.choice(["", "", "sub", "blog"])
    ground.write(f"{where}/index.php".lstrip("/"), "php")
    ground.write(f"{where}/real.txt".lstrip("/"))
    base = f"/{where}/" if where else "/"
    rules = rng.choice(
        [
            ["RewriteEngine On", f"RewriteBase {base}", "RewriteRule ^index\\.php$ - [L]",
             "RewriteCond %{REQUEST_FILENAME} !-f", "RewriteCond %{REQUEST_FILENAME} !-d",
             f"RewriteRule . {base}index.php [L]"],
            ["RewriteEngine On", "RewriteCond %{REQUEST_FILENAME} !-d", "RewriteCond %{REQUEST_FILENAME} !-f",
             "RewriteRule ^ index.php [L]"],
            ["RewriteEngine on", "RewriteCond %{REQUEST_FILENAME} !-f", "RewriteCond %{REQUEST_FILENAME} !-d",
             "RewriteRule ^(.*)$ index.php?q=$1 [L,QSA]"],
            ["RewriteEngine On", "RewriteCond %{REQUEST_FILENAME} -s [OR]", "RewriteCond %{REQUEST_FILENAME} -l [OR]",
             "RewriteCond %{REQUEST_FILENAME} -d", "RewriteRule ^.*$ - [NC,L]", "RewriteRule ^.*$ index.php [NC,L]"],
            ["<IfModule mod_rewrite.c>", "RewriteEngine On", "RewriteCond %{REQUEST_FILENAME} !-d",
             "RewriteCond %{REQUEST_URI} (.+)/$", "RewriteRule ^ %1 [L,R=301]",
             "RewriteCond %{REQUEST_FILENAME} !-d", "RewriteCond %{REQUEST_FILENAME} !-f",
             "RewriteRule ^ index.php [L]", "</IfModule>"],
            ["RewriteEngine On", "RewriteRule ^(.*)$ index.php/$1 [L]"],
            ["RewriteEngine On", "RewriteCond $1 !^(index\\.php|images|robots\\.txt)",
             "RewriteRule ^(.*)$ index.php/$1 [L]"],
            ["RewriteEngine On", "RewriteRule ^(.*)$ index.php [L]"],
            ["RewriteEngine On", "RewriteCond %{ENV:REDIRECT_STATUS} ^$", "RewriteRule ^(.*)$ sub/$1 [L]"],
            ["RewriteEngine On", "RewriteCond %{REQUEST_URI} !^/sub/", "RewriteRule ^(.*)$ /sub/$1 [L]"],
            ["RewriteEngine On", "RewriteRule ^index\\.php$ - [END]", "RewriteRule ^(.*)$ index.php [END]"],
            ["Options -MultiViews", "RewriteEngine On", "RewriteCond %{DOCUMENT_ROOT}%{REQUEST_URI} !-f",
             "RewriteRule ^(.+)$ index.php [L]"],
            ["FallbackResource " + base + "index.php"],
            ["FallbackResource " + base + "index.php", "DirectoryIndex index.php"],
            ["RewriteEngine On", "RewriteCond %{REQUEST_FILENAME} !-f", "RewriteRule ^([^/]+)/?$ index.php?page=$1 [L]"],
            ["DirectoryIndex index.php", "RewriteEngine On", "RewriteBase " + (base.rstrip("/") or "/"),
             "RewriteCond %{REQUEST_FILENAME} !-f", "RewriteCond %{REQUEST_FILENAME} !-d",
             "RewriteCond %{REQUEST_FILENAME} !-l", "RewriteRule ^(.+)$ index.php?url=$1 [QSA,L]"],
        ]
    )  # fmt: skip
    ground.override(
        rng.choice([[], ["DirectoryIndex index.php index.html"], ["DirectoryIndex index.html"]])
        + rules,
        where,
    )
    if rng.random() < 0.2:
        ground.override(["RewriteEngine On"], "sub")
    if rng.random() < 0.1:
        ground.override(["ErrorDocument 404 /about.html"], "old")
    options = rng.choice(
        ["Options FollowSymLinks"] * 5
        + ["Options None", "Options Indexes SymLinksIfOwnerMatch", ""]
    )
    lines = _opened(ground, "AllowOverride All", options)
    if rng.random() < 0.15:
        lines += [
            "RewriteEngine On",
            rng.choice(["RewriteOptions Inherit", "RewriteRule ^/special$ /about.html"]),
        ]
    if rng.random() < 0.15:
        lines += ["ErrorDocument 404 /nothing-here.html"]
    base = base.rstrip("/")
    return Theme(
        lines,
        PATHS
        + [f"{base}{path}" for path in PATHS[:14]]
        + [f"{base}/index.php", f"{base}/real.txt", f"{base}/2031/04/post"],
    )


def canonical(ground: Ground) -> Theme:
    rng, name = ground.rng, ground.name
    lay(ground)
    rules = rng.choice(
        [
            ["RewriteCond %{HTTP_HOST} !^www\\. [NC]", "RewriteRule ^(.*)$ http://www.%{HTTP_HOST}/$1 [R=301,L]"],
            ["RewriteCond %{HTTPS} off", "RewriteRule ^(.*)$ https://%{HTTP_HOST}%{REQUEST_URI} [L,R=301]"],
            ["RewriteCond %{HTTPS} !=on", "RewriteRule ^ https://%{HTTP_HOST}%{REQUEST_URI} [R,L]"],
            ["RewriteCond %{HTTP_HOST} ^www\\.(.+)$ [NC]", "RewriteRule ^(.*)$ http://%1/$1 [R=301,L]"],
            [f"RewriteCond %{{HTTP_HOST}} !^{name}$ [NC]", f"RewriteRule (.*) http://{name}:{ground.port}/$1 [L,R=302]"],
            ["RewriteCond %{SERVER_PORT} 80", "RewriteRule ^(.*)$ https://%{SERVER_NAME}/$1 [R,L]"],
            [f"RewriteCond %{{SERVER_PORT}} ^{ground.port}$", "RewriteRule ^/?sub/(.*)$ /old/$1 [R=303]"],
            ["RewriteCond %{REQUEST_METHOD} ^(TRACE|PUT|POST)", "RewriteRule .* - [F]"],
            ["RewriteCond %{QUERY_STRING} ^p=(\\d+)$", "RewriteRule ^/?$ /page/%1? [R=301,L]"],
            ["RewriteCond %{THE_REQUEST} ^GET.*index\\.html [NC]", "RewriteRule (.*?)index\\.html/*(.*) /$1$2 [R=301,NE,L]"],
            ["RewriteCond %{REQUEST_FILENAME} !-f", "RewriteCond %{REQUEST_URI} !/$", "RewriteRule ^(.+[^/])$ $1/ [R=301,L]"],
            ["RewriteCond %{HTTP_USER_AGENT} badbot [NC,OR]", "RewriteCond %{HTTP_REFERER} spam", "RewriteRule .* - [F,L]"],
            ["RewriteCond %{HTTP:X-Forwarded-Proto} !https", "RewriteRule ^(.*)$ https://%{HTTP_HOST}/$1 [R=308,L]"],
            ["RewriteCond %{REMOTE_ADDR} !^127\\.", "RewriteRule ^ - [F]"],
            ["RewriteRule ^/?(.*)\\.htm$ /$1.html [R=permanent]"],
        ]
    )  # fmt: skip
    lines = ["RewriteEngine On", *rules]
    if rng.random() < 0.5:
        ground.override(lines)
        return Theme(
            _opened(ground, "AllowOverride All", "Options FollowSymLinks"),
            [*PATHS, "/index.html", "/a.htm", "/%22x%22"],
            ["GET", "GET", "POST"],
        )
    return Theme(
        _opened(ground) + lines,
        [*PATHS, "/index.html", "/a.htm", "/%22x%22"],
        ["GET", "GET", "POST"],
    )


_RULES = [
    "RewriteRule ^/?old/(.*)$ /sub/$1 [L]", "RewriteRule ^/?old/(.*)$ /sub/$1 [R,L]", "RewriteRule ^/?old/(.*)$ /sub/$1 [PT]",
    "RewriteRule ^/?old/ - [F]", "RewriteRule ^/?old/ - [G]", "RewriteRule ^/?nothing$ /about.html",
    "RewriteRule ^/?nothing$ /about.html?x=1 [QSA]", "RewriteRule ^/?nothing$ about.html", "RewriteRule ^/?nothing$ about.html [R]",
    "RewriteRule ^/?nothing/(.*) /sub/$1 [R=301,NE]", "RewriteRule ^/?nothing http://other.test/x?y=1 [R,QSA]",
    "RewriteRule ^/?nothing http://other.test/$0", "RewriteRule (.*) $1 [E=SEEN:1]", "RewriteCond %{ENV:SEEN} 1\nRewriteRule ^/?about /sub/page.txt",
    "RewriteRule ^/?about\\.html$ - [T=text/x-odd]", "RewriteRule ^/?style\\.css$ - [R=404]", "RewriteRule ^/?style\\.css$ - [R=503]",
    "RewriteRule ^/?sub - [S=1]", "RewriteRule ^/?sub/deep - [C]\nRewriteRule .* /about.html", "RewriteRule !^/?sub /sub/page.txt",
    "RewriteRule ^/?a(.*)b\\.html$ /x/$1 [B,R]", "RewriteRule ^/?a(.*)b\\.html$ /x/$1 [R]", "RewriteRule ^/?(.*)é$ /about.html",
    "RewriteCond %{REQUEST_URI} !=/about.html\nRewriteRule ^/?app /about.html [NC]", "RewriteRule ^/?images/(.*)\\.png$ /$1.css",
    "RewriteCond %{REQUEST_FILENAME} -d\nRewriteRule ^ - [L]", "RewriteRule ^/?empty/?$ /sub/ [L]", "RewriteRule ^/?empty/?$ /sub [L]",
    "RewriteRule ^/?(.*)x(.*)$ /$1y$2 [N=5]", "RewriteRule ^/?sub/(.*)$ {ROOT}/old/$1 [L]", "RewriteRule ^/?deep /sub/deep/x.html [END]",
    "RewriteRule ^/?about$ /about.html [NS]", "RewriteCond %{REQUEST_URI} ^/(.*)$\nRewriteRule ^/?nothing /got/%1 [R=302]",
    "RewriteCond %{QUERY_STRING} x\nRewriteRule ^ /about.html? [R]", "RewriteCond %{TIME_YEAR} >2000\nRewriteRule ^/?gone - [G]",
    "RewriteCond %{REQUEST_URI} >=/m\nRewriteRule ^ - [E=M:1]", "RewriteRule ^/?loop(.*)$ /loopx$1 [L]", "RewriteRule ^/?sub/page.txt$ - [H=none]",
    "RewriteRule ^/?p/(\\d+)/([a-z]+)$ /about.html?id=$1&n=$2 [L,QSA]", "RewriteRule ^/?x$ %{DOCUMENT_ROOT}/about.html", "RewriteRule ^/?both$ /about.html [R=200]",
    "RewriteRule ^/?nothing$ /a%20b.html", "RewriteRule ^/?nothing$ /sub/../about.html", "RewriteRule ^/?sub//?(.*)$ //$1", "RewriteRule ^/?hash$ /x#y [R]",
    "RewriteRule ^/?hash$ /x#y [R,NE]", "RewriteRule ^/?nothing$ /q?a b [R]", "RewriteCond %{HTTP_HOST} ^(.*)$\nRewriteRule ^/?who$ /%1 [R]", "RewriteRule ^/?\"q\"$ /about.html",
    "RewriteRule ^/?sub/(?!deep) /about.html [L]", "RewriteRule \"^/?a b\\.html$\" \"/sub/page.txt\"", "RewriteRule ^/?port$ http://{NAME}:{PORT}/about.html",
]  # fmt: skip


def rules(ground: Ground) -> Theme:
    """Rules of all kinds, in the host or in an override file."""
    rng = ground.rng
    lay(ground)
    picked = [
        rule.replace("{ROOT}", str(ground.root)).replace("{NAME}", ground.name).replace("{PORT}", str(ground.port))
        for rule in rng.sample(_RULES, rng.randint(1, 4))
    ]  # fmt: skip
    extra = rng.choice(
        [
            [],
            [],
            [],
            ["Redirect /old/a.html /about.html"],
            ["RewriteBase /"],
            ["RewriteOptions AllowNoSlash"],
        ]
    )
    paths = [
        *PATHS,
        "/loop",
        "/deep",
        "/p/7/ab",
        "/x",
        "/both",
        "/hash",
        "/who",
        "/xx",
        "/gone",
        "/port",
        "/empty",
        "/old/",
        "/%22q%22",
        "/app.PHP",
    ]
    chance = rng.random()
    if chance < 0.45:
        ground.override([*extra, "RewriteEngine On", *picked], rng.choice(["", "", "", "sub"]))
        return Theme(_opened(ground, "AllowOverride All", "Options FollowSymLinks"), paths)
    # The server does not start with a line that an override file may well hold.
    picked = [rule for rule in picked if "/q?a b" not in rule]
    host_extra = [] if extra == ["RewriteBase /"] else extra
    if chance < 0.6:
        base = [line for line in extra if line.startswith("RewriteBase")]
        return Theme(
            _opened(ground, "Options FollowSymLinks", *base, "RewriteEngine On", *picked), paths
        )
    return Theme([*_opened(ground), "RewriteEngine On", *host_extra, *picked], paths)


def redirects(ground: Ground) -> Theme:
    rng = ground.rng
    lay(ground)
    lines = [
        "Redirect /old /sub", "Redirect 301 /old http://other.test/", "Redirect permanent /about.html http://other.test/x?y=1",
        "Redirect gone /old", "Redirect 404 /style.css", "Redirect 410 /nothing", "Redirect seeother /sub http://other.test/s",
        "RedirectMatch ^/sub/(.*)$ http://other.test/$1", "RedirectMatch 301 \\.png$ /about.html", "RedirectMatch 404 /\\.git",
        "RedirectMatch gone ^/old", "RedirectTemp /old /x", "RedirectPermanent /old http://other.test/p", "Redirect / http://other.test/",
        "Redirect 308 /old/ http://other.test/o/", "RedirectMatch (.*)\\.html$ http://other.test$1.htm", "Redirect temp /a /b",
        "RedirectMatch ^/$ /sub/", "Redirect 307 /nothing /about.html", "RedirectMatch ^/(.*)//(.*) /$1/$2",
        "Redirect \"/a b.html\" /about.html", "RedirectMatch ^/a(.*)$ /$1?z=1", "Redirect 403 /empty", "Redirect /app.php /x#y",
    ]  # fmt: skip
    picked = rng.sample(lines, rng.randint(1, 3))
    paths = [
        *PATHS,
        "/old",
        "/old/",
        "/old/x%20y?z",
        "/old//a",
        "/.git/x",
        "/oldx",
        "/old/%C3%A9",
        "/old/a?b=c",
    ]
    chance = rng.random()
    if chance < 0.4:
        ground.override(picked, rng.choice(["", "", "sub"]))
        return Theme(_opened(ground, "AllowOverride All"), paths)
    if chance < 0.55:
        inner = rng.choice(
            [
                "Redirect http://other.test/l",
                "Redirect 301 /about.html",
                "Redirect gone",
                "Redirect 404",
            ]
        )
        section = rng.choice(
            ["Location /sub", "Location /old/", f"Directory {ground.root}/sub", "LocationMatch ^/s"]
        )
        return Theme([*_opened(ground), f"<{section}>", inner, f"</{section.split()[0]}>"], paths)
    return Theme(_opened(ground) + picked, paths)


def older_rules(ground: Ground) -> Theme:
    rng = ground.rng
    lay(ground)
    lines = [
        "Order allow,deny", "Order deny,allow", "Order mutual-failure", "Allow from all", "Deny from all", "Allow from 127.0.0.1",
        "Deny from 127", "Allow from 192.0.2.0/24 127.0.0.0/8", "Deny from 192.0.2.7", "Satisfy Any", "Satisfy All",
        "Allow from ::1", "<Limit GET POST>\nDeny from all\n</Limit>", "<LimitExcept GET>\nDeny from all\n</LimitExcept>",
        "<Limit POST>\nOrder deny,allow\nDeny from all\n</Limit>", "AuthType Basic\nAuthName x\nAuthUserFile /dev/null\nRequire valid-user",
        "Require all granted", "Require ip 192.0.2.1", "Require all denied", "<LimitExcept GET POST>\nRequire all denied\n</LimitExcept>",
        "<Limit PUT DELETE>\nRequire all denied\n</Limit>", "<Limit GET>\nRequire ip 192.0.2.9\n</Limit>", "Require method POST",
    ]  # fmt: skip
    chance = rng.random()
    picked = rng.sample(lines, rng.randint(1, 4))
    deeper = rng.sample(lines, rng.randint(1, 2)) if rng.random() < 0.4 else []
    if chance < 0.5:
        ground.override(picked)
        if deeper:
            ground.override(deeper, "sub")
        return Theme(
            _opened(ground, "AllowOverride All"), PATHS, ["GET", "HEAD", "POST", "PUT", "OPTIONS"]
        )
    body = _opened(ground, *picked)
    if deeper:
        section = rng.choice([f"Directory {ground.root}/sub", "Location /sub", "Files page.txt"])
        body += [f"<{section}>", *deeper, f"</{section.split()[0]}>"]
    return Theme(body, PATHS, ["GET", "HEAD", "POST", "PUT", "OPTIONS"])


def error_pages(ground: Ground) -> Theme:
    rng = ground.rng
    lay(ground)
    ground.write("errors/404.html")
    ground.write("errors/closed.html", mode=0o600)
    ground.write("errors/403.txt")
    pages = ["/errors/404.html", "/errors/403.txt", "/errors/closed.html", "/errors/none.html", "/errors", "/errors/", "/sub/", '"some words"',
             "http://other.test/e", "/app.php?e=1", "default", "Gone"]  # fmt: skip
    lines = [
        f"ErrorDocument {status} {rng.choice(pages)}"
        for status in rng.sample([400, 401, 403, 404, 410, 500], rng.randint(1, 3))
    ]
    body = _opened(ground, "AllowOverride All", rng.choice(["", "Options Indexes"]))
    if rng.random() < 0.5:
        body += lines
    else:
        ground.override(lines)
    if rng.random() < 0.4:
        body += ["<Location /old>", "Require all denied", "</Location>"]
    if rng.random() < 0.3:
        body += [
            "<Location /sub>",
            "AuthType Basic",
            "AuthName x",
            "AuthUserFile /dev/null",
            "Require valid-user",
            "</Location>",
        ]
    if rng.random() < 0.2:
        body += ["Redirect gone /images"]
    if rng.random() < 0.2:
        ground.override(
            [
                "RewriteEngine On",
                "RewriteCond %{REQUEST_FILENAME} !-f",
                "RewriteRule ^n app.php",
                *lines,
            ]
        )
    return Theme(body, [*PATHS, "/%zz", "/old/", "/%2fx"], ["GET", "GET", "HEAD", "POST"])


def indexes(ground: Ground) -> Theme:
    rng = ground.rng
    lay(ground)
    ground.write("sub/index.php")
    ground.write("shared/start.html")
    names = rng.choice(
        ["index.php index.html", "none.html /shared/start.html", "/shared/start.html", "deep/x.html", "none index.php", "disabled", "deep index.html",
         "../about.html", "index.html/x index.php"]
    )  # fmt: skip
    more = [f"DirectoryIndex {names}", rng.choice(["", "Options Indexes"]), "AllowOverride All"]
    body = _opened(ground, *more)
    if rng.random() < 0.3:
        body += rng.choice([["FallbackResource /about.html"], ["FallbackResource /none.html"], ["FallbackResource disabled"], ["FallbackResource /sub/"],
                            ["FallbackResource app.php"]])  # fmt: skip
    if rng.random() < 0.3:
        ground.override(
            rng.choice(
                [
                    ["FallbackResource /about.html"],
                    ["DirectorySlash Off"],
                    ["Options +Indexes"],
                    ["DirectoryIndex x.html"],
                ]
            ),
            "sub",
        )
    if rng.random() < 0.3:
        body += [
            "<Files index.php>",
            rng.choice(
                [
                    "Require all denied",
                    "AuthType Basic\nAuthName x\nAuthUserFile /dev/null\nRequire valid-user",
                ]
            ),
            "</Files>",
        ]
    return Theme(
        body, [*PATHS, "/sub?x=1", "/sub/?x=1", "/shared/", "/old/"], ["GET", "GET", "POST", "HEAD"]
    )


def kinds(ground: Ground) -> Theme:
    rng = ground.rng
    lay(ground)
    for name in (
        "n.txt.gz",
        "n.de.html",
        "n.html.xyz",
        "n.tar.gz",
        ".dot.css",
        "n.html.utf8",
        "noending",
        "n.HTML",
        "n.en.txt",
    ):
        ground.write(f"kinds/{name}")
    lines = ["AddType text/x-y .xyz", "RemoveType .html", "AddCharset utf-8 .html", "ForceType text/plain", "AddDefaultCharset utf-8", "AddLanguage en .en",
             "AddEncoding gzip .gz", "RemoveEncoding .gz", "DefaultType text/plain", "AddHandler odd .xyz", "AddType application/x-httpd-php .php",
             "<FilesMatch \"\\.css$\">\nForceType text/x-css\n</FilesMatch>", "<Files noending>\nForceType text/html\n</Files>", "DefaultLanguage de",
             "SetHandler odd", "RemoveCharset .utf8", "AddType 'text/html; charset=x' .html", "AddOutputFilterByType DEFLATE text/html"]  # fmt: skip
    picked = rng.sample(lines, rng.randint(1, 3))
    names = [f"/kinds/{file.name}" for file in (ground.root / "kinds").iterdir()]
    if rng.random() < 0.5:
        ground.override(picked)
        return Theme(_opened(ground, "AllowOverride All"), [*PATHS, *names])
    return Theme(
        _opened(ground, *[line for line in picked if not line.startswith("<Files n")]),
        [*PATHS, *names],
    )


def methods(ground: Ground) -> Theme:
    rng = ground.rng
    lay(ground)
    body = _opened(ground, rng.choice(["", "Options Indexes", "Require method GET POST"]))
    asked = [
        "PUT",
        "DELETE",
        "PATCH",
        "OPTIONS",
        "PROPFIND",
        "get",
        "BREW",
        "CONNECT",
        "HEAD",
        "POST",
        "GET",
        "MKCOL",
    ]
    return Theme(body, PATHS, asked)


def mappings(ground: Ground) -> Theme:
    """Aliases by pattern, upstreams that are not there, paths behind files."""
    rng = ground.rng
    lay(ground)
    root = ground.root
    lines = [
        f"AliasMatch ^/m/(.*)\\.x$ {root}/$1.html", f"AliasMatch ^/n(?:/(.*))?$ {root}/sub/$1", f"ScriptAlias /cgi {root}/old",
        f"Alias /deep {root}/sub/deep", f"AliasMatch /icons/ {root}/images/l.png", "ProxyPass /up !", "ProxyPass /up http://127.0.0.1:9/u",
        "ProxyPassMatch ^/sub/(.*\\.txt)$ http://127.0.0.1:9/$1", "ProxyPass / http://127.0.0.1:9/", "AcceptPathInfo On",
        "AcceptPathInfo Off", "<Location /about.html>\nAcceptPathInfo On\n</Location>", "<Location /up>\nRequire all denied\n</Location>",
        f"Alias /sub {root}/old", f"AliasMatch ^/(sub)/ {root}/$1/page.txt",
    ]  # fmt: skip
    if rng.random() < 0.5:
        lines += ["AllowEncodedSlashes On", "AllowEncodedSlashes NoDecode"]
    paths = [*PATHS, "/sub%2fpage.txt", "/sub%2F..%2fabout.html", "/old%2Fa.html/x", "/%2f%2e%2e%2fx", "/m/about.x", "/m/sub/../about.x", "/n", "/n/page.txt", "/cgi/a.html", "/cgi/none", "/deep/x.html", "/deep", "/icons/",
             "/up", "/up/x?y", "/upx", "/about.html/more/x", "/sub/page.txt/x"]  # fmt: skip
    return Theme(_opened(ground) + rng.sample(lines, rng.randint(1, 4)), paths)


def signed_in(ground: Ground) -> Theme:
    rng = ground.rng
    lay(ground)
    lines = ["AuthType Basic", "AuthName x", "AuthUserFile /dev/null", rng.choice(
        ["Require valid-user", "Require user ann", "Require valid-user\nRequire ip 127.0.0.1", "Require valid-user\nRequire ip 192.0.2.1",
         "<RequireAll>\nRequire valid-user\nRequire ip 192.0.2.1\n</RequireAll>", "<RequireNone>\nRequire ip 127\n</RequireNone>\nRequire valid-user",
         "Satisfy Any\nAllow from 127.0.0.1\nDeny from all\nRequire valid-user", ""])]  # fmt: skip
    if rng.random() < 0.2:
        lines.remove("AuthName x")
    where = rng.choice(["", "", "sub"])
    ground.override(lines, where)
    if rng.random() < 0.3:
        ground.override(["AuthType None", "Require all granted"], "sub/deep")
    return Theme(
        _opened(ground, "AllowOverride All", rng.choice(["", "ErrorDocument 401 /about.html"])),
        PATHS,
    )


def conditions(ground: Ground) -> Theme:
    """Sections under a condition, and access by one."""
    rng, name = ground.rng, ground.name
    lay(ground)
    tests = [
        f"%{{HTTP_HOST}} == '{name}'", "%{HTTP_HOST} =~ /www/", "%{REQUEST_URI} =~ m#^/sub/#",
        "%{QUERY_STRING} == 'a=1'", "-n %{QUERY_STRING}", "-z %{QUERY_STRING}", "%{HTTPS} == 'on'",
        "%{REQUEST_METHOD} in {'POST', 'PUT'}", "%{REMOTE_ADDR} == '127.0.0.1'", "-R '127.0.0.0/8'",
        "%{REMOTE_ADDR} -ipmatch '192.0.2.0/24'", "%{SERVER_PORT} -eq 8081", "%{SERVER_PORT} > 90",
        "req('User-Agent') =~ /bot/i", "%{HTTP_USER_AGENT} =~ /bad/i && %{REQUEST_URI} != '/'",
        "true", "false", "! %{HTTP_HOST} == 'x'", "not (%{REQUEST_METHOD} == 'GET')",
        "%{REQUEST_URI} -strmatch '*.txt'", "%{REQUEST_URI} -strcmatch '*.TXT'", "-T 'off'",
        "%{REQUEST_FILENAME} =~ /page/", "tolower(req('Host')) == 'x' || %{REQUEST_URI} == '/old/a.html'",
        "%{HTTP:X-Forwarded-Proto} == 'https'", "%{THE_REQUEST} =~ /GET/", "'%{HTTP_HOST}x' == 'x'",
        "%{REQUEST_SCHEME} = 'http' and -n %{HTTP_REFERER}", "%{SERVER_NAME} == 'x' or 1 -lt 2",
        "%{REQUEST_URI} =~ /^.sub/ && !(-n %{QUERY_STRING})", "%{REQUEST_URI} -fnmatch '/*/page.txt'",
    ]  # fmt: skip
    bodies = [
        "Require all denied", "Require all granted", "ErrorDocument 404 /about.html", "Redirect /about.html",
        "ForceType text/x-if", "Options +Indexes", "Options -Indexes", "DirectoryIndex page.txt",
        "AddType text/x-mine .html", "Redirect 410", "Header set X-A b", "AddDefaultCharset utf-8",
        "DirectorySlash Off", "Require ip 192.0.2.1",
    ]  # fmt: skip

    def one(deep: int = 0) -> list[str]:
        found = [f'<If "{rng.choice(tests)}">', *rng.sample(bodies, rng.randint(1, 2))]
        if deep < 1 and rng.random() < 0.2:
            found += one(deep + 1)
        found.append("</If>")
        if rng.random() < 0.3:
            found += [f'<ElseIf "{rng.choice(tests)}">', rng.choice(bodies), "</ElseIf>"]
        if rng.random() < 0.3:
            found += ["<Else>", rng.choice(bodies), "</Else>"]
        return found

    lines = _opened(
        ground, "AllowOverride All", *(one() if rng.random() < 0.5 else []),
        rng.choice(["", "Options Indexes FollowSymLinks"]),
    )  # fmt: skip
    if rng.random() < 0.5:
        lines += one()
    if rng.random() < 0.4:
        lines += ["<Location /sub>", *one(), "</Location>"]
    if rng.random() < 0.4:
        ground.override(one(), rng.choice(["", "sub", "sub/deep"]))
    if rng.random() < 0.5:
        rule = rng.choice(["Require", "Require not"])
        test = rng.choice(tests)
        quoted = rng.choice([test, f'"{test}"'])
        lines += [f"<Directory {ground.root}/sub>", "<RequireAll>", "Require all granted",
                  f"{rule} expr {quoted}", "</RequireAll>", "</Directory>"]  # fmt: skip
    if rng.random() < 0.3:
        ground.override([f"Require expr {rng.choice(tests)}"], "old")
    paths = [*PATHS, *(f"{path}?a=1" for path in PATHS[:12])]
    return Theme(lines, paths, ["GET", "GET", "GET", "POST", "HEAD"])


def marks(ground: Ground) -> Theme:
    """Variables that are set by what a request says, and rules that ask for them."""
    rng = ground.rng
    lay(ground)
    names = ["bad", "good", "odd", "Bad"]

    def mark() -> str:
        name = rng.choice(names)
        sets = rng.choice(
            [
                name,
                f"{name}=1",
                f"!{name}",
                f"{name}=$1",
                f"{name} {rng.choice(names)}=x",
                f"{name}=0",
            ]
        )
        return rng.choice(
            [
                f"SetEnvIf Request_URI {rng.choice(['^/sub', '.html$', '/(page)', '%20', '.', '^/old'])} {sets}",
                f"SetEnvIfNoCase User-Agent {rng.choice(['badbot', '^$', 'BOT/([0-9])', '^Mozilla'])} {sets}",
                f"BrowserMatch {rng.choice(['Bad', 'bad', '^$', '.'])} {sets}",
                f"BrowserMatchNoCase {rng.choice(['bad(bot)', '^$'])} {sets}",
                f"SetEnvIf Referer {rng.choice(['spam', '^$', '^http://(.*)/'])} {sets}",
                f"SetEnvIf Remote_Addr {rng.choice(['^127', '^192', ':'])} {sets}",
                f"SetEnvIf Request_Method {rng.choice(['POST', 'GET', '^HEAD$'])} {sets}",
                f"SetEnvIf Request_Protocol {rng.choice(['1.1', '1.0'])} {sets}",
                f"SetEnvIf Host {rng.choice(['^www', 'test$', ':1'])} {sets}",
                f"SetEnvIf {rng.choice(names)} {rng.choice(['^1$', '^$', 'x'])} {sets}",
                f"SetEnvIf X-Forwarded-Proto https {sets}",
            ]
        )  # fmt: skip

    def asks() -> str:
        name = rng.choice(names)
        return rng.choice(
            [
                f"Require env {name}", f"Require env {name} REDIRECT_{name}",
                f"<RequireAll>\nRequire all granted\nRequire not env {name}\n</RequireAll>",
                f"Order Allow,Deny\nAllow from all\nDeny from env={name}",
                f"Order Deny,Allow\nDeny from all\nAllow from env={name}",
                f"Order Deny,Allow\nDeny from env=!{name}",
                f"RewriteEngine On\nRewriteCond %{{ENV:{name}}} {rng.choice(['^1$', '^$', '!^$', 'x'])}\nRewriteRule .* - [F]",
                f"RewriteEngine On\nRewriteRule page - [E={name}:1]",
                f"RewriteEngine On\nRewriteCond %{{ENV:REDIRECT_{name}}} ^$\nRewriteRule ^page.txt$ about.html [L]",
            ]
        )  # fmt: skip

    lines = [mark() for _ in range(rng.randint(0, 3))]
    inside = [mark() for _ in range(rng.randint(0, 2))]
    inside += rng.sample([asks(), asks()], rng.randint(0, 2))
    lines += [f"<Directory {ground.root}>", "AllowOverride All", "Options FollowSymLinks", "Require all granted",
              *inside, "</Directory>"]  # fmt: skip
    if rng.random() < 0.4:
        lines += ["<Location /sub>", mark(), f"Require env {rng.choice(names)}", "</Location>"]
    if rng.random() < 0.3:
        lines += [
            "RewriteEngine On",
            f"RewriteCond %{{ENV:{rng.choice(names)}}} .",
            "RewriteRule ^ - [F]",
        ]
    if rng.random() < 0.3:
        lines.append("ErrorDocument 403 /about.html")
    for folder in ("", "sub"):
        if rng.random() < 0.5:
            ground.override([mark() for _ in range(rng.randint(0, 2))] + [asks()], folder)
    return Theme(lines, PATHS, ["GET", "GET", "GET", "HEAD", "POST"])


THEMES: dict[str, Callable[[Ground], Theme]] = {
    "override files": override_files,
    "front controllers": front_controller,
    "canonical hosts": canonical,
    "rules of rewriting": rules,
    "redirects": redirects,
    "older access rules": older_rules,
    "error pages": error_pages,
    "index lists": indexes,
    "content types": kinds,
    "methods": methods,
    "mappings": mappings,
    "signing in": signed_in,
    "conditions": conditions,
    "marks": marks,
}
