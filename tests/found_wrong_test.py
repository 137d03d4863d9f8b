"""Cases in which an answer was once wrong: the server said otherwise, and now we say so too."""

from __future__ import annotations

from dataclasses import replace

import pytest

from ecumen.passage import Follower, Passage, read_request
from tests.builders import codes, nginx, passage, server

HOST = "<VirtualHost {binding}>\n{lines}\nDocumentRoot /srv/{root}\n</VirtualHost>\n"
FILES = ("0644 ines /srv/a/index.html", "0644 ines /srv/b/index.html")


def host(binding: str, root: str, *lines: str) -> str:
    return HOST.format(binding=binding, root=root, lines="\n".join(lines))


def site(found: Passage) -> str:
    assert found.site is not None
    return found.site.name


def test_a_wildcard_with_the_port_stands_before_one_without() -> None:
    config = host("*", "a", "ServerName any.test") + host("*:80", "b", "ServerName port.test")
    assert site(passage(server(config, FILES), "http://x.test/")) == "port.test"


def test_a_nameless_block_bound_to_all_has_the_main_servers_name_everywhere() -> None:
    config = "ServerName main.test\n" + host("192.0.2.10:80", "a", "ServerName first.test")
    config += host("192.0.2.10:80 *:8080", "b")
    found = passage(server(config, FILES), "http://main.test/")
    assert found.file == "/srv/b/index.html"


def test_lists_of_accounts_are_not_merged_into_a_host_that_has_any_of_its_own() -> None:
    config = "UserDir web\nUserDir disabled ines\n"
    config += host("192.0.2.10:80", "a", "ServerName a.test", "UserDir web")
    config += host("192.0.2.10:80", "b", "ServerName b.test")
    survey = server(config, (*FILES, "0644 ines /home/ines/web/index.html"))
    assert passage(survey, "http://a.test/~ines/").status == 200
    assert passage(survey, "http://b.test/~ines/").status == 404


def test_lists_of_accounts_are_read_without_case() -> None:
    config = host("*:80", "a", "UserDir /home/*/web", "UserDir disabled", "UserDir enabled ines")
    survey = server(config, (*FILES, "0644 ines /home/ines/web/index.html"))
    assert passage(survey, "http://a.test/~INES/").obstacles[0].reason == "There is no /home/INES."


def test_a_folder_as_index_is_passed_over_where_no_slash_is_added() -> None:
    lines = ("DirectorySlash Off", "DirectoryIndex index.html start.html")
    files = ("0755 ines /srv/a/index.html/", "0644 ines /srv/a/start.html")
    found = passage(server(host("*:80", "a", *lines), files), "http://x.test/")
    assert found.file == "/srv/a/start.html"
    found = passage(server(host("*:80", "a", lines[1]), files), "http://x.test/")
    assert (found.status, found.location) == (301, "http://x.test/index.html/")


def test_a_later_index_is_served_though_variants_of_an_earlier_one_cannot_be_looked_for() -> None:
    lines = ("Options MultiViews", "DirectoryIndex index.html start.html")
    files = ("0711 ines /srv/a/", "0644 ines /srv/a/start.html")
    survey = server(host("*:80", "a", *lines), files)
    assert passage(survey, "http://x.test/").file == "/srv/a/start.html"
    assert codes(passage(survey, "http://x.test/gone")) == ["ladder.unlistable", "serve.missing"]


def test_ports_in_redirects() -> None:
    config = "Listen 192.0.2.10:8080\n" + host("192.0.2.10:8080", "a")
    survey = server(config, ("0644 ines /srv/a/sub/x",))
    # Without a name the block gives the port that it is bound to.
    found = passage(survey, "http://x.test:8080/sub", host="x.test")
    assert found.location == "http://x.test:8080/sub/"
    named = server(host("*:80", "a", "ServerName n.test"), ("0644 ines /srv/a/index.html/x",))
    # The server's own question for an index does not know the visitor's port.
    found = passage(named, "http://n.test/", host="n.test:99")
    assert found.location == "http://n.test/index.html/"


def test_sections_on_a_folder_see_the_slash_that_it_is_asked_with() -> None:
    files = ("0644 ines /srv/a/t/x", "0644 ines /srv/a/t/index.html")
    for section in ("Files t", 'DirectoryMatch "/t$"'):
        name = section.split()[0]
        lines = (f"<{section}>", "Require all denied", f"</{name}>")
        survey = server(host("*:80", "a", *lines), files)
        assert passage(survey, "http://x.test/t").status == 403
        assert passage(survey, "http://x.test/t/").status == 200


def test_a_section_on_a_file_binds_it_where_links_are_followed_unseen() -> None:
    lines = ("<Directory /srv/a/*>", "ForceType Text/X-Made", "</Directory>")
    config = host("*:80", "a", *lines)
    found = passage(server(config, FILES), "http://x.test/index.html")
    assert found.content_type == "text/x-made"
    folder = "<Directory /srv/a>\nOptions SymLinksIfOwnerMatch\n</Directory>\n"
    looked = config.replace("</Virt", f"{folder}</Virt")
    found = passage(server(looked, FILES), "http://x.test/index.html")
    assert found.content_type == "text/html"


def test_a_section_on_a_file_does_not_bind_it_as_an_index() -> None:
    lines = ("<Directory /srv/a/*>", "Require all denied", "</Directory>")
    survey = server(host("*:80", "a", *lines), FILES)
    assert passage(survey, "http://x.test/index.html").status == 403
    assert passage(survey, "http://x.test/").status == 200


def test_an_index_is_mapped_anew() -> None:
    lines = ("Alias /m/ /srv/b", "Options Indexes")
    survey = server(host("*:80", "a", *lines), FILES)
    found = passage(survey, "http://x.test/m/")
    assert found.content_type == "text/html;charset=ISO-8859-1"


def test_an_error_page_elsewhere_counts_before_the_way_begins() -> None:
    config = host("*:80", "a", "ErrorDocument 404 http://other.test/")
    found = passage(server(config, FILES), "http://x.test/a%2fb")
    assert (found.status, found.location) == (302, "http://other.test/")


def test_what_makes_content_by_ending_is_asked_for_what_is_not_there() -> None:
    lines = ("LoadModule cgi_module m", host("*:80", "a", "AddHandler cgi-script .odd"))
    survey = server("\n".join(lines), FILES)
    # Whether it is there is not asked where no program may be run.
    assert passage(survey, "http://x.test/gone.odd").status == 403
    assert passage(survey, "http://x.test/gone.html").status == 404


def test_the_hosts_error_page_counts_where_the_walk_stops_before_the_folders_own() -> None:
    lines = (
        "ErrorDocument 403 http://other.test/",
        "<Directory /srv/a>\nErrorDocument 403 closed\n</Directory>",
    )
    survey = server(host("*:80", "a", *lines), ("0700 ines /srv/a/", *FILES))
    found = passage(survey, "http://x.test/sub/x")
    assert (found.status, found.location) == (302, "http://other.test/")


def test_a_dotted_number_as_host_may_be_of_any_size_and_end_in_a_dot() -> None:
    survey = server(host("*:80", "a"), FILES)
    assert passage(survey, "http://x.test/", host="256.1.1.1").status == 200
    assert passage(survey, "http://x.test/", host="127.0.0.43.").status == 200
    assert passage(survey, "http://x.test/", host="1.2.3").status == 400


def test_an_ending_that_is_not_known_takes_no_type_back() -> None:
    survey = server(host("*:80", "a"), ("0644 root /srv/a/page.html.bak", *FILES))
    assert passage(survey, "http://x.test/page.html.bak").content_type == "text/html"


def test_what_stands_in_for_what_is_missing_may_be_missing_where_nothing_stands_in_for_it() -> None:
    lines = ("<Directory /srv/a/sub>", "FallbackResource /none.html", "</Directory>")
    assert passage(server(host("*:80", "a", *lines), FILES), "http://x.test/sub/x").status == 404
    whole = server(host("*:80", "a", "FallbackResource /none.html"), FILES)
    assert passage(whole, "http://x.test/sub/x").status == 500


def test_the_file_of_an_error_that_became_an_answer_is_that_of_its_page() -> None:
    files = ("0600 ines /srv/a/shut.html", "0644 ines /srv/a/err.html", "0755 ines /srv/a/")
    for how, file in (("= /err.html", "err.html"), ("=200 /err.html", "err.html"),
                      ("/err.html", "shut.html")):  # fmt: skip
        survey = nginx(
            f"server {{ listen 192.0.2.10:80; root /srv/a; error_page 403 {how}; }}", files
        )
        found = passage(survey, "http://x.test/shut.html")
        assert (found.decided, found.file) == (True, f"/srv/a/{file}")


def test_the_name_in_the_greeting_answers_what_is_refused_before_the_host_is_read() -> None:
    blocks = "".join(
        f"server {{ listen 192.0.2.10:443 ssl; server_name {name}; root /srv/a; }}"
        for name in ("one.test", "two.test")
    )
    survey = nginx(blocks, ("0644 ines /srv/a/x",))
    for path, method in (("/../x", "GET"), ("/%zz", "GET"), ("/x", "get")):
        found = passage(survey, f"https://two.test{path}", method=method)
        assert found.site is not None
        assert (found.decided, found.status, found.site.name) == (True, 400, "two.test")
    found = passage(survey, "https://other.test/%zz")
    assert found.site is not None
    assert found.site.name == "one.test"


def test_rewriting_without_a_rule_still_asks_whether_links_may_be_followed() -> None:
    for rule in ("", "RewriteRule ^nothing-like-it$ /x"):
        for options, status in (("None", 403), ("FollowSymLinks", 200)):
            lines = ("<Directory /srv/a>", f"Options {options}", "RewriteEngine On", rule,
                     "</Directory>")  # fmt: skip
            survey = server(host("*:80", "a", *lines), FILES)
            answer = Follower(survey).brief(read_request("http://x.test/", to="192.0.2.10"))
            assert (answer["decided"], answer["status"]) == (True, status), (rule, options)
            assert passage(survey, "http://x.test/").status == status


def test_slashes_are_merged_as_the_greeted_server_has_it() -> None:
    """Until the Host header is read, the name in the greeting has chosen."""
    blocks = "".join(
        f"server {{ listen 192.0.2.10:443 ssl; listen 192.0.2.10:80; server_name {name}; "
        f"root /srv/a; {line} }}"
        for name, line in (("one.test", ""), ("two.test", "merge_slashes off;"))
    )
    files = (
        "0755 ines /srv/a/",
        "0755 ines /srv/a/sub/",
        "0644 ines /srv/a/sub/x",
        "0644 ines /srv/a/x",
    )
    survey = nginx(blocks, files)
    for url, file in (("https://two.test", "/srv/a/sub//x"), ("http://two.test", "/srv/a/x"),
                      ("https://one.test", "/srv/a/x")):  # fmt: skip
        found = passage(survey, f"{url}/sub//..//x")
        assert (found.decided, found.status) == (True, 200)
        assert (found.file or "").replace("//", "/") == file.replace("//", "/"), url


def test_a_number_is_no_name_of_a_greeting() -> None:
    """Asked for by name too: a client says none then, and the first site greets."""
    sealed = "SSLEngine on\nSSLCertificateFile /srv/{}.crt"
    blocks = "".join(
        f"<VirtualHost 192.0.2.10:443>\nServerName {name}\nDocumentRoot /srv/a\n"
        f"{sealed.format(number)}\n</VirtualHost>\n"
        for number, name in enumerate(("one.test", "192.0.2.10"))
    )
    survey = server(f"Listen 443\nLoadModule ssl_module m\n{blocks}", FILES)
    found = passage(survey, "https://192.0.2.10/", server_name="192.0.2.10")
    assert (found.decided, found.status) == (True, 421)
    assert passage(survey, "https://192.0.2.10/").status == 421


def test_the_server_does_not_judge_again_under_the_very_same_rules() -> None:
    lines = ("DirectoryIndex none.html", "<Limit GET>", "Require all denied", "</Limit>")
    survey = server(host("*:80", "a", "<Directory /srv/a>", *lines, "</Directory>"), FILES)
    assert passage(survey, "http://x.test/", method="PUT").status == 405
    assert passage(survey, "http://x.test/").status == 403


_LIMITED = "<Directory /srv/a>\n<Limit GET>\nRequire all denied\n</Limit>\n</Directory>\n"


@pytest.mark.parametrize(
    ("lines", "page", "asked", "shown"),
    [
        # Where the walk ends where the one before ended, the server takes it over.
        ("", "/err.html", "/f.txt /nope / /f.txt/x /nope/x", True),
        ("", "/err.html", "/sub/err.html /sub /sub/ /on/index.html", False),
        ("", "/sub/err.html", "/sub/err.html /sub/", True),
        ("", "/sub/err.html", "/f.txt /nope / /sub /f.txt/x", False),
        # What is merged behind the walk is merged anew.
        ("<Location />\nOptions -Indexes\n</Location>", "/err.html", "/f.txt /nope /", False),
        ('<FilesMatch ".">\nOptions -Indexes\n</FilesMatch>', "/err.html", "/f.txt /", False),
    ],
)
def test_with_a_module_merely_loaded_visitors_are_judged_again_but_in_the_same_folder(
    lines: str, page: str, asked: str, shown: bool
) -> None:
    files = (
        "0644 ines /srv/a/f.txt", "0644 ines /srv/a/err.html", "0644 ines /srv/a/sub/err.html",
        "0644 ines /srv/b/index.html", "0777 ines /srv/a/on -> /srv/b",
    )  # fmt: skip
    config = f"LoadModule allowmethods_module m\n{_LIMITED}" + host(
        "*:80", "a", f"ErrorDocument 403 {page}", *lines.splitlines()
    )
    survey = server(config, files)
    for path in asked.split():
        found = passage(survey, f"http://x.test{path}")
        kind = "text/html" if shown else "text/html; charset=iso-8859-1"
        assert (found.decided, found.status, found.content_type) == (True, 403, kind), path


def test_the_index_of_a_post_is_judged_again_where_it_is_missing() -> None:
    files = ("0644 ines /srv/a/has/index.html", "0755 ines /srv/a/sub/")
    survey = server(f"LoadModule allowmethods_module m\n{_LIMITED}" + host("*:80", "a"), files)
    for path, status in (("/has/", 200), ("/sub/", 403), ("/nope/", 404), ("/nope", 404)):
        found = passage(survey, f"http://x.test{path}", method="POST")
        assert (found.decided, found.status) == (True, status), path


def test_a_maker_of_content_takes_the_place_of_what_would_begin_anew() -> None:
    rules = ("RewriteEngine On", "RewriteRule ^page - [H=none]", "RewriteRule x$ /none")
    inside = ("<Directory /srv/a>", "Options FollowSymLinks", *rules, "</Directory>")
    config = "LoadModule rewrite_module m\n" + host("*:80", "a", *inside)
    survey = server(config, ("0644 root /srv/a/page.x", "0644 root /srv/a/b.x", *FILES))
    assert passage(survey, "http://x.test/b.x").status == 404
    assert not passage(survey, "http://x.test/page.x").decided


def test_a_closed_folder_behind_a_link_is_one_obstacle() -> None:
    lines = ("<Directory />", "Options FollowSymLinks Indexes", "</Directory>")
    files = ("0700 ines /srv/c/", "0644 root /srv/c/x.html", "0777 root /srv/a/on -> ../c")
    survey = server(host("*:80", "a", *lines), (*files, *FILES))
    found = codes(passage(survey, "http://x.test/on/"))
    assert found == ["ladder.shut", "ladder.unlistable"]


def test_a_page_that_goes_out_under_the_status_of_a_redirect_is_not_sure() -> None:
    rules = ("RewriteEngine On", "RewriteRule ^/old/(.*) /new/$1 [R=301]", "RewriteRule !^/b /b.x")
    config = "LoadModule rewrite_module m\n" + host("*:80", "a", *rules)
    survey = server(config, ("0644 root /srv/a/b.x", *FILES))
    assert not passage(survey, "http://x.test/old/y").decided
    assert passage(survey, "http://x.test/else").status == 200


def test_a_rule_by_condition_knows_the_file_without_any_conditional_section() -> None:
    rule = 'Require not expr "%{REQUEST_FILENAME} =~ /page/"'
    lines = ("<Directory /srv/a>", "<RequireAll>", "Require all granted", rule, "</RequireAll>",
             "</Directory>")  # fmt: skip
    survey = server(host("*:80", "a", *lines), ("0644 root /srv/a/page.html", *FILES))
    assert passage(survey, "http://x.test/page.html").status == 403
    assert passage(survey, "http://x.test/index.html").status == 200


@pytest.mark.parametrize(
    ("names", "own"),
    [("", ""), ('server_name "" b.test;', ""), ("server_name .Big.Test;", "big.test"),
     ("server_name ~^Big;", "~^Big"), ("server_name b.test;", "b.test")],
)  # fmt: skip
def test_a_server_gives_as_its_own_name_just_its_first_one(names: str, own: str) -> None:
    lines = f"server {{ listen 192.0.2.10:8080; {names} root /srv/a; server_name_in_redirect on; }}"
    survey = nginx(lines, ("0755 root /srv/a/sub/", *FILES))
    found = passage(survey, "http://x.test:8080/sub")
    assert (found.status, found.location) == (301, f"http://{own}:8080/sub/")


def test_rules_stop_the_index_before_the_folder_s_redirects_do() -> None:
    """In a question that the server asks itself, too: who may comes first."""
    lines = ("<Directory /srv/a>", "DirectoryIndex page.txt", "Require all granted",
             "<If \"%{REQUEST_URI} -strcmatch '*.txt'\">", "Require ip 192.0.2.1", "Redirect 410",
             "</If>", "</Directory>")  # fmt: skip
    survey = server(host("*:80", "a", *lines), ("0644 root /srv/a/page.txt", *FILES))
    found = passage(survey, "http://x.test/")
    assert found.status == 403
    assert codes(found) == ["rule.denied", "way.gone"]


@pytest.mark.parametrize("turned", [False, True])
def test_sections_by_pattern_are_sorted_by_the_slashes_in_their_text(turned: bool) -> None:
    """Whatever their order in the file; of as many the later one holds."""
    sections = [
        '<DirectoryMatch "/srv/a/sub">\nRequire all denied\n</DirectoryMatch>\n',
        '<DirectoryMatch "sub">\nRequire all granted\n</DirectoryMatch>\n',
    ]
    config = host("*:80", "a") + "".join(reversed(sections) if turned else sections)
    survey = server(config, ("0644 ines /srv/a/sub/b.txt", *FILES))
    assert passage(survey, "http://x.test/sub/b.txt").status == 403
    # Those of the server as a whole stand before those of a host with as many.
    config = sections[0] + host("*:80", "a", sections[0].replace("denied", "granted"))
    survey = server(config, ("0644 ines /srv/a/sub/b.txt", *FILES))
    assert passage(survey, "http://x.test/sub/b.txt").status == 200


@pytest.mark.parametrize(
    ("given", "canonical", "location"),
    [
        ("https://a.test:8443", "On", "https://a.test:8443/sub/"),
        ("https://a.test", "On", "https://a.test/sub/"),
        ("https://a.test", "Off", "https://x.test/sub/"),
        ("ftp://a.test", "On", "http://a.test/sub/"),
        ("HTTP://a.test", "Off", "http://x.test/sub/"),
    ],
)
def test_a_site_can_call_itself_https(given: str, canonical: str, location: str) -> None:
    lines = (f"ServerName {given}", f"UseCanonicalName {canonical}")
    survey = server(host("*:80", "a", *lines), ("0755 ines /srv/a/sub/", *FILES))
    found = passage(survey, "http://x.test/sub")
    assert (found.decided, found.status, found.location) == (True, 301, location)


def test_the_owners_bit_to_run_is_a_folders_too() -> None:
    lines = "if (-x $request_filename) { return 410; } if (!-e $request_filename) { return 409; }"
    files = ("0700 ines /srv/a/shut/", "0077 ines /srv/a/odd/", "0644 ines /srv/a/page.html")
    survey = nginx(f"server {{ listen 192.0.2.10:8080; root /srv/a; {lines} }}", files)
    asked = ("/shut/", "/odd/", "/page.html", "/none")
    found = [passage(survey, f"http://x.test:8080{path}").status for path in asked]
    assert found[0] == 410
    assert found[1] != 410
    assert found[2:] == [200, 409]


@pytest.mark.parametrize(("kind", "status"), [("", 200), ("volatile; ", 410)])
def test_what_a_map_gave_is_kept_whatever_becomes_of_the_request(kind: str, status: int) -> None:
    config = (
        f"map $uri $gone {{ {kind}default 0; ~html 1; }}"
        "server { listen 192.0.2.10:8080; root /srv/a; index index.html;"
        " if ($gone) { return 410; } }"
    )
    survey = nginx(config, FILES)
    # The rules of the server run again for the index: the map was asked for the folder.
    assert passage(survey, "http://x.test:8080/").status == status
    assert passage(survey, "http://x.test:8080/index.html").status == 410


def test_what_is_set_behind_a_block_changes_nothing_of_its_page() -> None:
    config = (
        "server { listen 192.0.2.10:8080; root /srv/a; error_page 403 $page;"
        " set $page /one.css; index index.html;"
        " location / { deny all; }"
        " location = /index.html { set $page /two.html; } location = /one.css { } }"
    )
    survey = nginx(config, (*FILES, "0644 ines /srv/a/one.css", "0644 ines /srv/a/two.html"))
    found = passage(survey, "http://x.test:8080/")
    assert (found.status, found.content_type) == (403, "text/css")


@pytest.mark.parametrize(
    ("text", "status"),
    [("# nothing\n\n", 200), ("Options None\n", 500), ("<IfModule no.c>\n</IfModule>\n", 500),
     ("Nonsense\n", 500)],
)  # fmt: skip
def test_where_override_files_were_never_spoken_of_they_are_read_and_may_say_nothing(
    text: str, status: int
) -> None:
    files = ("0644 ines /srv/a/.htaccess", *FILES)
    survey = server(host("*:80", "a"), files, texts={"/srv/a/.htaccess": text.encode()})
    assert passage(survey, "http://x.test/").status == 200
    never = replace(survey, texts={**survey.texts, "/etc/usual": b""})
    found = passage(never, "http://x.test/")
    assert (found.decided, found.status) == (True, status)
    # Above the root, too; and a folder that is closed on the way is closed for all.
    above = server(host("*:80", "a"), ("0644 ines /.htaccess", *FILES),
                   texts={"/.htaccess": text.encode(), "/etc/usual": b""})  # fmt: skip
    assert passage(above, "http://x.test/").status == status
    shut = server(host("*:80", "a"), ("0700 ines /srv/a/sub/", *FILES), texts={"/etc/usual": b""})
    assert passage(shut, "http://x.test/sub").status == 403


def test_what_stands_in_for_what_is_missing_is_judged_by_its_own_rules() -> None:
    lines = ("FallbackResource /sub/b.txt", "<Directory /srv/a/sub>", "Require all denied",
             "</Directory>")  # fmt: skip
    files = ("0644 ines /srv/a/sub/b.txt", *FILES)
    found = passage(server(host("*:80", "a", *lines), files), "http://x.test/nothere")
    assert (found.decided, found.status) == (True, 403)
    found = passage(server(host("*:80", "a", lines[0]), files), "http://x.test/nothere")
    assert (found.decided, found.status, found.file) == (True, 200, "/srv/a/sub/b.txt")


def test_an_index_elsewhere_is_served_for_a_folder_that_cannot_be_entered() -> None:
    files = ("0744 ines /srv/a/sub/", "0644 ines /srv/a/shared.html", *FILES)
    for names, status in (("/shared.html", 200), ("index.html /shared.html", 200),
                          ("index.html", 403), ("/none.html", 403)):  # fmt: skip
        survey = server(host("*:80", "a", f"DirectoryIndex {names}"), files)
        found = passage(survey, "http://x.test/sub/")
        assert (found.decided, found.status) == (True, status), names


@pytest.mark.parametrize(
    ("options", "direct", "index"),
    [("FollowSymLinks SymLinksIfOwnerMatch", 403, 200), ("+SymLinksIfOwnerMatch", 403, 200),
     ("SymLinksIfOwnerMatch", 403, 403), ("FollowSymLinks", 200, 200), ("None", 403, 403)],
)  # fmt: skip
def test_the_owners_of_a_link_that_is_the_index_are_not_compared_where_all_are_followed(
    options: str, direct: int, index: int
) -> None:
    files = ("0777 otto /srv/a/index.html -> /srv/b/index.html", FILES[1])
    survey = server(
        f"<Directory /srv/a>\nOptions {options}\n</Directory>\n" + host("*:80", "a"), files
    )
    assert passage(survey, "http://x.test/index.html").status == direct
    assert passage(survey, "http://x.test/").status == index


def test_methods_that_are_not_allowed_are_refused_before_any_rule() -> None:
    """Missing things and folders without their slash, too; deeper sections may allow all again."""
    head = "LoadModule allowmethods_module m\n<Directory /srv/a>\nAllowMethods GET\n"
    config = f"{head}Require ip 192.0.2.1\n</Directory>\n"
    config += "<Directory /srv/a/sub>\nAllowMethods reset\n</Directory>\n"
    files = ("0644 ines /srv/a/sub/b.txt", "0755 ines /srv/a/dir/", *FILES)
    survey = server(config + host("*:80", "a"), files)

    def status(method: str, path: str) -> int | None:
        return passage(survey, f"http://x.test{path}", method=method, source="192.0.2.1").status

    assert [status("GET", p) for p in ("/index.html", "/none", "/dir")] == [200, 404, 301]
    assert [status("HEAD", p) for p in ("/index.html", "/none")] == [200, 404]
    for method in ("POST", "PUT", "OPTIONS", "BREW"):
        assert [status(method, p) for p in ("/index.html", "/none", "/dir")] == [405] * 3
    assert status("POST", "/sub/b.txt") == 200
    refused = passage(survey, "http://x.test/index.html", method="PUT", source="198.51.100.1")
    assert (refused.status, codes(refused)) == (405, ["rule.method", "rule.denied", "serve.method"])


@pytest.mark.parametrize(
    ("word", "status"),
    [("On", 302), ("permanent", 301), ("seeother", 303), ("307", 307), ("Off", 200)],
)
def test_a_visitor_may_be_sent_to_the_index_without_the_query(word: str, status: int) -> None:
    lines = ("ServerName x.test", f"DirectoryIndexRedirect {word}")
    found = passage(server(host("*:80", "a", *lines), FILES), "http://x.test/?a=1")
    assert (found.decided, found.status) == (True, status)
    assert found.location == (None if status == 200 else "http://x.test/index.html")


@pytest.mark.parametrize(
    ("line", "decided"),
    [("RequestHeader set X-In 1", True), ("RequestHeader unset Accept", False),
     ("RequestHeader set Host y.test early", False)],
)  # fmt: skip
def test_headers_of_requests_are_changed_behind_what_answers_by_them(
    line: str, decided: bool
) -> None:
    config = "LoadModule headers_module m\n" + host("*:80", "a", line)
    assert passage(server(config, FILES), "http://x.test/").decided is decided


@pytest.mark.parametrize(
    ("how", "expected"),
    [
        # A link of the same owner at the end, one of another owner, a folder's, one that leads on
        # through another's, and the root itself by a link above it.
        ("on", [403, 403, 404, 403, 404]),
        ("if_not_owner", [200, 403, 403, 200, 403]),
        ("on from=/srv/a", [403, 403, 404, 403, 404]),
        ("on from=$document_root", [403, 403, 404, 403, 200]),
        ("if_not_owner from=$document_root/", [200, 403, 403, 200, 200]),
        ("on from=/elsewhere", [403, 403, 404, 403, 404]),
        ("off", [200, 200, 200, 200, 200]),
    ],
)
def test_links_are_judged_from_where_the_configuration_says(how: str, expected: list[int]) -> None:
    files = (
        "0644 ines /srv/a/page.html", "0777 ines /srv/a/mine.html -> page.html",
        "0777 otto /srv/a/other.html -> page.html", "0644 ines /srv/b/x.html",
        "0777 otto /srv/a/dir -> /srv/b", "0777 ines /srv/a/chain.html -> other.html",
        "0777 otto /srv/ln -> a",
    )  # fmt: skip
    config = "".join(
        f"server {{ listen 192.0.2.10:{port}; root {root}; disable_symlinks {how}; }}"
        for port, root in ((8080, "/srv/a"), (8081, "/srv/ln"))
    )
    survey = nginx(config, files)
    asked = (
        "8080/mine.html",
        "8080/other.html",
        "8080/dir/x.html",
        "8080/chain.html",
        "8081/page.html",
    )
    found = [passage(survey, f"http://x.test:{each}") for each in asked]
    assert [each.decided for each in found] == [True] * 5
    assert [each.status for each in found] == expected


@pytest.mark.parametrize("module", ["", "allowmethods", "log_debug", "lua"])
def test_some_modules_have_who_may_asked_anew_by_being_loaded(module: str) -> None:
    """For an index, which the server looks up for itself by GET; not for the page of an error."""
    lines = ("<Directory /srv/a/sub>", "<Limit GET>", "Require ip 192.0.2.1", "</Limit>",
             "</Directory>", "<Directory /srv/a/shut>", "Require all denied",
             "ErrorDocument 403 /shut/page.css", "</Directory>")  # fmt: skip
    files = ("0755 ines /srv/a/sub/", "0644 ines /srv/a/shut/page.css", *FILES)
    load = f"LoadModule {module}_module m\n" if module else ""
    survey = server(load + host("*:80", "a", *lines), files)
    found = passage(survey, "http://x.test/sub/", method="POST", source="198.51.100.1")
    assert (found.decided, found.status) == (True, 403 if module else 404)
    page = passage(survey, "http://x.test/shut/x.css")
    assert page.status == 403
    assert page.content_type == "text/css"
    short = Follower(survey).brief(read_request("http://x.test/shut/x.css", to="192.0.2.10"))
    assert short["content_type"] == page.content_type
