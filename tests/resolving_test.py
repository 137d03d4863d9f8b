"""Where names lead, by the resolver of a machine of its own whose name service is a small one."""

from __future__ import annotations

import socket
import subprocess
import sys
import threading
import time
from pathlib import Path

import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.rdatatype
import dns.rrset
import pytest

from ecumen_machine import naming

RECORDS = {
    ("a.example.", "A"): ["192.0.2.1", "192.0.2.2"],
    ("a.example.", "AAAA"): ["2001:db8::1"],
    ("six.example.", "AAAA"): ["2001:db8::6"],
    ("www.a.example.", "CNAME"): ["alias.example."],
    ("alias.example.", "CNAME"): ["a.example."],
    ("astray.example.", "CNAME"): ["none.example."],
    ("empty.example.", "TXT"): ["x"],
    ("filed.example.", "A"): ["192.0.2.9"],
}
HOSTS = "127.0.0.1 localhost\n192.0.2.77 Filed.example other.example\n"
PRIVATE = (
    "ip link set lo up && mount -t tmpfs none /mnt && cd /etc && "
    "cp -a passwd group ld.so.cache host.conf /mnt/ && cd - && "
    "echo 'hosts: files dns' > /mnt/nsswitch.conf && "
    "echo 'nameserver 127.0.0.1' > /mnt/resolv.conf && mount --move /mnt /etc && exec \"$@\""
)


@pytest.mark.server
@pytest.mark.apart
def test_names_lead_where_the_machine_and_the_name_service_say() -> None:
    run = [sys.executable, "-c", "from tests.resolving_test import ask; ask()"]
    within = ["unshare", "-m", "-n", "--propagation", "private", "sh", "-c", PRIVATE, "sh", *run]
    subprocess.run(within, check=True, cwd=Path(__file__).parent.parent)


def ask() -> None:
    Path("/etc/hosts").write_text(HOSTS)
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as door:
        door.bind(("127.0.0.1", 53))
        threading.Thread(target=_serve, args=(door,), daemon=True).start()
        names = [
            "a.example", "www.a.example", "six.example", "none.example", "empty.example",
            "astray.example", "silent.example", "filed.example", "other.example", "bad..example",
        ]  # fmt: skip
        began = time.monotonic()
        answers = naming.looked_up_apart(names, lambda doing, count: None)
    # What never answers holds up nobody: that it said nothing is all that is known of it.
    assert time.monotonic() - began < naming.SILENT + 5
    both = ["192.0.2.1", "192.0.2.2", "2001:db8::1"]
    for name in ("a.example", "www.a.example", "six.example", "filed.example"):
        told = subprocess.run(["getent", "ahosts", name], capture_output=True, text=True).stdout
        theirs = {line.split()[0] for line in told.splitlines()}
        # The name service is gone by now, and the resolver's own answer was asked while it was not.
        assert not theirs or theirs == set(answers[name]["addresses"]), name
    assert sorted(answers["a.example"]["addresses"]) == both
    assert sorted(answers["a.example"]["published"]) == both
    assert sorted(answers["www.a.example"]["published"]) == both
    assert answers["www.a.example"]["aliases"] == ["alias.example", "a.example"]
    assert answers["six.example"]["published"] == ["2001:db8::6"]
    for name in ("none.example", "empty.example", "astray.example"):
        assert (answers[name]["addresses"], answers[name]["published"]) == ([], []), name
    silent = naming.record_of("silent.example", answers.get("silent.example", {}))
    assert (silent.addresses, silent.published) == (None, None)
    assert answers["filed.example"]["addresses"] == ["192.0.2.77"]
    assert answers["filed.example"]["published"] == ["192.0.2.9"]
    assert answers["other.example"]["published"] == []
    assert naming.record_of("x", answers.get("bad..example", {})).published is None
    filed = {record.name: record for record in naming.hosts_file(lambda _: ["files", "dns"])}
    assert filed["filed.example"].addresses == ("192.0.2.77",)
    assert filed["filed.example"].first_for == ("192.0.2.77",)


def _serve(door: socket.socket) -> None:
    while True:
        try:
            data, asker = door.recvfrom(4096)
        except OSError:
            return
        question = dns.message.from_wire(data)
        answer = dns.message.make_response(question)
        answer.flags |= dns.flags.AA | dns.flags.RA
        name = str(question.question[0].name).lower()
        kind = dns.rdatatype.to_text(question.question[0].rdtype)
        if name.startswith("silent"):
            continue
        while aliases := RECORDS.get((name, "CNAME")):
            answer.answer.append(dns.rrset.from_text(name, 60, "IN", "CNAME", *aliases))
            name = aliases[0]
        found = RECORDS.get((name, kind))
        if found:
            answer.answer.append(dns.rrset.from_text(name, 60, "IN", kind, *found))
        elif not any(known == name for known, _ in RECORDS):
            answer.set_rcode(dns.rcode.NXDOMAIN)
        door.sendto(answer.to_wire(), asker)
