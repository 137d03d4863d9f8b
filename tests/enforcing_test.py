"""Where the servers ask a policy that is enforced: each as it was measured on a machine that does.

T is a type of which the domain has no right at all.
"""

from __future__ import annotations

import re
from dataclasses import replace

import pytest

from ecumen.audit.checks.contexts import subtrees
from ecumen.audit.scene import Scene
from ecumen.contexts.confinement import Confinement
from ecumen.contexts.policy import Policy
from ecumen.contexts.shipped import shipped_policy
from ecumen.passage import Follower
from ecumen.survey import FileTable, Labels, Mount, PolicyTexts, Survey
from tests.builders import codes, nginx, passage, server

T, OPEN = "default_t", "httpd_sys_content_t"
FILES = (
    "0755 root /srv/a/", "0644 ines /srv/a/index.html", "0644 ines /srv/a/a.html",
    "0644 ines /srv/a/b.html", "0755 ines /srv/a/d/", "0644 ines /srv/a/d/x.html",
    "0644 ines /srv/a/err.html", "0644 ines /srv/a/alt.html", "0777 ines /srv/a/ln.html -> b.html",
)  # fmt: skip


def host(address: str, name: str, *lines: str) -> str:
    """A site whose root is /srv/NAME."""
    inner = "\n".join(lines)
    return f"<VirtualHost {address}>\nDocumentRoot /srv/{name}\n{inner}\n</VirtualHost>\n"


def confined(survey: Survey, closed: tuple[str, ...], type_: str = T) -> Survey:
    """A policy in force under which these paths are of a type that is shut, and others open."""
    entries = (
        replace(entry, context=f"u:r:{type_ if entry.path in closed else OPEN}:s0")
        for entry in survey.files
    )
    labels = Labels({}, replace(shipped_policy(), shipped=False))
    kernel = {"security.mode": "enforcing"}
    return replace(survey, files=FileTable(entries), kernel=kernel, labels=labels)


def told(survey: Survey, path: str, method: str = "GET") -> tuple[bool, int | None]:
    found = passage(survey, f"http://x.test{path}", method=method)
    return found.decided, found.status


HTTPD: dict[str, tuple[tuple[str, ...], tuple[str, ...], dict[str, int]]] = {
    # name: lines of the site, what has the type T, and the status by request.
    "an override file": (
        ("<Directory /srv/a>", "AllowOverride All", "</Directory>"),
        ("/srv/a/d/.htaccess",),
        {"/d/x.html": 403, "/d/none": 403, "/a.html": 200},
    ),
    "a folder without its slash": ((), ("/srv/a/d",), {"/d": 403, "/d/": 403, "/d/x.html": 403}),
    "a file, and what stands behind it": (
        (),
        ("/srv/a/a.html",),
        {"/a.html": 403, "/a.html/more": 403, "/b.html": 200},
    ),
    "a file behind a sign-in": (
        ("<Location />", "AuthType Basic", "AuthName x", "Require valid-user", "</Location>"),
        ("/srv/a/a.html",),
        {"/a.html": 403, "/b.html": 401},
    ),
    "the first of two indexes": (
        ("DirectoryIndex index.html alt.html",),
        ("/srv/a/index.html",),
        {"/": 200},
    ),
    "a page elsewhere for the error": (
        ("ErrorDocument 403 http://other.test/",),
        ("/srv/a/a.html",),
        {"/a.html": 302},
    ),
    "a page of the site for the error": (
        ("ErrorDocument 403 /err.html",),
        ("/srv/a/a.html",),
        {"/a.html": 403},
    ),
    "a link": (
        ("<Directory /srv/a>", "Options FollowSymLinks", "</Directory>"),
        ("/srv/a/ln.html",),
        {"/ln.html": 403, "/b.html": 200},
    ),
}


@pytest.mark.parametrize("name", HTTPD)
def test_httpd_meets_the_policy_where_it_asks_the_kernel(name: str) -> None:
    lines, closed, asked = HTTPD[name]
    files = (*FILES, "0644 ines /srv/a/d/.htaccess") if "override" in name else FILES
    survey = server(host("*:80", "a", *lines), files)
    for path, status in asked.items():
        assert told(confined(survey, closed), path) == (True, status), path
        if status == 403:
            assert codes(passage(confined(survey, closed), f"http://x.test{path}"))[0].startswith(
                "context."
            )
    free = told(confined(survey, ()), "/b.html")
    assert free in ((True, 200), (True, 401))


@pytest.mark.parametrize("method", ["OPTIONS", "PUT", "DELETE"])
def test_a_file_that_may_not_be_looked_at_is_refused_by_any_method(method: str) -> None:
    survey = server(host("*:80", "a"), FILES)
    assert told(confined(survey, ("/srv/a/a.html",)), "/a.html", method) == (True, 403)


def test_a_condition_on_a_file_takes_what_may_not_be_looked_at_for_missing() -> None:
    rules = ("RewriteEngine On", "RewriteCond %{DOCUMENT_ROOT}%{REQUEST_URI} !-f",
             "RewriteRule . /b.html [L]")  # fmt: skip
    config = "LoadModule rewrite_module m\n" + host("*:80", "a", *rules)
    survey = server(config, FILES)
    found = passage(confined(survey, ("/srv/a/a.html",)), "http://x.test/a.html")
    assert (found.decided, found.status, found.file) == (True, 200, "/srv/a/b.html")


NGINX: dict[str, tuple[str, tuple[str, ...], dict[str, int]]] = {
    "what is tried": (
        "try_files $uri /b.html;", ("/srv/a/a.html", "/srv/a/d"),
        {"/a.html": 200, "/d": 200, "/b.html": 200},
    ),
    "what is tried, with a status": (
        "try_files $uri =404;", ("/srv/a/a.html",), {"/a.html": 404, "/b.html": 200},
    ),
    "what is asked of the disk": (
        "if (!-e $request_filename) { return 418; }", ("/srv/a/a.html",),
        {"/a.html": 418, "/b.html": 200},
    ),
    "a page with a status of its own": (
        "error_page 403 =200 /err.html;", ("/srv/a/a.html",), {"/a.html": 200},
    ),
    "a page elsewhere": ("error_page 403 http://o.test/;", ("/srv/a/a.html",), {"/a.html": 302}),
    "a named place": (
        "error_page 403 = @n; location @n { return 204; }", ("/srv/a/a.html",), {"/a.html": 204},
    ),
    "the page of the error itself": (
        "error_page 404 /err.html;", ("/srv/a/err.html",), {"/none": 403},
    ),
    "a file": ("", ("/srv/a/a.html",), {"/a.html": 403, "/b.html": 200}),
    "a link": ("", ("/srv/a/ln.html",), {"/ln.html": 403}),
}  # fmt: skip


@pytest.mark.parametrize("name", NGINX)
def test_nginx_meets_the_policy_where_it_asks_the_kernel(name: str) -> None:
    lines, closed, asked = NGINX[name]
    survey = nginx(f"server {{ listen 192.0.2.10:80; root /srv/a; {lines} }}", FILES)
    for path, status in asked.items():
        assert told(confined(survey, closed), path) == (True, status), path


def test_a_folder_that_may_be_passed_and_not_looked_at_is_passed() -> None:
    """Nothing asks more of it than to be searched; and a link no more than to be read."""
    policy = shipped_policy()
    rule = f"allow httpd_t {T}:dir {{ search }};\nallow httpd_t {T}:lnk_file {{ read }};\n"
    for survey in (
        server(host("*:80", "a"), FILES),
        nginx("server { listen 192.0.2.10:80; root /srv/a; }", FILES),
    ):
        made = confined(survey, ("/srv/a/d", "/srv/a/ln.html"))
        labels = replace(
            made.labels, policy=replace(policy, rules=policy.rules + rule, shipped=False)
        )
        made = replace(made, labels=labels)
        assert told(made, "/d/x.html") == (True, 200)
        assert told(made, "/ln.html") == (True, 200)
        assert told(made, "/d/")[1] in (403, 404)


def test_what_modes_and_the_policy_both_close_is_told_of_both() -> None:
    files = ("0600 ines /srv/a/shut.html", *FILES)
    survey = confined(server(host("*:80", "a"), files), ("/srv/a/shut.html",))
    found = passage(survey, "http://x.test/shut.html")
    assert (found.decided, found.status) == (True, 403)
    assert {"context.unreadable"} <= set(codes(found))
    # Where the policy is mended, modes still keep the worker out.
    mended = passage(confined(survey, ()), "http://x.test/shut.html")
    assert codes(mended) == ["ladder.unreadable"]


@pytest.mark.parametrize(
    ("domain", "expected"),
    [("httpd_t", (True, 403)), (None, (True, 403)), ("unconfined_t", (True, 200)),
     ("other_t", (False, None))],
)  # fmt: skip
def test_the_domain_is_that_of_the_process(
    domain: str | None, expected: tuple[bool, int | None]
) -> None:
    """An engine that was started from a session of root's is kept from nothing."""
    for survey in (
        server(host("*:80", "a"), FILES),
        nginx("server { listen 192.0.2.10:80; root /srv/a; }", FILES),
    ):
        made = confined(survey, ("/srv/a/a.html",))
        made = replace(made, engines=(replace(made.engines[0], domain=domain),))
        decided, status = told(made, "/a.html")
        assert (decided, status if decided else None) == expected


def test_what_a_service_sees_for_itself_is_not_what_the_survey_holds() -> None:
    survey = server(host("*:80", "a"), FILES)
    record = replace(survey.engines[0], own_view=("/srv/a/d",))
    own = replace(survey, engines=(record,))
    assert told(survey, "/d/x.html") == (True, 200)
    assert told(own, "/d/x.html")[0] is False
    assert told(own, "/b.html") == (True, 200)


def test_ports_that_the_kernel_hands_out_are_bound_whatever_their_label() -> None:
    survey = confined(server(host("*:80", "a"), FILES), ())
    kernel = {**survey.kernel, "net.ipv4.ip_local_port_range": "32768 60999"}
    for port, free in ((40_000, True), (12_345, False), (61_000, False)):
        assert Confinement(replace(survey, kernel=kernel)).binds(port)[0] is free, port
    assert Confinement(survey).binds(40_000)[0] is False


def test_a_condition_whose_grouping_is_not_told_leaves_it_open() -> None:
    rules = "allow d_t a_t:file read; [ ( ( x ^ y ) && y ^ z ) ]:True\n"
    rules += "allow d_t b_t:file read; [ ( x ^ y ) && z ]:True\n"
    types = "   type a_t;\n   type b_t;\ntype d_t;\n"
    policy = Policy(PolicyTexts("d_t", rules, types, "bool x true;\nbool y false;\nbool z true;"))
    assert policy.allowed("a_t", "file", "read").allowed is None
    assert policy.allowed("b_t", "file", "read").allowed is True


@pytest.mark.parametrize(("level", "minds", "decided"), [
    ("s0", True, True), ("s0:c1", False, True), ("s0:c1", True, False), ("s1", False, False),
])  # fmt: skip
def test_levels_are_unsure_for_a_domain_that_minds_them(
    level: str, minds: bool, decided: bool
) -> None:
    for survey in (
        server(host("*:80", "a"), FILES),
        nginx("server { listen 192.0.2.10:80; root /srv/a; }", FILES),
    ):
        made = confined(survey, ())
        entries = (
            replace(e, context=f"u:r:{OPEN}:{level}") if e.path == "/srv/a/a.html" else e
            for e in made.files
        )
        policy = made.labels.policy
        assert policy is not None
        types = re.sub(r"(type httpd_t\b[^;]*)", r"\1, mcs_constrained_type", policy.types)
        assert types != policy.types
        if minds:
            made = replace(made, labels=replace(made.labels, policy=replace(policy, types=types)))
        made = replace(made, files=FileTable(entries))
        assert told(made, "/a.html")[0] is decided
        assert told(made, "/b.html") == (True, 200)


def test_what_a_mount_gives_is_not_offered_to_be_given_otherwise() -> None:
    survey = confined(server(host("*:80", "a"), FILES), ("/srv/a/d",))
    rules = {"file_contexts": "/srv/a(/.*)?  system_u:object_r:httpd_sys_content_t:s0\n"}
    survey = replace(survey, labels=replace(survey.labels, files=rules))
    assert [each.top.path for each in subtrees(Scene(Follower(survey)))] == ["/srv/a/d"]
    kept = replace(survey, mounts=(Mount("/", "ext4"), Mount("/srv/a", "vfat", labels=False)))
    assert not subtrees(Scene(Follower(kept)))
