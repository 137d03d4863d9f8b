"""The configuration texts of the demo server, laid out as a Debian server has them."""

MAIN = """\
# quay.saltmarsh.example: the one server of the Saltmarsh Commons
DefaultRuntimeDir ${APACHE_RUN_DIR}
PidFile ${APACHE_PID_FILE}
Timeout 120
KeepAlive On
User ${APACHE_RUN_USER}
Group ${APACHE_RUN_GROUP}
HostnameLookups Off
ErrorLog ${APACHE_LOG_DIR}/error.log
LogLevel warn
ServerName quay.saltmarsh.example

IncludeOptional mods-enabled/*.load
IncludeOptional mods-enabled/*.conf
Include ports.conf

<Directory />
    Options FollowSymLinks
    AllowOverride None
    Require all denied
</Directory>
<Directory /srv/sites/>
    Options SymLinksIfOwnerMatch
    AllowOverride None
    Require all granted
</Directory>

AccessFileName .htaccess
<FilesMatch "^\\.ht">
    Require all denied
</FilesMatch>

LogFormat "%v:%p %h %l %u %t \\"%r\\" %>s %O \\"%{Referer}i\\" \\"%{User-Agent}i\\"" named
LogFormat "%h %l %u %t \\"%r\\" %>s %O \\"%{Referer}i\\" \\"%{User-Agent}i\\"" combined
LogFormat "%h %l %u %t \\"%r\\" %>s %O \\"%{Referer}i\\" \\"%{User-Agent}i\\" \\"%{Host}i\\"" asked
CustomLog ${APACHE_LOG_DIR}/catch-all.log named

IncludeOptional conf-enabled/*.conf
IncludeOptional sites-enabled/*.conf
"""

PORTS = """\
Listen 80
Listen 8008
Listen 8080
<IfModule mod_ssl.c>
    Listen 443
</IfModule>
"""

MODULES = """
    access_compat alias auth_basic authn_core authn_file authz_core authz_host authz_user
    autoindex deflate dir env filter headers mime mpm_event negotiation proxy proxy_http
    reqtimeout rewrite setenvif socache_shmcb ssl status userdir vhost_alias
""".split()

MODULE_SETTINGS = {
    "alias": 'Alias /shared/ "/srv/shared/"\n<Directory "/srv/shared">\n    Options None\n'
    "    AllowOverride None\n    Require all granted\n</Directory>\n",
    "autoindex": "IndexOptions FancyIndexing VersionSort HTMLTable NameWidth=*\n"
    "IndexIgnore .??* *~ *# RCS CVS\n",
    "dir": "DirectoryIndex index.html index.htm start.html\n",
    "mime": "TypesConfig /etc/mime.types\nAddType application/x-gzip .tgz\n"
    "AddLanguage de .de\nAddLanguage fr .fr\nAddCharset UTF-8 .utf8\n",
    "status": "<Location /server-status>\n    SetHandler server-status\n    Require local\n"
    "</Location>\nExtendedStatus On\n",
    "userdir": "UserDir public_html\nUserDir disabled root\n\n<Directory /home/*/public_html>\n"
    "    AllowOverride None\n    Options Indexes SymLinksIfOwnerMatch IncludesNoExec\n"
    "    Require method GET POST OPTIONS\n</Directory>\n",
    "mpm_event": "StartServers 2\nThreadsPerChild 25\nMaxRequestWorkers 150\n",
    "reqtimeout": "RequestReadTimeout header=20-40,minrate=500\n",
    "deflate": "AddOutputFilterByType DEFLATE text/html text/plain text/css\n",
}

ENVIRONMENT = {
    "APACHE_RUN_USER": "www-data",
    "APACHE_RUN_GROUP": "www-data",
    "APACHE_PID_FILE": "/run/apache2/apache2.pid",
    "APACHE_RUN_DIR": "/run/apache2",
    "APACHE_LOCK_DIR": "/run/lock/apache2",
    "APACHE_LOG_DIR": "/var/log/apache2",
}

BUILT_IN = (
    "core.c", "mod_so.c", "mod_watchdog.c", "http_core.c", "mod_log_config.c", "mod_logio.c",
    "mod_version.c", "mod_unixd.c",
)  # fmt: skip

TYPES = """\
text/html html htm
text/plain txt text
text/css css
text/javascript js mjs
text/calendar ics
text/csv csv
image/jpeg jpeg jpg
image/png png
image/gif gif
image/svg+xml svg
image/webp webp
audio/mpeg mp3
audio/ogg ogg oga
video/mp4 mp4
application/json json
application/pdf pdf
application/xml xml
application/zip zip
application/gzip gz
font/woff2 woff2
"""

NGINX = """\
user www-data;
worker_processes auto;
pid /run/nginx.pid;

events {
    worker_connections 768;
}

http {
    include /etc/nginx/mime.types;
    default_type application/octet-stream;
    access_log /var/log/nginx/access.log;
    include /etc/nginx/sites-enabled/*;
}
"""

NGINX_TYPES = """\
types {
    text/html html htm;
    text/css css;
    text/plain txt;
    text/javascript js;
    image/svg+xml svg;
    image/png png;
    image/jpeg jpg jpeg;
    text/calendar ics;
    application/pdf pdf;
}
"""

# By name: what stands in the server block beside its names, root and log.
NGINX_SITES = {
    "regatta": """
    rewrite ^/results/(\\d+)$ /archive/$1.html last;

    location / {
        try_files $uri $uri/ /index.html;
    }

    location /archive/ {
        expires 30d;
    }

    location ~* \\.(css|js|svg)$ {
        expires 7d;
    }
""",
    "quay-camera": """
    location /shots/ {
        alias /srv/sites/quay-camera/pictures;
        autoindex on;
    }
""",
    "berth-plan": """
    location / {
        allow 198.51.100.0/24;
        deny all;
    }
""",
    "lost-and-found": """
    location = / {
        return 301 /found/;
    }

    location /found/ {
        try_files $uri $uri/ =404;
    }
""",
    **dict.fromkeys(
        """
        seal-count tide-clock sea-shanties shore-kitchen star-deck tar-and-tow thimble-club
        tug-hands
        """.split(),
        """
    location / {
        try_files $uri $uri/ =404;
    }
""",
    ),
}

# Written by a member, and never enabled.
PARKED = """\
<VirtualHost *:80>
    ServerName moor-singers.example
    DocumentRoot /srv/sites/moor-singers/public
</VirtualHost>
"""

# Rules of security contexts: those of the distribution, in brief, and what the administrator added.
_TYPES = """
/.*	default_t
/	-d	root_t
/etc(/.*)?	etc_t
/etc/apache2(/.*)?	httpd_config_t
/etc/nginx(/.*)?	httpd_config_t
/home	-d	home_root_t
/run(/.*)?	var_run_t
/srv(/.*)?	var_t
/srv/backup(/.*)?	backup_store_t
/var(/.*)?	var_t
/var/log(/.*)?	var_log_t
/var/log/apache2(/.*)?	httpd_log_t
/var/log/nginx(/.*)?	httpd_log_t
"""
_HOMES = """
/home/[^/]+	-d	user_home_dir_t
/home/[^/]+/.+	user_home_t
/home/[^/]+/((www)|(web)|(public_html))(/.+)?	httpd_user_content_t
"""
_ADDED = """
/srv/sites(/.*)?	httpd_sys_content_t
/srv/shared(/.*)?	httpd_sys_content_t
/srv/gardens(/.*)?	httpd_sys_content_t
"""


def _rules(lines: str) -> str:
    """Rules with whole contexts."""
    whole = []
    for line in lines.split("\n"):
        *fields, type_ = line.split()
        whole.append("\t".join([*fields, f"system_u:object_r:{type_}:s0"]))
    return "\n".join(whole) + "\n"


CONTEXT_RULES = {
    "file_contexts": _rules(_TYPES.strip()),
    "file_contexts.homedirs": _rules(_HOMES.strip()),
    "file_contexts.local": _rules(_ADDED.strip()),
}
# A port that the administrator gave to the web server.
ADDED_PORT = "portcon tcp 8088 system_u:object_r:http_port_t:s0\n"
