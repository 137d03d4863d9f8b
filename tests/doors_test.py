"""The packet filter beside the kernel's own: rules in network namespaces of the test's making, and
packets from three vantages. Each case of the measured ones by its number, and random ones.
"""

from __future__ import annotations

import json
import os
import random
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from ecumen.doors import Packet, Ruleset, passing

pytestmark = [pytest.mark.server, pytest.mark.apart]
OUTSIDE, SERVER, OTHER = "10.50.0.2", "10.50.0.1", "10.50.0.3"
OUTSIDE6, SERVER6 = "fd50::2", "fd50::1"
PORTS = (80, 443, 8080)
LOCAL = frozenset({"127.0.0.1", "::1", SERVER, OTHER, SERVER6})
ASKED = [("O", SERVER, port) for port in (*PORTS, 8081)] + [
    ("O", OTHER, 80), ("O6", SERVER6, 80), ("O6", SERVER6, 443), ("L", "127.0.0.1", 80),
    ("L", "127.0.0.1", 8080), ("S", SERVER, 80), ("S", SERVER, 443),
]  # fmt: skip
DROP = "type filter hook input priority 0; policy drop;"
ACCEPT = "type filter hook input priority 0; policy accept;"


def one(rules: str, head: str = DROP, family: str = "inet") -> str:
    return f"table {family} t {{ chain c {{ {head}\n{rules}\n}}\n}}\n"


NAT = "type nat hook prerouting priority -100;"
CASES = {
    "D1": "",
    "D2": one(""),
    "D2-lo": one("iif lo accept"),
    "D3": one("tcp dport 80 accept"),
    "D4": one("ct state established,related accept\niif lo accept\ntcp dport {80,443} accept"),
    "D5": one("tcp dport 80 reject with tcp reset", ACCEPT),
    "D5-drop": one("tcp dport 80 drop", ACCEPT),
    "D6": one('iifname "ext0" drop', ACCEPT),
    "D7": one(f"ip daddr {SERVER} drop", ACCEPT),
    "D8": one("ip saddr 10.50.0.0/24 tcp dport 80 accept"),
    "D9": "table inet t { set p { type inet_service; flags interval; elements = {80-90, 443}; }\n"
          f"chain c {{ {DROP}\niif lo accept\ntcp dport @p accept\n}}\n}}",
    "D10": one("", family="ip"),
    "D10-6": one("", family="ip6"),
    "D11": one("tcp dport 80 accept", "type filter hook input priority -10; policy accept;")
           + one("", family="ip"),
    "D12": one("tcp dport 80 accept", ACCEPT) + one(
        "tcp dport 80 drop", "type filter hook input priority 10; policy accept;", "ip"),
    "D13": f"table inet t {{ chain x {{ udp dport 9 accept\n}}\nchain c {{ {ACCEPT}\n"
           "tcp dport 80 jump x\ntcp dport 80 drop\n}\n}",
    "D13-goto": f"table inet t {{ chain x {{ udp dport 9 accept\n}}\nchain c {{ {ACCEPT}\n"
                "tcp dport 80 goto x\ntcp dport 80 drop\n}\n}",
    "D14": "table inet t { chain c { tcp dport 80 drop\n}\n}",
    "D14-dormant": "table inet t { flags dormant; chain c { type filter hook input priority 0; "
                   "policy drop;\n}\n}",
    "D15": one("ct state vmap { established : accept, invalid : drop }\n"
               "tcp dport vmap { 80 : accept, 443 : drop }"),
    "D16": one("tcp dport 80 drop", "type filter hook prerouting priority -300;"),
    "D17": one("tcp sport 80 drop", "type filter hook output priority 0;"),
    "D17-all": one("", "type filter hook output priority 0; policy drop;"),
    "D18": 'table netdev t { chain c { type filter hook ingress device "ext0" priority 0;\n'
           "tcp dport 80 drop\n}\n}",
    "D19": "table inet t { chain r { type filter hook prerouting priority -300;\n"
           f"tcp dport 80 notrack\n}}\nchain c {{ {DROP}\nct state new accept\n}}\n}}",
    "D20": "table inet t { chain r { type filter hook prerouting priority -150;\n"
           f"tcp dport 80 meta mark set 7\n}}\nchain c {{ {DROP}\nmeta mark 7 accept\n}}\n}}",
    "D20-names": one('iifname "ext*" tcp dport 443 accept\n'
                     'iifname . tcp dport { "ext0" . 80 } accept'),
    "D21": one("meta l4proto ipv6-icmp accept\ntcp dport 80 accept"),
    "D23": one("tcp dport 80 redirect to :8080", NAT),
    "D23-out": one("tcp dport 80 redirect to :8080", NAT)
               + "table inet u { chain o { type nat hook output priority -100;\n"
                 "tcp dport 80 redirect to :8080\n}\n}",
    "D23-v4": one("tcp dport 80 redirect to :8080", NAT, "ip"),
    "D24": one("tcp dport 80 redirect to :8080", NAT, "ip")
           + one("ct state established accept\niif lo accept\ntcp dport 80 accept"),
    "D24-after": one("tcp dport 80 redirect to :8080", NAT, "ip")
                 + one("ct state established accept\niif lo accept\ntcp dport 8080 accept"),
    "D25": one("tcp dport 80 redirect to :8080", NAT, "ip")
           + one("ct state established accept\niif lo accept\nct status dnat accept"),
    "D25-original": one("tcp dport 80 redirect to :8080", NAT, "ip")
                    + one("iif lo accept\nmeta l4proto tcp ct original proto-dst 80 accept"),
    "D26": one("tcp dport 80 redirect to :8081", NAT, "ip"),
    "D27": one("tcp dport 80 dnat to 127.0.0.1:8081", NAT, "ip"),
    "not": one("tcp dport != 80 drop", ACCEPT),
    "flags": one("ct state established accept\niif lo accept\n"
                 "tcp flags & (fin|syn|rst|ack) == syn tcp dport 80 accept"),
    "fib": one("ct state established accept\nfib daddr type local tcp dport 443 accept\n"
               "iif lo accept"),
    "v6-only": one("meta nfproto ipv6 accept\niif lo accept"),
    "who": one("ip saddr 10.50.0.2 tcp dport {80, 8000-8100} accept\niif lo accept"),
    "not-who": one("ip saddr != 10.50.0.2 accept\nip6 saddr fd50::/64 accept"),
}  # fmt: skip


def test_the_kernel_lets_through_what_we_say(seed: int, request: pytest.FixtureRequest) -> None:
    count = request.config.getoption("--rules")
    if not shutil.which("nft", path="/usr/sbin:/usr/bin:/sbin:/bin"):
        pytest.skip("nft is not here")
    run = [sys.executable, "-c", f"from tests.doors_test import judge; judge({seed}, {count})"]
    # With a space of its own for processes, which all end with the first one.
    within = ["unshare", "-n", "-m", "-p", "-f", "--kill-child", "--propagation", "private", *run]
    environment = {**os.environ, "PATH": f"{os.environ['PATH']}:/usr/sbin:/sbin"}
    subprocess.run(within, check=True, cwd=Path(__file__).parent.parent, env=environment)


def judge(seed: int, drawn: int) -> None:
    """In a network namespace of its own: the server is this one, outside is another."""
    _laid_out()
    doors = [_door("0.0.0.0", port) for port in PORTS] + [_door("::", port) for port in PORTS]
    doors.append(_door("127.0.0.1", 8081))
    askers = [_asker(who) for who, _, _ in ASKED]
    rng, wrong, unsure, count = random.Random(seed), list[str](), 0, 0
    cases = [*CASES.items(), *((f"random {n}", _drawn(rng)) for n in range(drawn))]
    for name, rules in cases:
        subprocess.run(["nft", "flush", "ruleset"], check=True)
        done = subprocess.run(["nft", "-f", "-"], input=rules, text=True, capture_output=True)
        if "conflicting protocols" in done.stderr:
            continue
        assert done.returncode == 0, (name, done.stderr, rules)
        listed = subprocess.run(["nft", "-j", "list", "ruleset"], capture_output=True, check=True)
        ruleset = Ruleset(json.loads(listed.stdout)["nftables"])
        seen = _seen(askers)
        for asked, theirs in zip(ASKED, seen, strict=True):
            count += 1
            ours = _said(ruleset, *asked)
            if ours == "unsure":
                unsure += 1
            elif ours != theirs:
                wrong.append(f"{name} {asked}: the kernel {theirs}, we {ours}\n{rules}")
    assert not wrong, "\n".join(wrong[:12])
    assert unsure < count / 20, f"{unsure} of {count} unsure"
    print(f"{count} asked, {unsure} unsure, 0 wrong")


def _said(ruleset: Ruleset, who: str, address: str, port: int) -> str:
    v6 = ":" in address
    outside = OUTSIDE6 if v6 else OUTSIDE
    saddr = outside if who[0] == "O" else address
    iif = "ext0" if who[0] == "O" else "lo"
    packet = Packet(
        "ip6" if v6 else "ip", saddr, address, None, port, iif, None, "new", LOCAL, port, address
    )
    found = passing(ruleset, packet)
    heard = found.port in PORTS or (found.port == 8081 and packet.daddr == "127.0.0.1")
    if found.later and not heard:
        return "refused"
    if found.verdict != "passes":
        return {"drop": "nothing", "reject": "refused"}.get(found.verdict, found.verdict)
    return str(found.port) if heard else "refused"


# --- the namespaces ---


def _laid_out() -> None:
    for line in (
        "ip link set lo up", "ip link add ext0 type veth peer name out0", "ip netns add outside",
        "ip link set out0 netns outside", f"ip addr add {SERVER}/24 dev ext0",
        f"ip addr add {OTHER}/24 dev ext0", f"ip addr add {SERVER6}/64 dev ext0 nodad",
        "ip link set ext0 up", f"ip -n outside addr add {OUTSIDE}/24 dev out0",
        f"ip -n outside addr add {OUTSIDE6}/64 dev out0 nodad", "ip -n outside link set out0 up",
        "ip -n outside link set lo up",
    ):  # fmt: skip
        if line.startswith("ip netns"):
            subprocess.run(["mount", "-t", "tmpfs", "none", "/run"], check=True)
        subprocess.run(line.split(), check=True)
    # What the neighbours' addresses are is known: no rule on them keeps packets from being sent.
    for namespace, device, address in (("outside", "out0", SERVER6), ("", "ext0", OUTSIDE6)):
        other = ["ip", *(["-n", "outside"] if not namespace else []), "-j", "link", "show",
                 "out0" if not namespace else "ext0"]  # fmt: skip
        mac = json.loads(subprocess.run(other, capture_output=True, check=True).stdout)[0][
            "address"
        ]
        where = ["-n", namespace] if namespace else []
        subprocess.run(["ip", *where, "neigh", "replace", address, "lladdr", mac, "dev", device,
                        "nud", "permanent"], check=True)  # fmt: skip


def _door(address: str, port: int) -> subprocess.Popen[bytes]:
    text = (
        "import socket,sys\n"
        "s=socket.socket(socket.AF_INET6 if ':' in sys.argv[1] else socket.AF_INET)\n"
        "s.setsockopt(socket.SOL_SOCKET,socket.SO_REUSEADDR,1)\n"
        "if ':' in sys.argv[1]: s.setsockopt(socket.IPPROTO_IPV6,socket.IPV6_V6ONLY,1)\n"
        "s.bind((sys.argv[1],int(sys.argv[2]))); s.listen(64); print('up',flush=True)\n"
        "while 1:\n"
        " c,_=s.accept()\n"
        " try: c.sendall(sys.argv[2].encode()); c.close()\n"
        " except OSError: pass\n"
    )
    door = subprocess.Popen(
        [sys.executable, "-c", text, address, str(port)], stdout=subprocess.PIPE
    )
    assert door.stdout is not None
    door.stdout.readline()
    return door


ASKER = (
    "import socket,sys\n"
    "for line in sys.stdin:\n"
    " a,p=line.split()\n"
    " try:\n"
    "  with socket.create_connection((a,int(p)),.5) as c: print(c.recv(9).decode(),flush=True)\n"
    " except ConnectionRefusedError: print('refused',flush=True)\n"
    " except OSError: print('nothing',flush=True)\n"
)


def _asker(who: str) -> subprocess.Popen[str]:
    """Outside, or on the server."""
    command = [sys.executable, "-c", ASKER]
    if who[0] == "O":
        command = ["ip", "netns", "exec", "outside", *command]
    return subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)


def _seen(askers: list[subprocess.Popen[str]]) -> list[str]:
    """All at once: what gets no answer takes its time."""
    for process, (_, address, port) in zip(askers, ASKED, strict=True):
        assert process.stdin is not None
        process.stdin.write(f"{address} {port}\n")
        process.stdin.flush()
    return [process.stdout.readline().strip() for process in askers if process.stdout is not None]


# --- random rules ---


def _drawn(rng: random.Random) -> str:
    ports = ["80", "443", "8080", "{80, 443}", "{8000-8100}", "!= 80", "80-500", "@p"]

    def test() -> str:
        return rng.choice([
            f"tcp dport {rng.choice(ports)}", "iif lo", 'iifname "ext0"', "ct state established",
            "ct state new", "ct state {new, established}", f"ip daddr {SERVER}",
            f"ip saddr {rng.choice([OUTSIDE, '10.50.0.0/24', '10.9.0.0/16', '127.0.0.0/8'])}",
            "meta nfproto ipv4", "meta l4proto tcp", "ip6 saddr fd50::/64", "meta mark 3",
            "tcp sport > 1023", "fib daddr type local",
        ])  # fmt: skip

    def rule(targets: list[str]) -> str:
        tests = " ".join(dict.fromkeys(test() for _ in range(rng.randint(0, 2))))
        fate = rng.choice(["accept", "accept", "drop", "return", "counter", "meta mark set 3",
                           *(f"jump {each}" for each in targets),
                           *(f"goto {each}" for each in targets)])  # fmt: skip
        return f"{tests} {fate}"

    def chain(name: str, head: str, targets: list[str], most: int) -> str:
        rules = [rule(targets) for _ in range(rng.randint(0, most))]
        # Nothing can be told of an answer that nobody lets back.
        if head and rng.random() < 0.7:
            rules.insert(0, "ct state established accept")
        return f"chain {name} {{ {head}\n" + "\n".join(rules) + "\n}\n"

    text = "table inet t { set p { type inet_service; elements = {80, 8080}; }\n"
    text += chain("one", "", [], 3) + chain("two", "", ["one"], 3)
    for number in range(rng.randint(1, 3)):
        hook = rng.choice(["input", "input", "input", "prerouting", "output"])
        priority, policy = rng.choice([-300, -10, 0, 5]), rng.choice(["accept", "drop"])
        head = f"type filter hook {hook} priority {priority + number}; policy {policy};"
        text += chain(f"base{number}", head, ["one", "two"], 5)
    if rng.random() < 0.3:
        port = rng.choice(["80", "443"])
        text += f"chain nat {{ {NAT}\n{test()} tcp dport {port} redirect to :8080\n}}"
    return f"{text}\n}}\n"


def test_rules_of_a_survey_that_make_no_sense_are_unsure_and_nothing_raises() -> None:
    """A survey that is uploaded may hold any."""
    rng = random.Random(5)
    where = {"family": "inet", "table": "t"}
    head = {"chain": {**where, "name": "c", "hook": "input", "prio": 0, "policy": "accept"}}
    nat = {"chain": {**where, "name": "n", "type": "nat", "hook": "prerouting", "prio": -100}}
    odd: list[object] = [None, {}, [], "", "@none", -1, {"set": [{}]}, [[]], {"prefix": {}},
                         {"range": [1]}, {"elem": {"val": {}}}, "x.y", {"concat": [1]}]  # fmt: skip
    kinds = ["match", "jump", "goto", "vmap", "dnat", "redirect", "mangle", "limit", "accept"]

    def value(depth: int) -> object:
        if depth == 0 or rng.random() < 0.4:
            return rng.choice(odd)
        keys = ["left", "right", "op", "key", "data", "payload", "addr", "port", "target", "&"]
        return {key: value(depth - 1) for key in rng.sample(keys, 2)}

    for _ in range(3000):
        rule = {"chain": rng.choice("cn"), **where, "handle": rng.choice([1, {}]),
                "expr": [{rng.choice(kinds): value(3)}, {"drop": None}]}  # fmt: skip
        table = {"table": {"family": "inet", "name": "t", "flags": rng.choice(odd)}}
        ruleset = Ruleset([table, head, nat, {"rule": rule}, rng.choice(odd)])
        packet = Packet("ip", None, SERVER, None, 80, None, None, "new", LOCAL, 80, SERVER)
        assert passing(ruleset, packet).verdict in ("passes", "drop", "unsure", "elsewhere")
