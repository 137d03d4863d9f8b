"""Sites of one kind each, in the language of nginx: what hosting users and their hosters write."""

from __future__ import annotations

from collections.abc import Callable

from tests.worlds.grounds import PATHS, Ground, Theme, lay


def locations(ground: Ground) -> Theme:
    rng = ground.rng
    lay(ground)
    root = ground.root
    lines = [
        "location / { }", "location = / { return 200 home; }", "location /sub { add_header X-L 1; }", "location ^~ /sub/ { types { } default_type text/x-s; }",
        "location ~ \\.html$ { default_type text/x-h; types { } }", "location ~* \\.(CSS|png)$ { types { text/x-i css png; } }", "location = /about.html { types { } default_type text/x-e; }",
        "location /sub/deep { deny all; }", "location /old { location ~ \\.html$ { return 403; } location = /old/ { return 204; } }", "location ~ ^/(sub|old)/ { index x.html; }",
        "location /nothing { internal; }", "location ~ /\\. { deny all; }", "location ~ ^/images/(?<name>.+)\\.png$ { return 200 \"$name $1\"; }", "location /a { location ~ b { return 418; } }",
        "location ~* ^/APP { return 200 $uri; }", f"location /al/ {{ alias {root}/sub/; }}", f"location /am {{ alias {root}/old; }}", f"location /an/ {{ alias {root}/sub; }}",
        f"location ~ ^/ap/(.*)$ {{ alias {root}/$1; }}", f"location = /one {{ alias {root}/about.html; }}", f"location /ro/ {{ root {root}/old; }}", f"location /o {{ alias {root}/old/; }}",
        "location @named { return 200 named; }", "location /old/ { limit_except GET { deny all; } }", "location /empty/ { autoindex on; }", "location ^~ /nothing/ { return 402; }",
        f"location /ix {{ alias {root}/; index about.html; }}", "location ~ \\.php$ { default_type text/x-p; }", "location /sub/page.txt { index x; }",
    ]  # fmt: skip
    picked = _once(rng.sample(lines, rng.randint(1, 5)))
    paths = [*PATHS, "/al/page.txt", "/al", "/al/", "/am", "/am/a.html", "/an/page.txt", "/an/", "/ap/about.html", "/ap/", "/ap/sub", "/one", "/ro/a.html", "/oa.html", "/o../about.html",
             "/al/deep", "/ix/", "/ix", "/APP", "/sub/deep/", "/old", "/images/x.png", "/al/../about.html", "/ab"]  # fmt: skip
    return Theme(picked, paths, ["GET", "GET", "GET", "POST", "HEAD"])


def _single(lines: list[str]) -> list[str]:
    """A plain statement may stand but once in a place."""
    seen: dict[str, str] = {}
    for line in lines:
        seen.setdefault(
            line
            if line.startswith(("location", "if", "rewrite", "error_page"))
            else line.split()[0],
            line,
        )
    return list(seen.values())


def _once(lines: list[str]) -> list[str]:
    """Two locations of one name are refused."""
    seen: dict[str, str] = {}
    for line in lines:
        seen.setdefault(line.partition("{")[0].replace("^~ ", "").strip(), line)
    return list(seen.values())


def front_controllers(ground: Ground) -> Theme:
    rng = ground.rng
    lay(ground)
    ground.write("index.php", "php")
    ground.write("sub/index.php", "php")
    root = ground.root
    lines = rng.choice(
        [
            ["location / { try_files $uri $uri/ /index.php?$query_string; }", "location ~ \\.php$ { types { } default_type text/x-php; }"],
            ["location / { try_files $uri $uri/ =404; }"],
            ["location / { try_files $uri /index.php$is_args$args; }"],
            ["location / { try_files $uri $uri.html $uri/ @app; }", "location @app { return 200 app; }"],
            ["try_files $uri @app;", "location @app { rewrite ^/(.*)$ /index.php?q=$1 last; }", "location ~ \\.php$ { default_type text/x-php; types { } }"],
            ["location / { try_files $uri $uri/index.html =403; }"],
            ["location / { if (!-e $request_filename) { rewrite ^ /index.php last; } }"],
            ["if (!-f $request_filename) { rewrite ^/(.*)$ /index.php?u=$1 break; }"],
            ["location / { try_files /none.html $uri /sub/index.html; }"],
            [f"location /blog {{ alias {root}/sub; try_files $uri $uri/ =404; }}", f"location /b2/ {{ alias {root}/sub/; try_files $uri $uri/ /b2/index.php; }}"],
            ["location / { try_files $uri $uri/ /index.php; }", "location ~ ^(.+\\.php)(/.*)?$ { fastcgi_pass unix:/nowhere/php.sock; }"],
            ["location / { index index.php index.html; try_files $uri $uri/ /loop; }"],
            ["error_page 404 = /index.php;", "location ~ \\.php$ { types { } default_type text/x-php; }"],
            ["location / { try_files $uri $uri/ =500; }"],
            ["location / { try_files / =404; }"],
            ["location ~ ^/sub { try_files $uri $uri/ /about.html; }", "location / { try_files $uri @gone; }", "location @gone { return 410; }"],
        ]
    )  # fmt: skip
    extra = rng.choice(
        [[], [], ["index index.php index.html;"], ["index index.html;"], ["autoindex on;"]]
    )
    return Theme(
        extra + lines,
        [
            *PATHS,
            "/blog",
            "/blog/page.txt",
            "/b2/",
            "/b2/page.txt",
            "/b2/none",
            "/index.php",
            "/index.php/x",
            "/sub/index.php",
            "/about",
            "/loop",
        ],
        ["GET", "GET", "GET", "POST"],
    )


def rewrites(ground: Ground) -> Theme:
    rng, name = ground.rng, ground.name
    lay(ground)
    lines = [
        "rewrite ^/old/(.*)$ /sub/$1;", "rewrite ^/old/(.*)$ /sub/$1 last;", "rewrite ^/old/(.*)$ /sub/$1 break;", "rewrite ^/old/(.*)$ /sub/$1 redirect;", "rewrite ^/old/(.*)$ /sub/$1? permanent;",
        "rewrite ^/nothing$ /about.html?x=1;", "rewrite ^/nothing$ http://other.test/x;", "rewrite ^/nothing/(.*)$ http://other.test/$1?;", "rewrite ^/nothing http://other.test/?a=1;",
        "rewrite ^/a(.*)b\\.html$ /x$1y redirect;", "rewrite ^(/sub)/(.*)$ $1/../$2 last;", "if ($request_method = POST) { return 405; }", "if ($http_user_agent ~* badbot) { return 403; }",
        "if ($args ~ x=(\\d)) { rewrite ^ /about.html?n=$1 last; }", "if ($host = www." + name + ") { return 301 $scheme://" + name + "$request_uri; }", "if ($scheme = http) { return 301 https://$host$request_uri; }",
        "set $where /about.html; rewrite ^/nothing $where;", "if (-d $request_filename) { set $kind dir; } if ($kind = dir) { return 403; }", "if (-f $request_filename) { break; } rewrite ^/style.css$ /gone;",
        "return 301 http://other.test$request_uri;", "return 302 /about.html;", "return 404;", "return 200 \"said $uri\";", "return 204;", "return 418;", "return https://other.test/;", "return 302 about;",
        "rewrite ^/loop(.*)$ /loopx$1 last;", "rewrite ^/(.*)é$ /about.html;", "rewrite ^/sub/?$ /about.html last; rewrite ^/about /style.css;", "if ($arg_p) { return 302 /p/$arg_p; }",
        "if ($http_x_forwarded_proto != https) { rewrite ^/images/(.*)$ /$1 permanent; }", "rewrite ^/app\\.php$ /index.html last; break;", "return 303 $scheme://$host:$server_port/about.html?$args;", "if ($uri ~ ^/old) { return 444; }",
        "rewrite \"^/a b\" /about.html break;", "rewrite ^ /about.html break;", "if (!-e $document_root$uri) { return 307 /sub/; }", "return 301 $uri/;", "return 302 \"/x?$query_string\";",
    ]  # fmt: skip
    picked = rng.sample(lines, rng.randint(1, 3))
    paths = [
        *PATHS,
        "/loop",
        "/?x=5",
        "/old/",
        "/old/x%20y?z=1",
        "/old/a%26b",
        "/nothing/a%2Bb",
        "/about.html?p=9",
        "/sub/?x=1",
    ]
    chance = rng.random()
    if chance < 0.5:
        return Theme(picked, paths, ["GET", "GET", "POST"])
    where = rng.choice(["/", "/old", "~ ^/(old|sub|nothing)", "= /nothing"])
    return Theme(
        [
            f"location {where} {{ {' '.join(picked)} }}",
            rng.choice(["", "location /sub/ { add_header X-Sub 1; }"]),
        ],
        paths,
        ["GET", "GET", "POST"],
    )


def error_pages(ground: Ground) -> Theme:
    rng = ground.rng
    lay(ground)
    ground.write("errors/404.html")
    ground.write("errors/403.txt")
    ground.write("errors/closed.html", mode=0o600)
    lines = [
        "error_page 404 /errors/404.html;", "error_page 404 =200 /errors/404.html;", "error_page 404 = /sub/;", "error_page 404 @n;", "error_page 404 = @n;", "error_page 404 =410 @n;", "error_page 404 http://other.test/e;",
        "error_page 404 =301 http://other.test/e;", "error_page 403 /errors/403.txt;", "error_page 403 404 /none.html;", "error_page 404 /errors/closed.html;", "error_page 405 =200 $uri;", "error_page 403 =404 /errors/404.html;",
        "recursive_error_pages on;", "error_page 500 502 503 504 /errors/404.html;", "error_page 401 /errors/403.txt;", "error_page 404 /errors/404.html?x=$uri;", "error_page 404 /errors;", "error_page 301 =200 /about.html;",
    ]  # fmt: skip
    body = rng.sample(lines, rng.randint(1, 3))
    body.append(
        rng.choice(
            [
                "location @n { return 200 n; }",
                "location @n { return 302 /about.html; }",
                "location @n { root /nowhere; }",
                "location @n { try_files /about.html =404; }",
            ]
        )
    )
    body += rng.choice([[], ["location /old { deny all; }"], ["location /old { return 403; }", "location /images { return 404 words; }"], ["location /sub/ { auth_basic x; }", "location /old { auth_basic x; auth_basic_user_file /dev/null; }"],
                        ["location /errors { internal; }"], ["location /old { error_page 404 /about.html; }"]])  # fmt: skip
    return Theme(
        body,
        [*PATHS, "/errors/404.html", "/old/none", "/sub/none", "/old/"],
        ["GET", "GET", "POST", "HEAD", "PUT"],
    )


def access(ground: Ground) -> Theme:
    rng = ground.rng
    lay(ground)
    lines = ["allow all;", "deny all;", "allow 127.0.0.1; deny all;", "deny 127.0.0.0/8;", "allow 192.0.2.0/24; deny all;", "allow ::1; deny all;", "satisfy any;", "auth_basic \"a b\"; auth_basic_user_file /dev/null;", "auth_basic off;",
             "deny 192.0.2.1; allow 127.0.0.1; deny all;", "satisfy any; allow 127.0.0.1; deny all; auth_basic x; auth_basic_user_file /dev/null;", "satisfy any; deny all; auth_basic x; auth_basic_user_file /dev/null;", "satisfy all; deny 127.0.0.1; auth_basic x; auth_basic_user_file /dev/null;",
             "auth_basic x; auth_basic_user_file /dev/null; return 200 open;", "deny all; return 302 /about.html;", "satisfy any; auth_basic x; auth_basic_user_file /dev/null;"]  # fmt: skip
    body = []
    if rng.random() < 0.5:
        body += rng.sample(lines[:13], 1)
    where = rng.choice(["/sub", "/", "= /about.html", "~ \\.html$"])
    body.append(
        f"location {where} {{ {rng.choice(lines)} {rng.choice(['', 'limit_except GET POST { deny all; }', 'location /sub/deep { allow all; }' if where in ('/', '/sub') else ''])} }}"
    )
    return Theme(body, PATHS, ["GET", "GET", "POST", "PUT", "OPTIONS"])


def indexes(ground: Ground) -> Theme:
    rng = ground.rng
    lay(ground)
    ground.write("sub/index.php")
    ground.write("shared/start.html")
    names = rng.choice(
        [
            "index.html",
            "none index.html",
            "index.php index.html",
            "none /shared/start.html",
            "/none.html",
            "deep",
            "deep/x.html",
            "../about.html",
            "none",
            "index.$http_x.html index.html",
            "$uri.html",
        ]
    )
    lines = [
        f"index {names};",
        rng.choice(
            [
                "",
                "autoindex on;",
                "autoindex on; autoindex_format json;",
                "autoindex on; autoindex_format xml;",
                "autoindex on; autoindex_format json; charset koi8-r; charset_types *;",
            ]
        ),
    ]
    lines += rng.choice([[], ["location /sub/ { index page.txt; }"], ["location ~ \\.php$ { return 200 php; }"], ["location = /index.html { return 200 exact; }"], ["location /old { autoindex on; }"],
                         ["location /sub { root /nowhere; }"], ["location ~ /$ { autoindex on; }"]])  # fmt: skip
    lines += rng.choice(
        [
            [],
            [],
            ["absolute_redirect off;"],
            ["server_name_in_redirect on;"],
            ["port_in_redirect off;"],
        ]
    )
    return Theme(
        lines,
        [*PATHS, "/shared", "/shared/", "/sub?x=1", "/sub/deep?y", "/old/", "/a%20b.html/"],
        ["GET", "GET", "POST", "HEAD", "PUT"],
    )


def kinds(ground: Ground) -> Theme:
    rng = ground.rng
    lay(ground)
    for name in (
        "n.txt",
        "n.HTML",
        "n.tar.gz",
        "noending",
        ".dot.css",
        "n.xyz",
        "n.",
        "a.b/c",
        "..x.css",
        "n.json",
        "n.xml",
    ):
        ground.write(f"kinds/{name}")
    lines = rng.sample(
        ["default_type text/x-d;", "types { text/x-y xyz; }", "charset utf-8;", "charset off;", "charset_types text/css;", "charset_types *;", "charset_types text/plain application/json;", "types { }", "include /etc/nginx/mime.types;", "default_type \"\";", "charset koi8-r;",
         "override_charset on;"], rng.randint(1, 3))  # fmt: skip
    lines = _single(lines)
    where = rng.choice(["", "", "location /kinds { ", "location ~ \\.xyz$ { "])
    body = [where + " ".join(lines) + (" }" if where else "")]
    if rng.random() < 0.3:
        body.append("location = /said { return 200 said; }")
    names = [f"/kinds/{path.name}" for path in (ground.root / "kinds").iterdir() if path.is_file()]
    return Theme(body, [*PATHS, *names, "/kinds/a.b/c", "/said"])


def methods(ground: Ground) -> Theme:
    lay(ground)
    body = ground.rng.choice(
        [
            [],
            ["location /sub { limit_except GET { deny all; } }"],
            ["location / { limit_except POST { deny all; } }"],
            ["location /old { return 200 x; }"],
            ["if ($request_method !~ ^(GET|HEAD)$) { return 405; }"],
        ]
    )
    return Theme(
        body,
        PATHS,
        [
            "PUT",
            "DELETE",
            "PATCH",
            "OPTIONS",
            "PROPFIND",
            "get",
            "BREW",
            "CONNECT",
            "TRACE",
            "HEAD",
            "POST",
            "GET",
            "Get",
        ],
    )


def variables(ground: Ground) -> Theme:
    rng = ground.rng
    lay(ground)
    lines = [
        "location /v/ { return 200 \"$host $request_uri $args $is_args $server_name $server_port\"; }", "location /r { return 302 $scheme://$http_host/about.html; }", "root {ROOT}/$arg_dir;", "location ~ ^/u/(?<who>[a-z]+)/(.*)$ { alias {ROOT}/$who/$2; }",
        "if ($cookie_a = 1) { return 403; }", "set $x $uri; location /x { return 301 /y$x; }", "location /h { return 301 https://$host$uri; }", "location /m { if ($mapped) { return 302 /mapped/$mapped; } }", "location /m2 { return 302 /$mapped_host; }",
        "location /c { if ($remote_addr = 127.0.0.1) { return 204; } return 402; }", "location /t { return 302 \"/${arg_a}x$arg_b\"; }", "location /n { return 302 $not_there/about.html; }",
    ]  # fmt: skip
    picked = [
        line.replace("{ROOT}", str(ground.root)) for line in rng.sample(lines, rng.randint(1, 4))
    ]
    if any("$not_there" in line for line in picked):
        picked = [line for line in picked if "$not_there" not in line] or [
            "location /n { return 402; }"
        ]
    if sum(line.startswith("root") for line in picked) > 1:
        picked = picked[:1]
    return Theme(
        picked,
        [
            *PATHS,
            "/v/a?b=c",
            "/r",
            "/about.html?dir=sub",
            "/page.txt?dir=sub",
            "/u/sub/page.txt",
            "/u/old/a.html",
            "/x",
            "/h",
            "/m",
            "/m?k=one",
            "/m?k=TWO",
            "/m?k=three9",
            "/m2",
            "/d/x",
            "/c",
            "/t?a=1&b=2",
            "/n",
        ],
    )


def links(ground: Ground) -> Theme:
    rng = ground.rng
    lay(ground)
    for link, target in (
        ("to.html", "about.html"),
        ("tosub", "sub"),
        ("gone.html", "nowhere"),
        ("loop", "loop"),
        ("sub/up.html", "../about.html"),
        ("far", "/etc/hostname"),
    ):
        path = ground.root / link
        if path.parent.is_dir() and not path.is_symlink():
            path.symlink_to(target)
    body = [
        rng.choice(["", "disable_symlinks off;", "disable_symlinks on;", "disable_symlinks on;"]),
        rng.choice(
            ["", "autoindex on;", "location / { try_files $uri $uri/ =404; }", "index to.html;"]
        ),
    ]
    return Theme(
        body,
        [
            *PATHS,
            "/to.html",
            "/tosub",
            "/tosub/",
            "/tosub/page.txt",
            "/gone.html",
            "/loop",
            "/sub/up.html",
            "/far",
            "/gone.html/",
            "/loop/x",
        ],
    )


def upstreams(ground: Ground) -> Theme:
    rng = ground.rng
    lay(ground)
    lines = ["location /px/ { proxy_pass http://127.0.0.1:9/; }", "location /py { proxy_pass http://127.0.0.1:9; }", "location ~ \\.php$ { fastcgi_pass unix:/nowhere.sock; }", "location / { try_files $uri @up; }\nlocation @up { proxy_pass http://127.0.0.1:9; }",
             "error_page 502 /about.html;", "location = /st { stub_status; }", "location /gif { empty_gif; }", "location /pz/ { proxy_pass http://dead; }", "location /old/ { if ($request_method = GET) { proxy_pass http://127.0.0.1:9; } }",
             "location /px/in { return 200 in; }"]  # fmt: skip
    return Theme(
        _once("\n".join(rng.sample(lines, rng.randint(1, 4))).split("\n")),
        [
            *PATHS,
            "/px",
            "/px/",
            "/px/a?b",
            "/px/in",
            "/py",
            "/py/x",
            "/st",
            "/gif",
            "/pz",
            "/pz/x",
            "/px?q=1",
        ],
        ["GET", "GET", "POST", "HEAD"],
    )


THEMES: dict[str, Callable[[Ground], Theme]] = {
    "locations": locations,
    "front controllers": front_controllers,
    "rewriting and answers": rewrites,
    "error pages": error_pages,
    "access rules": access,
    "index lists": indexes,
    "content types": kinds,
    "methods": methods,
    "variables": variables,
    "links": links,
    "upstreams": upstreams,
}
