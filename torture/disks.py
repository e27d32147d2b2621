"""Disks that fill up: what can't be taken in is refused, what runs is recorded, and all goes on when there is room again."""

import os
import random
import shutil
import subprocess
import time
from collections import Counter
from pathlib import Path

from torture.machine import make_machine, settle

SIZE_MIB, LONGEST_S = 8, 60.0
"""A disk in MiB, and seconds for which it is used: later the journal and its log, of up to 4 MiB, would fill it by themselves."""


def fill_disks(base: Path, chance: random.Random, until: float, figures: Counter[str], broken: list[str]) -> None:
    """Fill disks until an instant, one after the other."""
    while time.monotonic() < until and _fill_one(
        base, chance, min(until, time.monotonic() + LONGEST_S), figures, broken
    ):
        pass


def _fill_one(base: Path, chance: random.Random, until: float, figures: Counter[str], broken: list[str]) -> bool:
    """Fill the disk of a state folder at random moments. It needs root, for a file system of its own."""
    if os.geteuid() != 0:
        figures["disks: not tried, this needs root"] += 1
        return False
    machine = make_machine(base / "disk")
    machine.state.mkdir()
    if subprocess.run(
        ["mount", "-t", "tmpfs", "-o", f"size={SIZE_MIB}m", "tmpfs", machine.state], capture_output=True
    ).returncode:
        figures["disks: not tried, nothing can be mounted"] += 1
        return False
    try:
        jobs: list[int] = []
        while time.monotonic() < until:
            filler = machine.state / "filler"
            running = [machine.lq("submit", "--set", "walltime=1m", "--", "sleep", "0.3") for _ in range(3)]
            jobs += [int(one.stdout.split()[0]) for one in running if one.returncode == 0]
            time.sleep(chance.random() * 0.6)
            _fill(filler)
            figures["disks filled"] += 1
            refused = machine.lq("submit", "--set", "walltime=1m", "--", "echo", "x" * 50_000)
            if refused.returncode == 0:
                jobs.append(int(refused.stdout.split()[0]))
            else:
                figures["disks full: refused and told"] += 1
                if len(refused.stderr.strip().splitlines()) != 1:
                    broken.append(f"a full disk is told so: {refused.stderr!r}")
            time.sleep(chance.random())
            filler.unlink()
        settle(machine, jobs, figures, broken, "full disk")
        return True
    finally:
        machine.kill_all()
        subprocess.run(["umount", "-l", machine.state], check=False)
        shutil.rmtree(base / "disk", ignore_errors=True)


def _fill(path: Path) -> None:
    for size in (65536, 512):
        try:
            with open(path, "ab", buffering=0) as file:
                while True:
                    file.write(b"x" * size)
        except OSError:
            continue
