"""Acts on a state folder beside kills: pipes, locks, sockets, clocks, closed streams, chains."""

import fcntl
import json
import os
import random
import subprocess
import sys
import threading
import time
from collections import Counter
from contextlib import suppress
from pathlib import Path

from tests.conftest import Machine, script

QUICK_S = 40.0
"""No command may take longer than this, with everything else that goes on: the longest waits of its own are 20 seconds."""
OURS = (
    "agent.log",
    "engine.log",
    "engine.sock",
    "spool/node.sock",
    "spool/epoch.json",
    "spool/agent.refused",
    "forecasts.json",
)
PIPED = ('output = "ff"', 'errors = "ff"', 'input = "ff"', 'array.sweep.x = { lines = "ff" }', 'stage.in = ["ff"]')
PARTS = 12


class Acts:
    """Each act is tried at a random moment; ``jobs`` takes what it has submitted."""

    def __init__(
        self, machine: Machine, chance: random.Random, figures: Counter[str], broken: list[str], jobs: list[int]
    ) -> None:
        self.machine, self.chance, self.figures, self.broken, self.jobs = machine, chance, figures, broken, jobs

    def one(self) -> None:
        """Do one of them."""
        what = self.chance.choice(
            [
                self.pipe_in_a_header,
                self.pipe_among_ours,
                self.lock_taken,
                self.socket_removed,
                self.clock_set,
                self.closed_streams,
            ]
        )
        what()
        self.figures[f"acts: {what.__name__.replace('_', ' ')}"] += 1

    def _quick(self, *words: str) -> subprocess.CompletedProcess[str]:
        began = time.monotonic()
        done = self.machine.lq(*words)
        if time.monotonic() - began > QUICK_S:
            self.broken.append(f"lq {' '.join(words)} took {time.monotonic() - began:.0f} s")
        if "Traceback" in done.stderr:
            self.broken.append(f"lq {' '.join(words)}: {done.stderr}")
        return done

    def pipe_in_a_header(self) -> None:
        """A script that names a pipe is refused, or its job fails; nothing hangs."""
        with suppress(FileExistsError):
            os.mkfifo(self.machine.work / "ff")
        path = self.machine.work / f"piped-{self.chance.randrange(10**6)}.sh"
        path.write_text(script(f'walltime = "3s"\nmemory = "100 MiB/core"\n{self.chance.choice(PIPED)}'))
        done = self._quick("submit", str(path))
        if done.returncode == 0:
            self.jobs.append(int(done.stdout.split()[0]))

    def pipe_among_ours(self) -> None:
        """A pipe or a link takes the place of a file of ours for a moment."""
        path, victim = self.machine.state / self.chance.choice(OURS), self.machine.work / "precious"
        victim.write_text("untouched")
        with suppress(OSError):
            path.unlink(missing_ok=True)
            os.mkfifo(path) if self.chance.random() < 0.5 else path.symlink_to(victim)
            self._quick("jobs")
        with suppress(OSError):
            if path.is_fifo() or path.is_symlink():
                path.unlink()
        if victim.read_text() != "untouched":
            self.broken.append(f"a link at {path.name} was written through")

    def lock_taken(self) -> None:
        """Somebody looks at the lock on the cores for a moment."""
        with suppress(OSError):
            fd = os.open(f"{self.machine.environment['LQ_LOCKS']}/cores.lock", os.O_RDWR)
            with suppress(BlockingIOError):
                fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
            time.sleep(self.chance.random() * 0.3)
            os.close(fd)

    def socket_removed(self) -> None:
        """A socket goes under whoever listens."""
        with suppress(OSError):
            (self.machine.state / self.chance.choice(["engine.sock", "spool/node.sock"])).unlink()
        self._quick("jobs")

    def clock_set(self) -> None:
        """The clock is set, forward or back."""
        path = Path(self.machine.environment["LQ_CLOCK"])
        beside = path.with_suffix(".next")
        beside.write_text(str(self.chance.choice([0, 3_600_000, 10_800_000, -7_200_000, -90_000, 2_500])))
        beside.rename(path)

    def closed_streams(self) -> None:
        """A command without output does what it does."""
        path, closed = self.machine.work / "closed.sh", self.chance.choice([(0,), (1,), (0, 1)])
        path.write_text(script('walltime = "3s"\nmemory = "100 MiB/core"\nname = "closed"'))

        def shut() -> None:
            for fd in closed:
                os.close(fd)

        done = subprocess.run(
            [sys.executable, "-m", "lazy_quarry", "submit", str(path)],
            capture_output=True,
            text=True,
            cwd=self.machine.work,
            env=self.machine.environment,
            preexec_fn=shut,
            timeout=300,
        )
        told = done.stderr if 1 in closed else done.stdout
        if done.returncode == 0:
            self.jobs.append(int(told.split()[0]))
        elif "Traceback" in done.stderr or len(done.stderr.strip().splitlines()) > 2:
            self.broken.append(f"closed streams: {done.stderr}")

    def chain_while_killed(self, kill: threading.Event) -> None:
        """Submit a chain; the engine may be killed meanwhile. It is there whole or not at all: looked at in the end."""
        parts = [f"[jobs.j{number}]\ncommands = ['true']\n" for number in range(PARTS)]
        parts += [
            f"[jobs.k{number}]\ncommands = ['true']\nafter = {{ j{number} = 'succeeds' }}\n" for number in range(PARTS)
        ]
        path = self.machine.work / f"chain-{self.chance.randrange(10**6)}.toml"
        path.write_text(f"[shared]\nwalltime = '3s'\nmemory = '64 MiB/core'\n{''.join(parts)}")
        threading.Timer(self.chance.random() * 0.5, kill.set).start()
        done = self._quick("chain", str(path), "--submit", "--quiet")
        self.figures["chains submitted" if done.returncode == 0 else "chains refused and told"] += 1

    def chains_are_whole(self, where: str) -> None:
        """Each chain that is there has all of its jobs."""
        done = self.machine.lq("chain", "--format", "json")
        for one in json.loads(done.stdout) if done.returncode == 0 else []:
            self.figures["chains there"] += 1
            missing = [part["name"] for part in one["jobs"] if not part["job"]]
            if missing:
                self.figures["half chains"] += 1
                self.broken.append(f"{where}: chain {one['chain']} has no {', '.join(missing)}")
            self.jobs += [part["job"] for part in one["jobs"] if part["job"] and part["job"] not in self.jobs]
