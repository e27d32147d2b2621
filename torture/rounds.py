"""Rounds of kills under load: real jobs, some of which misbehave, while engine, agent and supervisors are killed at random."""

import os
import random
import shutil
import signal
import socket
import threading
import time
from collections import Counter
from contextlib import suppress
from pathlib import Path

from lazy_quarry.run.node.sockets import dial
from tests.conftest import Machine, script
from torture.acts import Acts
from torture.machine import make_machine, settle
from torture.relay import Relay

RAN = 'echo "$LQ_JOB${LQ_TASK:+/$LQ_TASK}-$LQ_ATTEMPT" >> "$HOME_OF_RUNS/ran.txt"\n'
BODIES = {
    "plain": "sleep 0.2",
    "fails": "sleep 0.1; exit 3",
    "busy": "i=0; while [ $i -lt 20000 ]; do i=$((i+1)); done",
    "prints": "yes water | head -c 3000000",
    "leaves processes": "sleep 1000 & setsid sleep 1000 & sleep 0.1",
    "hides": "env -i setsid sleep 1000 & (setsid env -i setsid sleep 1000 &) & sleep 0.3",
    "ignores its end": "trap '' TERM HUP; (trap '' TERM; sleep 1000) & sleep 1000",
    "removes its folder": 'rm -rf "${LQ_ATTEMPT_FOLDER%/own}"; sleep 0.3',
    "stops its supervisor": "kill -STOP $PPID; sleep 0.3",
    "kills its supervisor": "kill -KILL $PPID; sleep 1000",
    "signals its supervisor": "kill -TERM $PPID; kill -HUP $PPID; sleep 0.3",
    "forks": "for i in 1 2 3 4 5 6 7 8 9; do (sleep 0.2 &) & done; sleep 0.1",
    "takes memory": "python3 -c 'x = bytearray(400_000_000)'; sleep 0.1",
    "closes its output": "exec >&- 2>&-; sleep 0.1",
    "puts pipes where its output was": "for f in *-$LQ_JOB*.out; do rm -f $f; mkfifo $f; done; sleep 0.1",
}


class Rounds:
    """One state folder, and everything that is done to it."""

    def __init__(self, base: Path, chance: random.Random, figures: Counter[str], broken: list[str]) -> None:
        self.base, self.chance, self.figures, self.broken = base, chance, figures, broken
        self._mailed: set[int] = set()
        """Jobs of this round that asked for mail."""

    def run(self, until: float) -> None:
        """Rounds until the time is over; each ends with all jobs at rest."""
        while time.monotonic() < until:
            machine = make_machine(self.base / "rounds")
            machine.environment["HOME_OF_RUNS"] = str(machine.work)
            self._mailed.clear()
            try:
                self._round(machine)
            finally:
                machine.kill_all()
                shutil.rmtree(self.base / "rounds", ignore_errors=True)
            self.figures["rounds"] += 1

    def _round(self, machine: Machine) -> None:
        jobs: list[int] = []
        mute: list[socket.socket] = []
        acts = Acts(machine, self.chance, self.figures, self.broken, jobs)
        relay = Relay(self.chance)
        relay.describe(machine)
        for _ in range(self.chance.randint(6, 12)):
            what = self.chance.random()
            if what < 0.5:
                self._submit(machine, jobs)
            elif what < 0.7:
                acts.one()
            elif what < 0.8:
                self._chain(machine, acts)
            else:
                self._kill(machine)
            if self.chance.random() < 0.15:
                self._connect_mutely(machine, mute)
            if jobs and self.chance.random() < 0.1:
                machine.lq("cancel", str(self.chance.choice(jobs)))
                self.figures["cancels"] += 1
            time.sleep(self.chance.choice([0, 0, 0.05, 0.2]))
        for _ in range(self.chance.randint(0, 3)):
            self._kill(machine)
            time.sleep(self.chance.random() * 0.5)
        for each in mute:
            each.close()
        where = f"round {self.figures['rounds'] + 1}"
        acts.chains_are_whole(where)
        found = settle(machine, jobs, self.figures, self.broken, where)
        acts.chains_are_whole(where)
        told = {
            job: one["state"]
            for job, one in found.items()
            if job in self._mailed and one["state"] in ("done", "failed")
        }
        relay.settle(machine, told, self.figures, self.broken, where)
        relay.close()

    def _chain(self, machine: Machine, acts: Acts) -> None:
        kill = threading.Event()

        def killed() -> None:
            kill.wait()
            for pid in machine.processes("lazy_quarry.link.server"):
                with suppress(ProcessLookupError):
                    os.kill(pid, signal.SIGKILL)
                    self.figures["kills: engine, while a chain came in"] += 1

        beside = threading.Thread(target=killed)
        beside.start()
        acts.chain_while_killed(kill)
        beside.join()

    def _submit(self, machine: Machine, jobs: list[int]) -> None:
        kind = self.chance.choice(sorted(BODIES))
        limits = 'walltime = "3s"\ngrace = "1s"\nmemory = "150 MiB/core"'
        header = f'{limits}\nenvironment = {{ HOME_OF_RUNS = "{machine.work}" }}'
        header += f'\nname = "{kind.replace(" ", "-")}"\nretries = {self.chance.choice([0, 1, 2])}'
        mailed = self.chance.random() < 0.3
        if mailed:
            to = self.chance.choice(["ada@a.example", "full@a.example"])
            header += f'\nnotify = {{ to = "{to}", on = ["started", "done", "failed"] }}'
        elif self.chance.random() < 0.25:
            header += '\n\n[array]\ntasks = "1..4"'
        path = machine.work / f"job-{len(jobs)}.sh"
        path.write_text(script(header, RAN + BODIES[kind]))
        done = machine.lq("submit", str(path))
        if done.returncode == 0:
            jobs.append(int(done.stdout.split()[0]))
            self._mailed |= {jobs[-1]} if mailed else set()
            self.figures[f"submitted: {kind}"] += 1
        else:
            self.figures["submissions refused and told"] += 1
            if len(done.stderr.strip().splitlines()) > 2:
                self.broken.append(f"a refusal is told so: {done.stderr!r}")

    def _kill(self, machine: Machine) -> None:
        """Kill one of its processes, or several at once."""
        engines, agents = machine.processes("lazy_quarry.link.server"), machine.agents()
        victims = {
            "engine": engines[:1],
            "agent or supervisor": [self.chance.choice(agents)] if agents else [],
            "all agents and supervisors": agents,
            "everything": [*engines, *agents],
        }
        what = self.chance.choices(sorted(victims), [3, 1, 4, 1])[0]
        for pid in victims[what]:
            with suppress(ProcessLookupError):
                os.kill(pid, signal.SIGKILL)
        if victims[what]:
            self.figures[f"kills: {what}"] += 1

    def _connect_mutely(self, machine: Machine, mute: list[socket.socket]) -> None:
        """Connect and read nothing, or send nonsense."""
        for folder, name in ((machine.state, "engine.sock"), (machine.state / "spool", "node.sock")):
            with suppress(OSError):
                if link := dial(folder, name):
                    if self.chance.random() < 0.5:
                        link.sendall(self.chance.choice([b"5\n", b"[[[[\n", b"{}\n", b"\xff" * 70_000]))
                    mute.append(link)
                    self.figures["mute or raving clients"] += 1
