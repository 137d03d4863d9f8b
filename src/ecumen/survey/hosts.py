"""The hosts file: names that lead to addresses without anybody being asked. Source: hosts(5)."""

from __future__ import annotations

HOSTS_FILE = "/etc/hosts"


def parse_hosts(content: bytes) -> list[tuple[str, tuple[str, ...]]]:
    """Its lines in order, each an address and the names that lead there; lines of none left out."""
    text = content.decode("utf-8", "surrogateescape")
    split = (line.partition("#")[0].split() for line in text.split("\n"))
    return [(parts[0], tuple(parts[1:])) for parts in split if len(parts) > 1]


def led_by(content: bytes, name: str) -> tuple[str, ...]:
    """Where a name leads by it, in the order of the lines; () for nowhere. Case tells no names
    apart, and the resolver takes all lines of a name (measured with glibc 2.36).
    """
    lines = parse_hosts(content)
    found = (address for address, names in lines if name.lower() in map(str.lower, names))
    return tuple(dict.fromkeys(found))


def leading(content: bytes, name: str, addresses: tuple[str, ...]) -> bytes:
    """The file with a name that leads to these addresses alone. Other names, comments and the order
    of lines stay; a line that has no other name is gone, and what is new comes last.
    """
    lines = content.decode("utf-8", "surrogateescape").splitlines(keepends=True)
    kept, have = list[str](), list[str]()
    for line in lines:
        words, mark, comment = line.partition("#")
        parts = words.split()
        left = [each for each in parts[1:] if each.lower() != name.lower()]
        if left == parts[1:]:
            kept.append(line)
        elif addresses[len(have) : len(have) + 1] == (parts[0],):
            have.append(parts[0])
            kept.append(line)
        else:
            rest = [" ".join([parts[0], *left])] if left else []
            said = [f"{mark}{comment}"] if mark else []
            kept.append(" ".join([*rest, *said]).rstrip("\n") + "\n" if rest or said else "")
    if kept and not kept[-1].endswith("\n"):
        kept[-1] += "\n"
    kept += [f"{address} {name}\n" for address in addresses[len(have) :]]
    return "".join(kept).encode("utf-8", "surrogateescape")
