"""``lq spread``: many small tasks over all cores that a job was given, with a journal of what is done."""

from __future__ import annotations

import json
import os
import signal
import sys
import time
from collections.abc import Sequence
from dataclasses import dataclass

from lazy_quarry.inside.field import DONE, FAILED, RUNS, STOPPED, Field
from lazy_quarry.inside.helper import Refused, passed_on, record, say
from lazy_quarry.inside.launcher import Cores, HereLauncher, Launcher, Over
from lazy_quarry.inside.spread_journal import SpreadJournal
from lazy_quarry.inside.tasks import Tasks

TOLD_EVERY_S = 60.0
"""In a file, so often a line says how far it is; on a terminal twice a second."""
_STOPS = (signal.SIGTERM, signal.SIGINT, signal.SIGHUP)


@dataclass
class Counts:
    """Numbers of tasks by state; those done include what earlier attempts did."""

    done: int = 0
    failed: int = 0
    stopped: int = 0


class Spread:
    """Runs tasks side by side until none is left, or it is told to stop."""

    def __init__(
        self,
        tasks: Tasks,
        command: Sequence[str],
        journal: SpreadJournal,
        launcher: Launcher,
        cores: int = 1,
        at_once: int | None = None,
        stop_at_failure: bool = False,
    ) -> None:
        self.tasks, self.command, self.journal, self.launcher = tasks, list(command), journal, launcher
        self.stop_at_failure = stop_at_failure
        self.finished = journal.done(tasks)
        self.counts = Counts(done=sum(self.finished))
        self.before = self.counts.done
        self.free = _parcels(launcher.nodes(), cores, at_once)
        self.under_way: dict[int, tuple[int, dict[str, str], Cores]] = {}
        self.attempt = int(os.environ.get("LQ_ATTEMPT") or 1)
        self.stopping = self.fault = ""
        self._next, self._began, self._told = 0, time.monotonic(), 0.0
        self._environment = dict(os.environ)
        self._terminal = sys.stderr.isatty()

    def run(self) -> int:
        """Run them all. 0: all are done, 1: some failed or it was stopped, 2: it could not go on."""
        self.field = Field(os.path.basename(self.command[0]), self.finished)
        try:
            while True:
                while self.free and not self.stopping and (place := self._place()) is not None:
                    self._start(place)
                if not self.under_way:
                    break
                self._tell()
                over, told = self.launcher.ended(0.5)
                for signalled in told:
                    self._signalled(signalled)
                for one in over:
                    self._ended(one)
        except Refused as fault:
            self.fault = str(fault)
            self._end_all()
        return self._finish()

    # -- one task ----------------------------------------------------------------------------------

    def _place(self) -> int | None:
        """The next task that isn't done."""
        place = self.finished.find(0, self._next)
        if place < 0:
            return None
        self._next = place + 1
        return place

    def _start(self, place: int) -> None:
        values, cores = self.tasks.values(place), self.free.pop()
        environment = {**self._environment, **values, "LQ_SPREAD_TASK": str(place + 1)}
        command = self.tasks.filled(self.command, place, values)
        try:
            handle = self.launcher.start(cores, command, environment)
        except (OSError, ValueError) as fault:
            self.free.append(cores)
            problem = getattr(fault, "strerror", None) or str(fault)
            if isinstance(fault, FileNotFoundError | PermissionError) and command[0] == self.command[0]:
                raise Refused(f"{command[0]} can't be started: {problem}") from None
            code = 127 if isinstance(fault, FileNotFoundError) else 126
            self._note(place, values, Over(0, code, None, code, 0.0, 0.0, 0), cores.node, problem)
            return
        self.under_way[handle] = place, values, cores
        self.field.mark(place, RUNS)

    def _ended(self, over: Over) -> None:
        place, values, cores = self.under_way.pop(over.handle)
        self.free.append(cores)
        self._note(place, values, over, cores.node)

    def _note(self, place: int, values: dict[str, str], over: Over, node: str, problem: str = "") -> None:
        outcome = "done" if over.exit == 0 else "stopped" if self.stopping and not problem else "failed"
        if outcome == "stopped" and self.stopping == "failure":
            outcome = "failed"  # it was let go on to its end
        entry: dict[str, object] = {
            "task": place + 1,
            "parameters": values,
            "attempt": self.attempt,
            "outcome": outcome,
            "exit": over.exit,
            "signal": over.signal,
            "seconds": round(over.seconds, 3),
            "cpu_s": round(over.cpu_s, 3),
            "memory_peak_mib": over.memory_peak_mib,
            "node": node,
        }
        self.journal.note(entry)
        self.field.mark(place, {"done": DONE, "failed": FAILED, "stopped": STOPPED}[outcome])
        if outcome == "done":
            self.finished[place] = 1
            self.counts.done += 1
        elif outcome == "failed":
            self.counts.failed += 1
            if self.counts.failed <= 5 or problem:
                how = problem or over.signal or f"exit {over.exit}"
                told = ", ".join(f"{name}={value}" for name, value in values.items())
                say("spread", f"task {place + 1} failed, {how}: {told[:200]}")
            if self.stop_at_failure and not self.stopping:
                self.stopping = "failure"
        else:
            self.counts.stopped += 1

    # -- stopping ----------------------------------------------------------------------------------

    def _signalled(self, told: signal.struct_siginfo) -> None:
        if told.si_signo in _STOPS:
            self.stopping = "told"
        if passed_on(told):
            for handle in self.under_way:
                self.launcher.send(handle, told.si_signo)

    def _end_all(self) -> None:
        """The journal can't be written, so what runs would be lost: it is stopped."""
        for handle in self.under_way:
            self.launcher.send(handle, signal.SIGTERM)
        until = time.monotonic() + 10
        while self.under_way and time.monotonic() < until:
            for one in self.launcher.ended(0.2)[0]:
                self.under_way.pop(one.handle, None)

    # -- words -------------------------------------------------------------------------------------

    def _words(self) -> str:
        counts, seconds = self.counts, max(0.001, time.monotonic() - self._began)
        rate = (counts.done - self.before + counts.failed) / seconds
        left = self.tasks.count - counts.done - counts.failed - counts.stopped
        told = f"{counts.done:,} of {self.tasks.count:,} done"
        if counts.failed:
            told += f", {counts.failed:,} failed"
        if rate > 0:
            told += f", {rate:.1f} a second"
            if left and not self.stopping:
                told += f", {_duration(left / rate)} left"
        return told

    def _tell(self) -> None:
        now = time.monotonic()
        if self._terminal and now - self._told >= 0.5:
            self._told = now
            os.write(2, f"\r\033[K{self._words()}".encode())
        elif not self._terminal and now - (self._told or self._began) >= TOLD_EVERY_S:
            self._told = now
            say("spread", self._words())

    def _finish(self) -> int:
        counts = self.counts
        if self._terminal:
            os.write(2, b"\r\033[K")
        left = self.tasks.count - counts.done - counts.failed - counts.stopped
        told = self._words()
        if self.before:
            told += f"; {self.before:,} of them by earlier attempts"
        if counts.stopped or (self.stopping and left):
            told += f"; stopped with {counts.stopped + left:,} left"
        say("spread", told)
        code = 2 if self.fault else 0 if counts.done == self.tasks.count else 1
        if self.field.part:
            record.end(self.field.part, time.monotonic() - self._began, 0.0, 0, (0, 0), code)
        if self.fault:
            say("spread", self.fault)
        return code


def _parcels(nodes: Sequence[Cores], cores: int, at_once: int | None) -> list[Cores]:
    """The cores in parcels of so many, node by node in turn; no more than may run at once."""
    if cores < 1 or (at_once is not None and at_once < 1):
        raise Refused("--cores and --at-once are at least 1")
    each = [
        [Cores(node.node, node.numbers[at : at + cores]) for at in range(0, len(node.numbers) - cores + 1, cores)]
        for node in nodes
    ]
    found = [parcels[at] for at in range(max(map(len, each), default=0)) for parcels in each if at < len(parcels)]
    if not found:
        most = max((len(node.numbers) for node in nodes), default=0)
        raise Refused(f"a task is to have {cores} cores, and the job has {most} on a node")
    return found[:at_once][::-1]


def _duration(seconds: float) -> str:
    whole = round(seconds)
    if whole < 60:
        return f"{whole}s"
    return f"{whole // 60}m {whole % 60:02d}s" if whole < 3600 else f"{whole // 3600}h {whole % 3600 // 60:02d}m"


def journal_path() -> str:
    """Where the journal lies when none is named: beside the job's output."""
    name, job, task = (os.environ.get(key, "") for key in ("LQ_NAME", "LQ_JOB", "LQ_TASK"))
    if not job:
        return "spread.jsonl"
    folder, own = "", os.environ.get("LQ_ATTEMPT_FOLDER", "")
    for place in (os.path.dirname(own), own):  # the second as an earlier version laid it out
        try:
            with open(os.path.join(place, "intent.json")) as file:
                folder = folder or os.path.dirname(json.load(file)["paths"]["output"])
        except (OSError, ValueError, KeyError, TypeError):
            continue
    return os.path.join(folder, f"{name}-{job}{f'-{task}' if task else ''}.spread.jsonl")


def run_spread(
    tasks: Tasks, command: Sequence[str], journal: str, cores: int, at_once: int | None, stop_at_failure: bool
) -> int:
    """Spread a command over tasks, here. Raises :class:`Refused`."""
    kept = SpreadJournal(journal or journal_path(), command)
    return Spread(tasks, command, kept, HereLauncher(), cores, at_once, stop_at_failure).run()
