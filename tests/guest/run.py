"""Ecumen beside a kernel that enforces its policy: `python -m tests.guest.run DIR SEED...`.

DIR is what bin/make-guest made. Each seed is a machine of its own, started, asked, surveyed and
ended; what differs is printed, and at the end one line for docs/agreement.md.
"""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
import tarfile
from collections import Counter
from collections.abc import Iterable
from dataclasses import replace
from importlib.metadata import distribution
from pathlib import Path
from typing import Any

from ecumen.passage import Follower
from ecumen.passage.request import request_of
from ecumen.survey import PolicyTexts, read_survey
from ecumen_machine.contexts import DOMAIN, policy_texts

ROOT = Path(__file__).resolve().parents[2]
BOOT = "root=/dev/vda rw security=selinux selinux=1 enforcing=1 console=ttyS0 quiet"
LONGEST = 7200  # seconds for one machine, without help of the processor


def packed(job: Path, seed: int) -> None:
    """The second disk: the job, its seed, the code and what that imports."""
    with tarfile.open(job, "w") as tar:
        stated = job.with_suffix(".seed")
        stated.write_text(str(seed))
        tar.add(stated, "seed")
        tar.add(Path(__file__).with_name("job.py"), "job.py")
        tar.add(ROOT / "src", "src", filter=_needed)
        site = Path(str(distribution("numpy").locate_file(""))).resolve()
        for each in sorted(site.iterdir()):
            if each.name.partition("-")[0].partition(".")[0] not in _LARGE:
                tar.add(each, f"site/{each.name}", filter=_needed)


_LARGE = frozenset(
    """
    scipy mypy mypyc playwright ruff hypothesis grimp schemathesis graphql django pip _pytest
    pytest rest_framework drf_spectacular setuptools importlinter jsonschema_rs
    """.split()
)


def _needed(info: tarfile.TarInfo) -> tarfile.TarInfo | None:
    return None if info.name.endswith((".pyc", "__pycache__", "/app")) else info


def started(guest: Path, job: Path, out: Path, log: Path) -> None:
    with out.open("wb") as stream:
        stream.truncate(64 << 20)
    drives = [("disk", "snapshot=on"), (str(job), "readonly=on"), (str(out), "snapshot=off")]
    words = ["qemu-system-x86_64", "-cpu", "max", "-m", "2048", "-smp", "2", "-nographic",
             "-no-reboot", "-nic", "none", "-kernel", str(guest / "kernel"),
             "-initrd", str(guest / "initrd"), "-append",
             BOOT]  # fmt: skip
    for path, how in drives:
        file = guest / path if path == "disk" else Path(path)
        words += ["-drive", f"file={file},format=raw,if=virtio,{how}"]
    with log.open("wb") as stream:
        subprocess.run(
            words, stdin=subprocess.DEVNULL, stdout=stream, stderr=stream, timeout=LONGEST,
            check=True,
        )  # fmt: skip


def compared(folder: Path, policy: Path) -> Counter[str]:
    """Of each state of the switches, its answers and the survey that was taken in it."""
    found: Counter[str] = Counter()
    texts: PolicyTexts | None = None
    for truth in sorted(folder.glob("truth-*.json")):
        with truth.with_name(truth.stem.replace("truth", "survey")).open("rb") as stream:
            survey = read_survey(stream)
        told = json.loads(truth.read_text())
        # The policy is one in all states, and its tools may have been too slow even once.
        texts = texts or survey.labels.policy
        if texts is None:
            print("the policy is read outside")
            texts = policy_texts(str(policy), DOMAIN)
        labels = replace(survey.labels, policy=replace(texts, active=told["switches"]))
        found += _of_state(Follower(replace(survey, labels=labels)), told["rows"])
    return found


def _of_state(follower: Follower, rows: Iterable[dict[str, Any]]) -> Counter[str]:
    found: Counter[str] = Counter()
    for row in rows:
        if row["status"] is None:
            continue
        answer = follower.brief(request_of(row["asked"]))
        found["asked"] += 1
        if not answer["decided"]:
            found["unsure"] += 1
        elif answer["status"] != row["status"]:
            found["wrong"] += 1
            print("wrong:", row, answer)
    return found


def main(guest: Path, seeds: list[int]) -> int:
    work = guest / "work"
    total: Counter[str] = Counter()
    for seed in seeds:
        shutil.rmtree(work, ignore_errors=True)
        work.mkdir()
        packed(work / "job.tar", seed)
        started(guest, work / "job.tar", work / "out.tar", work / "log")
        subprocess.run(["tar", "xf", "out.tar"], cwd=work, check=True)
        found = compared(work, guest / "policy")
        print(seed, dict(found))
        total += found
    sure = total["asked"] - total["unsure"]
    print(
        f"{len(seeds)} machines that enforce: {total['asked']} asked, {sure} decided "
        f"({100 * sure / max(1, total['asked']):.1f} %), {total['wrong']} wrong"
    )
    return 1 if total["wrong"] or not total["asked"] else 0


if __name__ == "__main__":
    sys.exit(main(Path(sys.argv[1]), [int(each) for each in sys.argv[2:]] or [1]))
