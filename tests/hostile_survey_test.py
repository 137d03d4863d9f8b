"""What owners may do to a survey that root takes: nothing is run, led out, disclosed or left."""

from __future__ import annotations

import hashlib
import os
import shutil
import signal
import stat
import subprocess
import sys
import threading
import time
import zipfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import psutil
import pytest

from ecumen.survey import Survey, read_survey
from ecumen_cli.survey import survey as survey_command
from ecumen_machine import EngineSpec, take_survey
from ecumen_machine import files as gathering
from ecumen_machine.apart import survey_apart
from ecumen_machine.cage import CageError, caged, command
from ecumen_machine.envvars import variables
from ecumen_machine.ground import Ground
from ecumen_machine.handles import open_plain, reached, within
from ecumen_machine.programs import environment_file, running
from ecumen_machine.withheld import content_withheld
from tests.application import ROOT
from tests.worlds.live import httpd, nginx
from tests.worlds.plain import plain_head

pytestmark = pytest.mark.server

NOBODY = 65534
HTTPD, NGINX = "/usr/sbin/apache2", "/usr/sbin/nginx"
SECRET = "word of honour"


@pytest.fixture
def base() -> Iterator[Path]:
    base = Path("/srv/ecumen-hostile")
    shutil.rmtree(base, ignore_errors=True)
    base.mkdir()
    (base / "www").mkdir()
    try:
        yield base
    finally:
        shutil.rmtree(base, ignore_errors=True)


def configured(base: Path, more: str = "") -> Path:
    config = base / "httpd.conf"
    config.write_text(
        plain_head(base, "127.0.0.46", 8086)
        + f"<Directory {base}/www>\n  AllowOverride All\n  Require all granted\n</Directory>\n"
        + f"<VirtualHost *:8086>\n  ServerName one.test\n  DocumentRoot {base}/www\n"
        + "</VirtualHost>\n"
        + more
    )
    return config


def surveyed(config: Path) -> Survey:
    return take_survey([EngineSpec("httpd", str(config))])


def surveyed_as(engine: str, config: Path) -> Survey:
    return take_survey([EngineSpec(engine, str(config))])


def owned(path: Path, text: str = "", mode: int = 0o644, uid: int = NOBODY) -> Path:
    """A file of an account that is not root."""
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(text)
    path.chmod(mode)
    os.chown(path, uid, uid)
    return path


@contextmanager
def as_nobody(*command: str) -> Iterator[subprocess.Popen[bytes]]:
    process = subprocess.Popen(command, user=NOBODY, group=NOBODY, extra_groups=[], cwd="/")
    try:
        time.sleep(0.3)
        yield process
    finally:
        process.kill()
        process.wait()


# --- what is run ---


@pytest.mark.alone
def test_a_process_that_only_calls_itself_an_engine_decides_nothing(base: Path) -> None:
    """Anybody may start a program of that name with any arguments; nothing of it is run or read."""
    ran = base / "ran"
    evil = base / "evil"
    evil.mkdir(mode=0o777)
    evil.chmod(0o777)
    source = evil / "evil.c"
    source.write_text(
        "#include <fcntl.h>\n"
        f'__attribute__((constructor)) static void run(void) {{ creat("{ran}", 0644); }}\n'
        "char evil_module[512];\n"
    )
    subprocess.run(["gcc", "-shared", "-fPIC", "-o", evil / "evil.so", source], check=True)
    owned(evil / "envvars", f"touch {ran}\nexport APACHE_RUN_USER=$(touch {ran})\n")
    owned(evil / "evil.conf", f"LoadModule evil_module {evil}/evil.so\nInclude /etc/shadow\n")
    shutil.copy("/bin/sleep", evil / "apache2")
    (evil / "apache2").chmod(0o755)
    fake = ["-c", f"exec -a apache2 {evil}/apache2 60"]
    arguments = [str(evil / "apache2"), "60", "-f", str(evil / "evil.conf")]
    with as_nobody("/bin/bash", *fake), as_nobody(*arguments):
        survey = take_survey()
        assert running(HTTPD) is None
    record = next(each for each in survey.engines if each.kind == "httpd")
    assert (record.config, record.running) == ("/etc/apache2/apache2.conf", False)
    assert not [path for path in survey.texts if path.startswith(str(base))]
    assert not ran.exists()
    # Given by hand, it is read; it is not checked by running anything.
    survey = surveyed(evil / "evil.conf")
    assert not ran.exists()
    assert survey.engines[0].check is None
    assert [gap.what for gap in survey.gaps if "others than root may write" in gap.why] == ["check"]
    assert not [text for text in survey.texts.values() if b"root:" in text]


@pytest.mark.parametrize("how", ["module", "include", "folder", "group", "link"])
def test_what_others_may_write_is_not_checked_by_running_it(base: Path, how: str) -> None:
    theirs = base / "theirs"
    theirs.mkdir()
    part = theirs / "part.conf"
    part.write_text("# nothing\n")
    line = f"Include {part}\n"
    match how:
        case "module":
            line = f"LoadModule x_module {owned(theirs / 'x.so')}\n"
        case "include":
            os.chown(part, NOBODY, NOBODY)
        case "folder":
            os.chown(theirs, NOBODY, NOBODY)
        case "group":
            os.chown(part, 0, NOBODY)
            part.chmod(0o664)
        case "link":
            os.chown(theirs, NOBODY, NOBODY)
            (base / "link.conf").symlink_to(part)
            line = f"Include {base}/link.conf\n"
    survey = surveyed(configured(base, line))
    assert survey.engines[0].check is None
    assert "others than root may write" in next(g.why for g in survey.gaps if g.what == "check")
    survey = surveyed(configured(base))
    assert survey.engines[0].check is not None
    assert survey.engines[0].check.passes, survey.engines[0].check.output


def test_envvars_are_read_and_never_run(base: Path) -> None:
    owned(
        base / "envvars",
        f"export APACHE_A=one\nAPACHE_B='two words'\nexport APACHE_C=$(touch {base}/ran)\n"
        f"touch {base}/ran\nAPACHE_D=`touch {base}/ran`\n. {base}/other\n"
        "export APACHE_E=$APACHE_A$SUFFIX\n"
        f'if [ -z "$(touch {base}/ran)" ]; then\nAPACHE_F=1\nfi\nexport SECRET=1\n',
    )
    found = environment_file(str(base / "httpd.conf"))
    assert not (base / "ran").exists()
    assert found is not None
    given = {key: value for key, value in found.items() if key != "APACHE_CONFDIR"}
    assert given == {"APACHE_A": "one", "APACHE_B": "two words", "APACHE_E": "one"}


def test_the_packages_own_envvars_are_read_as_the_shell_reads_them() -> None:
    """The file of Debian's package, for the usual instance and for another one."""
    text = Path("/etc/apache2/envvars").read_text()
    for folder in ("/etc/apache2", "/etc/apache2-second"):
        said = subprocess.run(
            ["/bin/sh", "-c", ". /etc/apache2/envvars; exec env -0"],
            capture_output=True, check=True, env={"APACHE_CONFDIR": folder},
        ).stdout  # fmt: skip
        shell = dict(item.split("=", 1) for item in said.decode().split("\0") if "=" in item)
        own = variables(text, {"APACHE_CONFDIR": folder})
        names = {name for name in shell if name.startswith("APACHE_")}
        assert len(names) > 5
        assert {name: own.get(name) for name in names} == {name: shell[name] for name in names}


# --- what is disclosed ---

HASHES = {
    "sha512": "$6$Zo4xVhPq$" + "a" * 86, "sha256": "$5$rounds=5000$abcdefgh$" + "b" * 43,
    "md5": "$1$abcdefgh$" + "c" * 22, "apr1": "$apr1$abcdefgh$" + "d" * 22,
    "bcrypt": "$2y$05$" + "e" * 53, "yescrypt": "$y$j9T$abcdefghijkl$" + "f" * 43,
    "argon2": "$argon2id$v=19$m=65536,t=3,p=4$c29tZXNhbHQ$" + "g" * 43,
    "sha": "{SHA}W6ph5Mm5Pz8GgiULbPgzG37mj9g=", "ssha": "{SSHA}" + "h" * 32,
    "des": "abJnggxhB/yWI", "digest": "realm:" + "0123456789abcdef" * 2,
}  # fmt: skip
KEY = (
    "-----BEGIN {}PRIVATE KEY-----\nTUlJRXZRSUJBREFOQmdrcWhraUc5dzBC\n-----END {}PRIVATE KEY-----\n"
)
MARK = "TUlJRXZRSUJBREFOQmdrcWhraUc5dzBC"


def _hash(kind: str) -> Callable[[Path], str]:
    def make(base: Path) -> str:
        (base / "users").write_text(f"# users\nines:{HASHES[kind]}\nomar:{HASHES[kind]}\n")
        return f"{base}/users"

    return make


def _key(kind: str, before: str = "", leaf: str = "some.conf") -> Callable[[Path], str]:
    def make(base: Path) -> str:
        (base / leaf).write_text(before + KEY.format(kind, kind))
        return f"{base}/{leaf}"

    return make


def _path(path: str) -> Callable[[Path], str]:
    return lambda base: path


def _linked(target: str) -> Callable[[Path], str]:
    def make(base: Path) -> str:
        (base / "in.conf").symlink_to(target)
        return f"{base}/in.conf"

    return make


def _copied(text: Callable[[str], bytes]) -> Callable[[Path], str]:
    def make(base: Path) -> str:
        (base / "in.conf").write_bytes(text(Path("/etc/shadow").read_text()))
        return f"{base}/in.conf"

    return make


def _hard(base: Path) -> str:
    copy = base / "shadow"
    shutil.copy("/etc/shadow", copy)
    os.link(copy, base / "in.conf")
    return f"{base}/in.conf"


def _folder(base: Path) -> str:
    (base / "parts").mkdir()
    (base / "parts" / "a.conf").symlink_to("/etc/shadow")
    return f"{base}/parts/*.conf"


WAYS: dict[str, Callable[[Path], str]] = {
    "the file": _path("/etc/shadow"),
    "its backup": _path("/etc/shadow-"),
    "groups": _path("/etc/gshadow"),
    "dots": _path("/etc/apache2/../shadow"),
    "doubled": _path("//etc//shadow"),
    "root of a process": _path("/proc/self/root/etc/shadow"),
    "root of the first process": _path("/proc/1/root/etc/shadow"),
    "a handle": _path("/proc/self/fd/0"),
    "memory": _path("/proc/self/mem"),
    "environment": _path("/proc/self/environ"),
    "a link": _linked("/etc/shadow"),
    "a link through the kernel": _linked("/proc/self/root/etc/shadow"),
    "a relative link": _linked("../../etc/shadow"),
    "a second name": _hard,
    "a folder of links": _folder,
    "a pattern": _path("/etc/shado[w]"),
    "a copy": _copied(str.encode),
    "a copy behind a comment": _copied(lambda text: b"# a comment\n" + text.encode()),
    "a copy indented": _copied(lambda text: text.replace("\n", "\n  ").encode()),
    "a copy with returns": _copied(lambda text: text.replace("\n", "\r\n").encode()),
    "a copy in two bytes": _copied(lambda text: text.encode("utf-16")),
    "a copy with a mark": _copied(lambda text: text.encode("utf-8-sig")),
    **{f"hashes: {kind}": _hash(kind) for kind in HASHES},
    "a key": _key(""),
    "a key of its kind": _key("RSA "),
    "a key for curves": _key("EC "),
    "a key that is locked": _key("ENCRYPTED "),
    "a key of a shell": _key("OPENSSH "),
    "a key behind its certificate": _key(
        "", "-----BEGIN CERTIFICATE-----\nTUlJ\n-----END CERTIFICATE-----\n"
    ),
    "a key by its name": _key("", leaf="site.key"),
    "a host's key": _path("/etc/ssh/ssh_host_rsa_key"),
}


@pytest.mark.parametrize("way", WAYS)
def test_no_password_hash_and_no_key_is_in_a_survey(base: Path, way: str, tmp_path: Path) -> None:
    """The promise of the README, by every way in that is known."""
    password = HASHES["sha512"]
    account = f"ecshadow{os.getpid() % 1000}"
    subprocess.run(["useradd", "-M", "-p", password, account], check=True)
    try:
        line = f"IncludeOptional {WAYS[way](base)}\n"
        config = configured(base, line)
        out = tmp_path / "x.survey"
        survey_command.main(
            ["--out", str(out), "--engine", f"httpd:{config}"], standalone_mode=False
        )
    finally:
        subprocess.run(["userdel", account], check=False, capture_output=True)
    with zipfile.ZipFile(out) as archive:
        texts = {name: archive.read(name) for name in archive.namelist()}
    assert f"text{config}" in texts
    for name, text in texts.items():
        plain = text.replace(b"\0", b"")
        assert password.encode() not in plain, name
        assert MARK.encode() not in plain, name
        if name.startswith("text/"):
            assert not any(secret.encode() in plain for secret in HASHES.values()), name
            assert b"root:*:" not in plain, name


def test_a_secret_among_other_lines_is_blacked_out_and_the_lines_keep_their_numbers(
    base: Path,
) -> None:
    more = f'SetEnv HASH "{HASHES["apr1"]}"\nDefine KEY "{KEY.format("", "")}"\nDefine LAST 1\n'
    config = configured(base, more)
    text = surveyed(config).texts[str(config)]
    assert text.count(b"\n") == config.read_text().count("\n")
    assert b"[withheld]" in text
    assert b"Define LAST 1" in text.split(b"\n")[-2]
    assert HASHES["apr1"].encode() not in text
    assert MARK.encode() not in text


def test_the_files_of_packages_are_not_taken_for_secrets() -> None:
    """All texts of what is installed here; a certificate alone is none either."""
    found = [*Path("/etc/apache2").rglob("*"), *Path("/etc/nginx").rglob("*")]
    texts = [path for path in found if path.is_file() and not path.name.endswith(".key")]
    assert len(texts) > 100
    for path in (*texts, Path("/etc/mime.types"), Path("/etc/login.defs"), Path("/etc/passwd")):
        assert content_withheld(path.read_bytes()) == "", path


def test_what_a_user_includes_is_read_where_that_user_may_read_it(base: Path) -> None:
    """A folder of the user's own parts, as mass hosting has it: includes lead out of it."""
    home = base / "home"
    home.mkdir()
    os.chown(home, NOBODY, NOBODY)
    secret = base / "secret.conf"
    secret.write_text(f"# {SECRET}\n")
    secret.chmod(0o600)
    opened = base / "opened.conf"
    opened.write_text("# anybody may read this\n")
    own = owned(home / "own.conf", f"Include {secret}\nInclude {opened}\n", 0o600)
    (home / "link.conf").symlink_to(secret)
    os.lchown(home / "link.conf", NOBODY, NOBODY)
    survey = surveyed(configured(base, f"IncludeOptional {home}/*.conf\n"))
    assert str(own) in survey.texts
    assert str(opened) in survey.texts
    assert not [text for text in survey.texts.values() if SECRET.encode() in text]
    gaps = {gap.path: gap.why for gap in survey.gaps if gap.what == "text"}
    assert set(gaps.values()) == {"whoever named it may not read it"}
    assert set(gaps) == {str(secret), f"{home}/link.conf"}
    # Come to by a link of root's own, as where sites are switched on, it is the user's still.
    enabled = base / "enabled"
    enabled.mkdir()
    (enabled / "own.conf").symlink_to(own)
    survey = surveyed(configured(base, f"IncludeOptional {enabled}/*.conf\n"))
    assert str(own) in survey.texts
    assert not [text for text in survey.texts.values() if SECRET.encode() in text]
    # What root itself names is root's affair.
    survey = surveyed(configured(base, f"Include {secret}\n"))
    assert str(secret) in survey.texts


@pytest.mark.parametrize("engine", ["httpd", "nginx"])
@pytest.mark.parametrize("first", ["00-his.conf", "55-his.conf", "99-his.conf"])
@pytest.mark.parametrize("named", ["[1-8]?.conf", "60.conf"])
def test_what_a_user_names_hides_nothing_that_root_names(
    base: Path, tmp_path: Path, engine: str, first: str, named: str
) -> None:
    """Many files are fetched at once; whose leave it was to read one is not forgotten over that."""
    sites = base / "sites"
    sites.mkdir()
    for number in range(10, 90):
        owned(sites / f"{number}.conf", "# of root\n", 0o600, uid=0)
    end = ";" if engine == "nginx" else ""
    owned(sites / first, f"include {sites}/{named}{end}\n")
    config = base / "main.conf"
    line = f"include {sites}/*.conf{end}"
    nested = f"events {{}}\nhttp {{\n{line}\n}}\n"
    owned(config, nested if engine == "nginx" else f"{line}\n", uid=0)
    beside = surveyed_as(engine, config)
    path = tmp_path / "apart.survey"
    with path.open("w+b") as stream:
        survey_apart(stream, [EngineSpec(engine, str(config))])
        stream.seek(0)
        apart = read_survey(stream)
    assert len([each for each in apart.texts if each.startswith(str(sites))]) == 81
    assert apart.texts == beside.texts
    places = [[(gap.what, gap.path, gap.why) for gap in each.gaps] for each in (apart, beside)]
    assert places[0] == places[1]
    assert "whoever named it may not read it" in {why for _, _, why in places[0]}


def test_an_override_file_with_a_second_name_is_not_read(base: Path) -> None:
    secret = owned(base / "other" / "secret", f"# {SECRET}\n", 0o600)
    os.chown(secret, 33, 33)
    os.chown(base / "www", NOBODY, NOBODY)
    os.link(secret, base / "www" / ".htaccess")
    survey = surveyed(configured(base))
    assert not [text for text in survey.texts.values() if SECRET.encode() in text]
    os.unlink(secret)
    # Now it has one name, and its owner or root put it there.
    survey = surveyed(configured(base))
    assert [text for text in survey.texts.values() if SECRET.encode() in text]


def test_an_override_file_behind_somebodys_link_is_read_where_he_may_read_it(base: Path) -> None:
    """The server reads it for a visitor of his site; he himself might not."""
    for name, mode in (("closed", 0o640), ("open", 0o644)):
        owned(base / name / ".htaccess", f"# {SECRET} {name}\n", mode, uid=33)
        link = base / "www" / name
        link.symlink_to(base / name)
        os.lchown(link, NOBODY, NOBODY)
    survey = surveyed(configured(base))
    texts = b"".join(survey.texts.values()).decode()
    assert f"{SECRET} open" in texts
    assert f"{SECRET} closed" not in texts
    # What lies there is known all the same, and a link of root's own is root's affair.
    assert survey.files.get(str(base / "closed" / ".htaccess")) is not None
    os.lchown(base / "www" / "closed", 0, 0)
    assert f"{SECRET} closed" in b"".join(surveyed(configured(base)).texts.values()).decode()


def test_an_override_file_that_is_a_link_is_read_where_its_owner_may_read_it(base: Path) -> None:
    for name, mode in (("closed", 0o640), ("open", 0o644)):
        text = owned(base / "texts" / name, f"# {SECRET} {name}\n", mode, uid=33)
        link = base / "www" / name / ".htaccess"
        link.parent.mkdir()
        link.symlink_to(text)
        os.lchown(link, NOBODY, NOBODY)
    texts = b"".join(surveyed(configured(base)).texts.values()).decode()
    assert f"{SECRET} open" in texts
    assert f"{SECRET} closed" not in texts


def test_a_map_that_a_user_names_is_read_where_that_user_may_read_it(base: Path) -> None:
    secret = base / "secret.map"
    secret.write_text(f"key {SECRET}\n")
    secret.chmod(0o600)
    line = f"LoadModule rewrite_module m\nRewriteMap m txt:{secret}\n"
    own = owned(base / "home" / "own.conf", line, 0o644)
    survey = surveyed(configured(base, f"Include {own}\n"))
    assert not [text for text in survey.texts.values() if SECRET.encode() in text]
    survey = surveyed(configured(base, line))
    assert str(secret) in survey.texts


def test_who_lays_links_without_end_uses_up_his_own_share(
    base: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(gathering, "MOST_LED", 20)
    monkeypatch.setattr(gathering, "MOST_BEHIND", 50)
    monkeypatch.setattr(gathering, "MOST_BEYOND", 100)
    deep = base / "deep"
    for number in range(40):
        (deep / f"in{number}").mkdir(parents=True)
        (deep / f"in{number}" / "x").write_text("x")
    (base / "small").mkdir()
    (base / "small" / "page").write_text("x")
    for number in range(200):
        link = base / "www" / f"a{number}"
        link.symlink_to(deep if number % 2 else f"../../../proc/self/root/{number}")
        os.lchown(link, NOBODY, NOBODY)
    for name, target in (("loop", "loop"), ("me", "../www"), ("proc", "/proc"), ("gone", "/no")):
        (base / "www" / name).symlink_to(target)
    (base / "www" / "z").symlink_to(base / "small")
    survey = surveyed(configured(base))
    assert survey.files.get(str(base / "small" / "page")) is not None
    behind = [entry.path for entry in survey.files if entry.path.startswith(f"{deep}/")]
    assert 0 < len(behind) <= 100
    assert not [entry.path for entry in survey.files if entry.path.startswith("/proc/")]
    assert [gap for gap in survey.gaps if "too much lies behind" in gap.why]


@contextmanager
def swapping(here: Path, other: Path) -> Iterator[None]:
    """Another process exchanges two names, again and again."""
    code = (
        "import ctypes,sys\nl=ctypes.CDLL(None)\n"
        "a,b=(x.encode() for x in sys.argv[1:])\nwhile True: l.renameat2(-100,a,-100,b,2)\n"
    )
    process = subprocess.Popen([sys.executable, "-c", code, str(here), str(other)])
    try:
        time.sleep(0.2)
        yield
    finally:
        process.kill()
        process.wait()


def test_a_folder_that_is_swapped_for_a_link_discloses_nothing(base: Path, tries: int) -> None:
    """0 of all looks at a text, and of the surveys meanwhile."""
    secret = base / "secret"
    secret.mkdir(mode=0o700)
    (secret / ".htaccess").write_text(f"# {SECRET}\n")
    (secret / "hidden").write_text("x")
    own = base / "www" / "site"
    owned(own / ".htaccess", "# own\n")
    os.chown(own, NOBODY, NOBODY)
    os.chown(base / "www", NOBODY, NOBODY)
    (base / "www" / "link").symlink_to(secret)
    os.lchown(base / "www" / "link", NOBODY, NOBODY)
    config = configured(base)
    led_out = seen = 0
    with swapping(own, base / "www" / "link"):
        for _ in range(tries):
            try:
                with reached(str(own / ".htaccess")) as found:
                    led_out += found.info.st_uid == 0 and not found.linked_by
                with within(str(own)) as anchor:
                    seen += os.path.exists(f"{anchor}/hidden")
                os.close(open_plain(str(own / ".htaccess"), os.O_RDONLY))
            except OSError:
                continue
        ground = Ground()
        for _ in range(tries // 20):
            text = ground._text(str(own / ".htaccess"), str(own / ".htaccess"), set())
            led_out += text is not None and SECRET.encode() in text
        for _ in range(tries // 2500):
            survey = surveyed(config)
            led_out += any(SECRET.encode() in text for text in survey.texts.values())
            seen += survey.files.get(str(own / "hidden")) is not None
    assert (led_out, seen) == (0, 0)


# --- what looking leaves ---


def _digest(roots: list[str]) -> dict[str, str]:
    """Metadata, attributes and times (but of access) of everything below."""
    found = {}
    for root in roots:
        for folder, folders, files in os.walk(root):
            for path in (folder, *(os.path.join(folder, name) for name in (*folders, *files))):
                try:
                    info = os.lstat(path)
                    names = sorted(os.listxattr(path, follow_symlinks=False))
                    values = [os.getxattr(path, n, follow_symlinks=False) for n in names]
                except OSError:
                    continue
                facts = (
                    info.st_ino, info.st_mode, info.st_uid, info.st_gid, info.st_size,
                    info.st_mtime_ns, info.st_ctime_ns, info.st_nlink, names, values,
                )  # fmt: skip
                if stat.S_ISDIR(info.st_mode) or stat.S_ISREG(info.st_mode):
                    found[path] = hashlib.blake2b(repr(facts).encode()).hexdigest()
    return found


def _sockets() -> set[tuple[object, ...]]:
    return {
        (each.laddr, each.status, each.pid)
        for each in psutil.net_connections("inet")
        if each.status == psutil.CONN_LISTEN
    }


PLACES = ["/etc", "/run", "/var/log", "/var/lib/nginx", "/var/lib/apache2", "/srv", "/var/cache"]


def _all_alike(command: list[str]) -> subprocess.CompletedProcess[bytes]:
    """Runs a survey, and finds everything as it was."""
    environment = os.environ | {"PYTHONPATH": str(ROOT / "src"), "PYTHONDONTWRITEBYTECODE": "1"}
    heard: list[tuple[object, ...]] = []
    before = _digest(PLACES), _sockets(), {p.pid for p in psutil.process_iter()}
    watch = threading.Event()

    def connect() -> None:
        while not watch.is_set():
            heard.extend(_sockets() - before[1])

    looking = threading.Thread(target=connect)
    looking.start()
    done = subprocess.run(command, capture_output=True, check=False, env=environment)
    watch.set()
    looking.join()
    after = _digest(PLACES), _sockets()
    assert done.returncode in (0, 3), done.stderr
    changed = {
        path
        for path in before[0].keys() | after[0].keys()
        if before[0].get(path) != after[0].get(path)
    }
    assert not changed
    assert before[1] == after[1]
    assert not heard
    assert (
        not {p.pid for p in psutil.process_iter() if p.name() in ("nginx", "apache2")} - before[2]
    )
    return done


@pytest.mark.alone
def test_looking_changes_nothing_while_both_engines_are_stopped(base: Path, tmp_path: Path) -> None:
    """A log that is missing stays so, no process number is left, no port is bound."""
    log = Path("/var/log/nginx/never-there.log")
    extra = Path("/etc/nginx/conf.d/ecumen-hostile.conf")
    extra.write_text(f"server {{ listen 127.0.0.47:8087; access_log {log}; }}\n")
    code = "from ecumen_cli.main import main; main()"
    out = tmp_path / "x.survey"
    command = [sys.executable, "-c", code, "survey", "--out", str(out)]
    try:
        subprocess.run(command, env=os.environ | {"PYTHONPATH": str(ROOT / "src")}, check=False)
        _all_alike(command)
    finally:
        extra.unlink()
    assert not log.exists()
    assert not Path("/run/nginx.pid").exists()
    with out.open("rb") as stream:
        survey = read_survey(stream)
    checks = {record.kind: record.check for record in survey.engines}
    for check in checks.values():
        assert check is not None
        assert check.passes, check.output


@pytest.mark.alone
def test_looking_changes_nothing_while_both_engines_run(base: Path, tmp_path: Path) -> None:
    config = configured(base)
    other = base / "nginx.conf"
    other.write_text(
        f"user www-data;\npid {base}/nginx.pid;\nerror_log {base}/nginx.log;\n"
        "events { }\nhttp {\n  access_log off;\n"
        "  server { listen 127.0.0.47:8087; root /srv; }\n}\n"
    )
    out = tmp_path / "x.survey"
    code = "from ecumen_cli.main import main; main()"
    command = [
        sys.executable, "-c", code, "survey", "--out", str(out),
        "--engine", f"httpd:{config}", "--engine", f"nginx:{other}",
    ]  # fmt: skip
    with httpd(config, "127.0.0.46", 8086), nginx(other, "127.0.0.47", 8087):
        _all_alike(command)
        with out.open("rb") as stream:
            survey = read_survey(stream)
        heard = {(each.address, each.port) for each in survey.listeners}
        assert {("127.0.0.46", 8086), ("127.0.0.47", 8087)} <= heard
    assert all(record.check and record.check.passes for record in survey.engines)


def test_a_check_that_hangs_is_ended_with_all_that_it_started(
    base: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("ecumen_machine.cage.LONGEST_CHECK", 1.0)
    began = time.monotonic()
    script = "sleep 987 & setsid sleep 988 & trap '' TERM; sleep 989"
    with pytest.raises(CageError, match="within"):
        caged(command(["/bin/sh", "-c", script], {}))
    assert time.monotonic() - began < 5
    time.sleep(0.3)
    left = [
        p for p in psutil.process_iter(["cmdline"]) if "98" in " ".join(p.info["cmdline"] or [])
    ]
    assert not [p for p in left if p.info["cmdline"][0] == "sleep"]


# --- the process that understands ---


def test_the_process_that_understands_needs_no_file_for_any_condition(base: Path) -> None:
    """What it works with was read before it was shut in."""
    config = configured(base)
    conditions = ("IfVersion ~ ^2", "IfDirective Alias", "IfSection Proxy", "IfFile c",
                  "IfModule mod_x.c", "IfDefine X")  # fmt: skip
    with config.open("a") as stream:
        for condition in conditions:
            name = condition.split()[0]
            stream.write(f"<{condition}>\nServerSignature Off\n</{name}>\n")
    # A process of its own, in which nothing was loaded by another test.
    words = ["survey", "--engine", f"httpd:{config}", "--out", str(base / "out.survey")]
    code = "from ecumen_cli.main import main; main()"
    done = subprocess.run(
        [sys.executable, "-c", code, *words],
        capture_output=True,
        text=True,
        env=os.environ | {"PYTHONPATH": str(ROOT / "src")},
    )
    assert done.returncode == 0, done.stderr
    with (base / "out.survey").open("rb") as stream:
        assert read_survey(stream).engines[0].kind == "httpd"


def test_the_process_that_understands_can_do_nothing_else(
    base: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Tried from inside of it, in place of understanding."""
    config = configured(base)
    tries = base / "tries"

    def attack(*_: object) -> Survey:
        results = []
        for name, attempt in {
            "shadow": lambda: open("/etc/shadow").close(),
            "passwd": lambda: open("/etc/passwd").close(),
            "write": lambda: open(base / "new", "w").close(),
            "run": lambda: os.execv("/bin/true", ["true"]),
            "fork": os.fork,
            "network": lambda: __import__("socket").create_connection(("127.0.0.1", 22), 1),
            "signal": lambda: os.kill(os.getppid(), signal.SIGTERM),
            "root": lambda: os.setuid(0),
            "trace": lambda: open(f"/proc/{os.getppid()}/mem", "rb").close(),
            "much": lambda: bytearray(64 << 30),
        }.items():
            try:
                attempt()  # type: ignore[operator]
                results.append(f"{name} could be done")
            except (OSError, MemoryError):
                continue
        from ecumen_machine import ProbeError

        raise ProbeError(f"tried: {results}, uid {os.getuid() != 0}")

    monkeypatch.setattr("ecumen_machine.apart.understood", attack)
    with tries.open("w+b") as stream, pytest.raises(Exception, match=r"tried: \[\], uid True"):
        survey_apart(stream, [EngineSpec("httpd", str(config))])
