"""Security contexts beside the real tools: matchpathcon for the rules, setools for the policy."""

from __future__ import annotations

import json
import os
import random
import re
import shutil
import subprocess
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ecumen.contexts.policy import Policy
from ecumen.contexts.rules import NONE, ContextRules, LabelError
from ecumen.contexts.shipped import shipped_policy
from ecumen.passage import Follower, read_request
from ecumen.survey import Kind, Labels, PolicyTexts
from ecumen_machine import EngineSpec, take_survey
from ecumen_machine.contexts import labels_here, policy_texts, rules_in
from ecumen_machine.files import Collector
from tests.audit_test import ONE, block, labelled
from tests.builders import codes, passage, replacing
from tests.command_test import run
from tests.worlds.live import ask, httpd
from tests.worlds.plain import plain_head
from tests.worlds.trees import ADDRESSES, PORTS

RULES = Path("/etc/selinux/default/contexts/files")
POLICY = "/etc/selinux/default/policy/policy.33"
ORACLE = Path(__file__).parent / "worlds/policy_oracle.py"
real = pytest.mark.skipif(not os.path.exists(POLICY), reason="needs Debian's reference policy")
KINDS = {"file": Kind.FILE, "dir": Kind.DIR, "lnk_file": Kind.LINK, "sock_file": Kind.SOCKET}


def told(paths: Sequence[str], kind: str, rules: Path) -> list[str]:
    """What matchpathcon says; it must be told the kind, or it would look at the disk."""
    found: list[str] = []
    for at in range(0, len(paths), 400):
        command = ["matchpathcon", "-n", "-f", str(rules), "-m", kind, *paths[at : at + 400]]
        done = subprocess.run(command, capture_output=True, text=True, check=False)
        found += done.stdout.split("\n")[:-1]
    return found


def like(pattern: str, rng: random.Random) -> str:
    """A path that a rule may well fit."""
    text = re.sub(r"\(([^()|]*)\|[^()]*\)", r"(\1)", pattern)
    for part, texts in (
        ("(/.*)?", ("", "/x", "/x/y.html")), ("(/.+)?", ("", "/z")), (".*", ("", "ab", "q/r")),
        (".+", ("a", "b/c")), ("[^/]+", ("ines", "otto")), ("[^/]*", ("", "k")), ("[0-9]+", ("7",)),
    ):  # fmt: skip
        text = text.replace(part, rng.choice(texts))
    return re.sub(r"\\(.)", r"\1", re.sub(r"[()?]", "", text))


TOPS = ("/home/ines/public_html", "/home/otto", "/srv/www", "/srv/a/b/www", "/var/run", "/lib64",
        "/run/lock", "/data", "/root/www", "/bin", "/var/www")  # fmt: skip


@real
def test_expected_contexts_are_those_of_the_tool(seed: int) -> None:
    rng = random.Random(seed)
    rules = ContextRules(rules_in(str(RULES)))
    paths = []
    while len(paths) < 2000:
        path = like(rng.choice(rules.rules).pattern, rng)
        chance = rng.random()
        if chance < 0.25:
            path = rng.choice(TOPS) + path
        elif chance < 0.35:
            path = path.replace("/", "//", 1) + rng.choice(["", "/", "/.", "/.."])
        if path.startswith("/") and "\n" not in path:
            paths.append(path)
    for name, kind in KINDS.items():
        for path, context in zip(paths, told(paths, name, RULES / "file_contexts"), strict=True):
            mine = rules.expected(path, kind)
            assert mine.sure, path
            assert (mine.context or NONE) == context, (path, name, mine.rule)


# Every oddity that was measured: stems, escapes, alternatives without a group, exact rules that
# come last, substitutions that hide each other.
LINES = (
    "/.*\ta", "/x/a|/x/b\tb", "/q\\.c\tc", "/q\\.c/in\td", "/x(/.*)?\t-d\te", "/x/y\tf",
    "/x/y\t--\tg",
    "/x/.*\th", "/x/[^/]*\\.so(\\.[^/]*)*\ti", "/x/[[:digit:]]+\tj", "/x/y\t<<none>>", "/x/y/?\tk",
    "/x/y{2}\tl", "/y/.+\tm", "/x\\+y/z\tn", "/(x|y)/z\to", "/x/\\d\tp", "  /y/w\tq", "# /y/w\tr",
)  # fmt: skip
SUBS = ("/s /x", "/s/y /y", "/t/ /x", "/u /", "/y /x/", "/v /x more", "#/w /x", "/x /y")
PATHS = (
    "/x", "/x/a", "/x/ab", "/x/b", "/x/a/x/b", "/q.c", "/q.c/in", "/qxc", "/x/y", "/x/y/", "/x//y",
    "/x/yy", "/x/lib.so.1.2", "/x/l.so...", "/x/7", "/x/\u00e9", "/y/w", "/y/w/z", "/x/z", "/y/z",
    "/s", "/s/a", "/s/y", "/s/y/z", "/t/a", "/u", "/u/x/y", "/u/y", "/v/y", "/w/y", "/x+y/z", "/",
    "//", "/x/.", "/x/..", "relative", "/X/y", "/y/",
)  # fmt: skip


@real
def test_any_rules_are_looked_up_as_the_tool_does(seed: int, tmp_path: Path) -> None:
    rng = random.Random(seed)
    for number in range(12):
        folder = tmp_path / str(number)
        folder.mkdir()
        for name in ("file_contexts", "file_contexts.homedirs", "file_contexts.local"):
            lines = rng.sample(LINES, rng.randint(1, 6))
            (folder / name).write_text("".join(f"{line}\n" for line in lines))
        for name in ("file_contexts.subs", "file_contexts.subs_dist"):
            lines = rng.sample(SUBS, rng.randint(0, 3))
            (folder / name).write_text("".join(f"{line}\n" for line in lines))
        rules = ContextRules(rules_in(str(folder)))
        for name, kind in KINDS.items():
            answers = told(PATHS, name, folder / "file_contexts")
            for path, context in zip(PATHS, answers, strict=True):
                mine = rules.expected(path, kind)
                if mine.sure:
                    assert (mine.context or NONE) == context, (folder, path, name, mine.rule)
                else:
                    # What Ecumen does not evaluate is little, and is said.
                    assert path.startswith("/x")


@pytest.mark.parametrize(
    "line", ["/x", "/x a b c d", "/x -q a", "/\u00e9 a", "/x -- a b"], ids=ascii
)
def test_one_bad_line_spoils_all_and_is_named(line: str, tmp_path: Path) -> None:
    text = f"/.*\ta\n\n{line}\n"
    with pytest.raises(LabelError, match="file_contexts:3"):
        ContextRules({"file_contexts": text})
    (tmp_path / "file_contexts").write_text(text)
    done = run("label", "--contexts", str(tmp_path), "/x")
    assert done.returncode == 2
    assert "file_contexts:3" in done.stderr


@given(
    st.lists(st.sampled_from([*LINES, "/(\ta", "/[\ta", "/x(?>a)\tb", "*\ta"]), max_size=6),
    st.text(),
)
def test_any_rules_give_an_answer(lines: list[str], path: str) -> None:
    ContextRules({"file_contexts": "\n".join(lines)}).expected(path)


@real
def test_the_policy_allows_what_its_tools_say_it_does(seed: int) -> None:
    policy = Policy(policy_texts(POLICY, "httpd_t"))
    command = ["/usr/bin/python3", str(ORACLE), POLICY, "httpd_t", str(seed), "3"]
    said = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    perms = {
        "dir": "search getattr open read write add_name remove_name rmdir",
        "lnk_file": "read getattr create unlink",
    }
    usual = "getattr open read map append write execute create unlink"
    switches: dict[str, bool] = {}
    held = 0
    for line in said.splitlines():
        row = json.loads(line)
        if isinstance(row, dict):
            switches = row
            continue
        type_, kind, allowed = row
        for perm in perms.get(kind, usual).split():
            answer = policy.allowed(type_, kind, perm, switches)
            assert answer.allowed == (perm in allowed), (type_, kind, perm, switches, answer)
            held += perm in allowed
    assert held > 3_000


@real
def test_the_shipped_policy_says_what_debians_says() -> None:
    mine, theirs = Policy(shipped_policy()), Policy(policy_texts(POLICY, "httpd_t"))
    assert set(mine.types) == set(theirs.types)
    for type_ in theirs.types:
        for kind, perm in (("file", "read"), ("dir", "search"), ("tcp_socket", "name_bind")):
            ours, real_one = mine.allowed(type_, kind, perm), theirs.allowed(type_, kind, perm)
            assert ours.allowed == real_one.allowed
    assert [mine.port_type("tcp", port) for port in (80, 8080, 81, 8081)] == [
        "http_port_t", "http_cache_port_t", "reserved_port_t", "transproxy_port_t",
    ]  # fmt: skip


@real
def test_the_command_answers_line_by_line() -> None:
    asked = [
        {"id": 1, "type": "httpd_sys_content_t", "class": "file", "perm": "read"},
        {"id": 2, "type": "user_home_t", "class": "file", "perm": "read"},
        {"id": 3, "type": "user_home_t", "class": "file", "perm": "read",
         "switches": {"httpd_read_user_content": True}},
        {"id": 4, "type": "nothing_t", "class": "file", "perm": "read"},
        {"id": 5, "type": 7},
    ]  # fmt: skip
    given_rows = "".join(json.dumps(row) + "\n" for row in asked)
    done = run("context", "--policy", POLICY, "--domain", "httpd_t", "--batch", "-",
               given=given_rows)  # fmt: skip
    rows = [json.loads(line) for line in done.stdout.splitlines()]
    assert [(row["id"], row["allowed"]) for row in rows] == [
        (1, True), (2, False), (3, True), (4, None), (5, None),
    ]  # fmt: skip
    assert "httpd_read_user_content" in rows[1]["why"]


@pytest.mark.share(2)
@real
@pytest.mark.server
def test_the_context_that_a_path_has_is_read_from_the_disk(tmp_path: Path) -> None:
    page = tmp_path / "page"
    page.write_text("")
    context = "system_u:object_r:default_t:s0"
    subprocess.run(["setfattr", "-n", "security.selinux", "-v", context, page], check=True)
    collector = Collector()
    collector.trees([str(tmp_path)])
    entry = collector.table().get(str(page))
    assert entry is not None
    assert entry.context == context
    done = run("label", "--contexts", str(RULES), "--json", str(page), "/srv/www", "/mnt/a/b")
    rows = [json.loads(line) for line in done.stdout.splitlines()]
    assert rows[0]["actual"] == context
    assert rows[1]["expected"] == "system_u:object_r:httpd_sys_content_t:s0"
    assert rows[2] == {"path": "/mnt/a/b", "expected": None, "actual": None}
    found = labels_here()
    assert found.policy is not None
    assert "allow httpd_t" in found.policy.rules


@pytest.mark.share(2)
@real
@pytest.mark.server
def test_a_closed_home_a_wrong_context_and_a_cut_acl_are_captured_and_explained() -> None:
    base = Path("/srv/ecumen-contexts")
    shutil.rmtree(base, ignore_errors=True)
    base.mkdir(mode=0o755)
    try:
        blocks = []
        for name in ("closed", "moved", "cut", "fine"):
            page = base / "www" / name / "public" / "index.html"
            page.parent.mkdir(parents=True)
            page.write_text("page")
            blocks.append(f"<VirtualHost *>\nServerName {name}.test\nDocumentRoot {page.parent}\n")
            blocks.append("</VirtualHost>\n")
        (base / "www/closed").chmod(0o700)
        page = base / "www/cut/public/index.html"
        subprocess.run(["chmod", "600", page], check=True)
        subprocess.run(["setfacl", "-n", "-m", "u:www-data:r--,m::-w-", page], check=True)
        for path in [base, *base.rglob("*")]:
            type_ = "default_t" if "moved" in path.parts else "httpd_sys_content_t"
            context = f"system_u:object_r:{type_}:s0"
            command = ["setfattr", "-h", "-n", "security.selinux", "-v", context, str(path)]
            subprocess.run(command, check=True)
        config = base / "main.conf"
        config.write_text(plain_head(base, ADDRESSES[0], PORTS[0]) + "".join(blocks))
        survey = take_survey([EngineSpec("httpd", str(config))], [str(base)])
        # This kernel enforces no policy; were it to, as a machine with this very policy does:
        labels = labels_here()
        local = "/srv/ecumen-contexts(/.*)?\tsystem_u:object_r:httpd_sys_content_t:s0\n"
        files = {**labels.files, "file_contexts.local": local}
        files_around = [replace(e, context="system_u:object_r:root_t:s0") for e in survey.files
                        if not e.path.startswith(str(base))]  # fmt: skip
        enforced = replace(
            survey,
            files=replacing(survey.files, files_around),
            labels=replace(labels, files=files),
            kernel={**survey.kernel, "security.mode": "enforcing"},
        )
        follower = Follower(enforced)
        told = {}
        with httpd(config, ADDRESSES[0], PORTS[0]):
            for name in ("closed", "moved", "cut", "fine"):
                url = f"http://{name}.test:{PORTS[0]}/"
                passage = follower.follow(read_request(url, to=ADDRESSES[0]))
                told[name] = [(o.gate, o.code) for o in passage.obstacles]
                plainly = Follower(survey).follow(read_request(url, to=ADDRESSES[0]))
                assert plainly.status == ask({"url": url, "to": ADDRESSES[0]}).status
        assert told == {
            "closed": [("ladder", "ladder.shut")],
            "moved": [("context", "context.shut")] * 2 + [("context", "context.unreadable")],
            "cut": [("ladder", "ladder.unreadable")],
            "fine": [],
        }
        shown = follower.follow(read_request(f"http://moved.test:{PORTS[0]}/", to=ADDRESSES[0]))
        (gate,) = [gate for gate in shown.gates if gate.gate == "context"]
        last = gate.labels[-1]
        assert (last.type, last.expected, last.allowed) == (
            "default_t", "httpd_sys_content_t", False,
        )  # fmt: skip
        assert survey.labels.files["file_contexts"] == labels.files["file_contexts"]
    finally:
        shutil.rmtree(base)


def test_a_folder_that_the_policy_closes_is_met_before_who_may() -> None:
    lines = "<Location />\nAuthType Basic\nAuthName x\nRequire valid-user\n</Location>"
    survey = labelled(block("a.test", lines=lines), "backup_store_t")
    found = passage(survey, "http://a.test/")
    # Signing in is asked for only once the folder can be passed.
    assert found.status == 403
    assert codes(found)[0] == "context.shut"
    assert "context.unreadable" in codes(found)
    assert passage(labelled(block("a.test", lines=lines), "httpd_sys_content_t"),
                   "http://a.test/").status == 401  # fmt: skip


def test_rules_that_cannot_be_read_leave_the_answer_sure() -> None:
    survey = labelled(ONE, "httpd_sys_content_t")
    broken = replace(survey, labels=replace(survey.labels, files={"file_contexts": "/x\n"}))
    found = passage(broken, "http://a.test/")
    assert (found.status, found.decided) == (200, True)
    confinement = Follower(broken).confinement
    assert confinement.rules is None
    assert "file_contexts:1" in confinement.unruled
    # A policy that cannot be read leaves nothing sure.
    assert survey.labels.policy is not None
    policy = replace(survey.labels.policy, types="")
    lost = passage(replace(survey, labels=replace(survey.labels, policy=policy)), "http://a.test/")
    assert not lost.decided


def test_what_rests_on_the_shipped_policy_is_not_sure() -> None:
    survey = labelled(ONE, "httpd_sys_content_t")
    found = passage(replace(survey, labels=replace(survey.labels, policy=None)), "http://a.test/")
    assert not found.decided
    assert [doubt.code for doubt in found.unsure_because] == ["context.shipped"]
    permissive = replace(survey, labels=Labels(), kernel={"security.mode": "permissive"})
    assert passage(permissive, "http://a.test/").decided


def test_conditions_of_every_form_are_understood() -> None:
    rules = (
        "allow d_t a_t:file read; [ x && !y ]:True\nallow d_t b_t:file read; [ ( x || y ) ]:False\n"
        "allow d_t c_t:file { read write }; [ x ^ y ]:True\nallow d_t at:dir search;\n"
        "allow d_t d_t:file read; [ !( x == y ) ]:True\nallow d_t self:dir read;\n"
    )
    types = "".join(f"   type {name}_t, at;\n" for name in "abc") + "type d_t alias { e_t f_t };\n"
    switches = "bool x false;\nbool y true;"
    policy = Policy(PolicyTexts("d_t", rules, types, switches))
    for x in (False, True):
        for y in (False, True):
            state = {"x": x, "y": y}
            answers = [policy.allowed(f"{n}_t", "file", "read", state).allowed for n in "abcd"]
            assert answers == [x and not y, not (x or y), x != y, x != y]
    assert policy.allowed("b_t", "dir", "search").allowed
    assert policy.allowed("f_t", "dir", "read").allowed
    assert policy.opened_by("a_t", "file", "read") == [{"x": True, "y": False}]
    assert policy.switches_used == {"x", "y"}
