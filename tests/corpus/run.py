"""The configurations that Debian's packages bring along, beside the real servers, one by one and
all together: `python -m tests.corpus.run DIR [SEED]`. DIR is what bin/make-corpus made.

Packages are laid over this machine's own tree in a mount and a network name space of their own;
none is installed, and nothing of them is run but what the server itself starts.
"""

from __future__ import annotations

import json
import subprocess
import sys
from collections import Counter
from pathlib import Path

ROOT = Path(__file__).resolve().parents[2]
LIST = Path(__file__).with_name("packages.tsv")
_TOGETHER = "all"


def main(folder: Path, seed: int) -> int:
    rows = [line.split("\t") for line in LIST.read_text().splitlines()]
    rows = [row for row in rows if (folder / row[1]).is_dir()]
    others = [folder / row[1] for row in rows if row[0] == "module"]
    rows = [row for row in rows if row[0] != "module"]
    missed: list[str] = []
    sums: dict[str, Counter[str]] = {}
    unsure: Counter[str] = Counter()
    wrong: list[str] = []
    taken: dict[str, list[tuple[str, str]]] = {"httpd": [], "nginx": []}
    for kind, package, path, *alone in rows:
        found = _inside(kind, [folder / package, *others], [path], seed)
        if "refused" in found:
            missed.append(f"{kind} {package} {path}: {found['refused']}")
            continue
        # One that takes all addresses to itself would hide all others.
        if not alone:
            taken[kind].append((package, path))
        _count(sums.setdefault(kind, Counter()), found, unsure, wrong, f"{package} {path}")
    for kind, parts in taken.items():
        _together(folder, others, kind, parts, seed, sums, unsure, wrong, missed)
    print(*(f"not taken by the server: {line}" for line in missed), sep="\n")
    print(*wrong, sep="\n")
    for reason, count in unsure.most_common(25):
        print(f"{count:6} {reason}")
    print("\n| | configurations | asked | decided | wrong |\n| --- | --- | --- | --- | --- |")
    for name, each in sums.items():
        share = 100 * each["decided"] / max(each["asked"], 1)
        print(f"| {name} | {each['configurations']} | {each['asked']} "
              f"| {each['decided']} ({share:.1f} %) | {each['wrong']} |")  # fmt: skip
    return 1 if wrong else 0


def _together(
    folder: Path,
    others: list[Path],
    kind: str,
    parts: list[tuple[str, str]],
    seed: int,
    sums: dict[str, Counter[str]],
    unsure: Counter[str],
    wrong: list[str],
    missed: list[str],
) -> None:
    """All that the server takes beside each other: what it refuses so is left out."""
    whole = folder / _TOGETHER
    subprocess.run(["rm", "-rf", str(whole)], check=True)
    whole.mkdir()
    for tree in (*others, *dict.fromkeys(folder / package for package, _ in parts)):
        subprocess.run(["cp", "-al", "--remove-destination", f"{tree}/.", str(whole)], check=True)
    paths: list[str] = []
    left = [path for _, path in parts]
    while left:
        found = _inside(kind, [whole], [*paths, *left], seed)
        if "refused" not in found:
            name = f"{kind}, all together"
            _count(sums.setdefault(name, Counter()), found, unsure, wrong, name)
            sums[name]["configurations"] = len(paths) + len(left)
            return
        named = [path for path in left if path in str(found["refused"])]
        if not named:
            missed.append(f"{kind}, all together: {found['refused']}")
            return
        left = [path for path in left if path not in named]


def _inside(kind: str, layers: list[Path], paths: list[str], seed: int) -> dict[str, object]:
    job = {"kind": kind, "layers": list(map(str, layers)), "paths": paths, "seed": seed}
    command = ["unshare", "-m", "-n", sys.executable, "-m", "tests.corpus.inside", json.dumps(job)]
    done = subprocess.run(command, cwd=ROOT, capture_output=True, text=True, check=False)
    if done.returncode:
        return {"refused": f"the harness failed: {done.stderr.strip()[-400:]}"}
    found: dict[str, object] = json.loads(done.stdout.splitlines()[-1])
    return found


def _count(
    into: Counter[str],
    found: dict[str, object],
    unsure: Counter[str],
    wrong: list[str],
    title: str,
) -> None:
    assert isinstance(found["wrong"], list)
    assert isinstance(found["unsure"], dict)
    into["configurations"] += 1
    into["asked"] += int(str(found["asked"]))
    into["decided"] += int(str(found["decided"]))
    into["wrong"] += len(found["wrong"])
    unsure.update(found["unsure"])
    wrong += [f"WRONG {title}: {line}" for line in found["wrong"]]


if __name__ == "__main__":
    sys.exit(main(Path(sys.argv[1]).resolve(), int((sys.argv[2:] or ["1"])[0])))
