"""Sites that speak TLS: certificates of our own making, and what is asked of them."""

from __future__ import annotations

import random
import subprocess
from pathlib import Path

from tests.worlds.trees import ADDRESSES, PORTS, SEALED_PORT, World

NAMES = ("one", "two", "three", "four")


def certificates(base: Path) -> list[tuple[Path, Path]]:
    """Two certificates with their keys, signed by themselves."""
    made = []
    for number in range(2):
        crt, key = base / f"c{number}.crt", base / f"c{number}.key"
        subprocess.run(
            ["openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256",
             "-nodes", "-days", "2", "-subj", f"/CN=c{number}.test", "-out", str(crt),
             "-keyout", str(key)],
            check=True, capture_output=True,
        )  # fmt: skip
        made.append((crt, key))
    return made


def sealed_request(world: World, rng: random.Random, number: int) -> dict[str, object]:
    """A request to a door that speaks TLS, or in TLS to one that does not, or plain to it."""
    name = rng.choice([f"{name}.sealed.test" for name in NAMES] + ["unknown.test"])
    port = rng.choice([SEALED_PORT] * 5 + [PORTS[0]])
    scheme = "http" if port == SEALED_PORT and rng.random() < 0.15 else "https"
    path = rng.choice(["/", "/index.html", "/sub", "/none", "/sub/"])
    row: dict[str, object] = {"id": number, "to": ADDRESSES[0], "from": "127.0.0.1"}
    row["url"] = f"{scheme}://{name}:{port}{path}"
    row["method"] = rng.choice(["GET", "GET", "HEAD"])
    if rng.random() < 0.4:
        row["sni"] = rng.choice(["", *(f"{name}.sealed.test" for name in NAMES), "unknown.test"])
    return row
