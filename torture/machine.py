"""A state folder with real processes, and what must be true of it when all has come to rest."""

import json
import os
import time
from collections import Counter
from pathlib import Path

from tests.conftest import Machine

PATIENCE_S = 90.0


def make_machine(base: Path) -> Machine:
    """Folders of its own, with locks of its own."""
    state, work, locks = base / "state", base / "work", base / "locks"
    for folder in (work, locks):
        folder.mkdir(parents=True)
    environment = {
        **{name: value for name, value in os.environ.items() if not name.startswith("LQ_")},
        "LQ_STATE": str(state),
        "LQ_LOCKS": str(locks),
        "LQ_LINGER": "20",
        "LQ_SITES": str(base / "sites"),
        "LQ_CLOCK": str(base / "clock"),
    }
    (base / "clock").write_text("0")
    return Machine(state, work, environment)


def listed(machine: Machine) -> dict[int, dict]:
    """All jobs by number, those that have ended too."""
    found: dict[int, dict] = {}
    for words in (["jobs"], ["jobs", "--ended"]):
        done = machine.lq(*words, "--format", "json")
        if done.returncode == 0:
            found |= {job["job"]: job for job in json.loads(done.stdout)}
    return found


def settle(machine: Machine, jobs: list[int], figures: Counter[str], broken: list[str], where: str) -> dict[int, dict]:
    """Wait until everything has ended; then no job is missing, doubled or stuck, and no process is left; the jobs as they are."""
    end = time.monotonic() + PATIENCE_S
    found = listed(machine)
    while time.monotonic() < end and not (set(jobs) <= set(found) and all(found[job]["ended"] for job in jobs)):
        time.sleep(0.2)
        found = listed(machine)
    figures["jobs"] += len(jobs)
    for job in jobs:
        if job not in found:
            figures["jobs lost from the books"] += 1
            broken.append(f"{where}: job {job} is not there any more")
        elif not found[job]["ended"]:
            figures["jobs stuck"] += 1
            broken.append(
                f"{where}: job {job} {found[job]['name']} is {found[job]['state']} for ever: {found[job]['why']}"
            )
        else:
            figures[f"jobs {found[job]['state']}"] += 1
    ran = machine.work / "ran.txt"
    attempts = Counter(ran.read_text().split() if ran.exists() else [])
    figures["attempts that ran"] += len(attempts)
    for attempt, times in attempts.items():
        if times > 1:
            figures["attempts doubled"] += 1
            broken.append(f"{where}: attempt {attempt} ran {times} times")
    proof = machine.lq("ledger", "--verify")
    if proof.returncode:
        figures["books that do not agree"] += 1
        broken.append(f"{where}: {proof.stdout.strip()} {proof.stderr.strip()}")
    time.sleep(0.5)
    left = orphans(machine)
    figures["orphans"] += len(left)
    broken += [f"{where}: process {pid} is left: {line}" for pid, line in left.items()]
    return found


def orphans(machine: Machine) -> dict[int, str]:
    """Processes that work in the folder of the jobs."""
    found: dict[int, str] = {}
    for name in os.listdir("/proc"):
        if name.isdigit():
            try:
                if os.readlink(f"/proc/{name}/cwd") == str(machine.work):
                    found[int(name)] = Path(f"/proc/{name}/cmdline").read_bytes().replace(b"\0", b" ").decode()
            except OSError:
                continue
    return found
