"""The files of a host's attempts, for an engine that waits for no host.

What it wants done is done by threads of the host's own, a few at a time; what it wants to know is what was read last, and is read
anew meanwhile. A host that is slow, or gone, keeps nobody else waiting.
"""

from __future__ import annotations

import os
import threading
import time
from collections import deque
from collections.abc import Callable, Container
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from typing import Any, Literal

from lazy_quarry.core.job.copying import Copying
from lazy_quarry.core.job.curve import Sample
from lazy_quarry.core.job.file_mark import FileMark
from lazy_quarry.core.job.inside import Inside
from lazy_quarry.core.job.job import Job, Use
from lazy_quarry.core.site import HostWay
from lazy_quarry.core.units import format_bytes, format_duration
from lazy_quarry.core.values import replace
from lazy_quarry.files.kinds import words_of
from lazy_quarry.run.hosts.carrier import (
    CannotTravel,
    Carrying,
    bring_back,
    carry_in,
    marks_here,
    moved,
    told_of,
    travels,
)
from lazy_quarry.run.hosts.line import Line
from lazy_quarry.run.hosts.pace import Pace
from lazy_quarry.run.intent import Ground, attempt_name, intent_of
from lazy_quarry.run.node.attempt import Intent, IntentTooLong, intent_text
from lazy_quarry.run.node.channel import Broken
from lazy_quarry.run.node.file_service import FileService
from lazy_quarry.run.node.process import wall_ms
from lazy_quarry.run.node_files import NodeFiles
from lazy_quarry.run.node_link import LaidOut
from lazy_quarry.run.remote_files import FilesAtSocket
from lazy_quarry.run.runner import OutputChunk

AT_ONCE = 4
"""Requests to a host's disk at a time."""
STALE_S = 1.0
"""A value that was read longer ago is read again when somebody wants it."""
AGAIN_S = 2.0
"""What could not be made is tried again after so long."""
MOST_KNOWN = 20_000
LEFT_EVERY_S = 30.0
"""Seconds between looks for what is still to be brought back."""
TELLS_AFTER_S = 2.0
"""A copy that takes longer is told how long it still takes."""
LEAST_MEASURED = 4 << 20
"""Bytes of a copy from which on its speed is known."""
_AWAY = (ConnectionError, Broken, TimeoutError)
"""A host is not reached now."""
_Gathered = tuple[Inside | None, list[Sample], tuple[FileMark, ...] | None]
"""The parts that an attempt that is over told of, its measurements, and how its output is here, where it was brought back."""
LATELY_S = 120.0
"""For so long the machines that share a folder may tell different times of its last change."""


class _Stopped(Exception):
    """A job is to end, so nothing more is copied for it."""


def _since_s(job: Job) -> float:
    """Seconds since a job was started, by the wall clock."""
    return max(0.0, (wall_ms() - (job.started_ms or 0)) / 1000)


class HostFiles:
    """See :class:`~lazy_quarry.run.node_link.AttemptFiles`. ``woken`` is a descriptor that can be read when something was done.

    ``ground`` says where attempts are there; it raises :class:`ConnectionError` while nobody knows. Instants that are read there
    are put right by ``ahead_ms``, how far its clock is ahead.
    """

    def __init__(
        self,
        line: Line,
        ground: Callable[[], Ground],
        epoch: Callable[[], int],
        ahead_ms: Callable[[], int],
        way: HostWay,
    ) -> None:
        self._ground, self._ahead_ms, self._anew = ground, ahead_ms, line.anew
        self.service = FilesAtSocket(line.folder, line.transport.name, line.journal, epoch)
        self._direct = NodeFiles(self.service)
        self._pool = ThreadPoolExecutor(AT_ONCE, thread_name_prefix=f"files of {line.transport.name}")
        self._carrying = Carrying(Pace(None if way.copy_mib is None else way.copy_mib << 20))
        self._copies = ThreadPoolExecutor(way.copies, thread_name_prefix=f"copies of {line.transport.name}")
        self._done: deque[LaidOut] = deque()
        self._known: dict[tuple[str, str], tuple[float, Any]] = {}
        """Values that were read, by what and of which attempt, and when."""
        self._under_way: set[tuple[str, str]] = set()
        self._copying: dict[str, Copying] = {}
        self._left: dict[str, str] = {}
        """Attempts of which something couldn't be brought back, and why."""
        self._travelled: set[str] = set()
        """Attempts that are known to have travelled."""
        self._stopped: dict[str, str] = {}
        """Attempts that should end, and why."""
        self._unforgotten: set[str] = set()
        """Those whose folders couldn't be removed, as the host was away."""
        self._line, self._looked_on = line, 0
        """The connection on which it was looked for what is left."""
        self._left_at = -LEFT_EVERY_S
        self.copied_a_second: float | None = None
        """Bytes a second of the copy that was measured last."""
        self._unwritten: set[str] = set()
        """Attempts for which it could not be written what is to run."""
        self._ready: set[str] = set()
        """Attempts whose folders are there."""
        self._failed: tuple[float, str] = (0.0, "")
        """When the folders of attempts could not be made, and why."""
        self._lock = threading.Lock()
        self.woken, self._wake = os.pipe()
        for end in (self.woken, self._wake):
            os.set_blocking(end, False)

    def close(self) -> None:
        """End its threads; what they are at is given up."""
        self.service.close()
        for pool in (self._pool, self._copies):
            pool.shutdown(cancel_futures=True)
        for end in (self.woken, self._wake):
            os.close(end)

    # -- what is done meanwhile --------------------------------------------------------------------

    def _begin(self, kind: str, name: str, work: Callable[[], object], copies: bool = False) -> None:
        """Have something done, unless it is under way. What ``copies`` may take long, and has threads of its own."""
        key = kind, name
        with self._lock:
            if key in self._under_way:
                return
            self._under_way.add(key)

        def do() -> None:
            try:
                work()
            finally:
                with self._lock:
                    self._under_way.discard(key)
                with suppress(OSError):  # it is full, and so read anyway; or closed
                    os.write(self._wake, b"x")

        with suppress(RuntimeError):  # the engine is on its way out
            (self._copies if copies else self._pool).submit(do)

    def heard(self) -> list[LaidOut]:
        """List what was laid out since the last time."""
        with suppress(BlockingIOError):
            while os.read(self.woken, 4096):
                pass
        found = []
        while self._done:
            found.append(self._done.popleft())
        return found

    @property
    def problem(self) -> str:
        """Why folders could not be made there when that was tried last, and what could not be brought back; empty for none."""
        told = [self._failed[1]] if self._failed[1] else []
        for name, why in list(self._left.items())[:3]:
            told.append(f"what {name.partition('-')[0]} made is still there: {why}; it is tried again")
        return "; ".join(told)

    def _read(self, kind: str, name: str, read: Callable[[], Any]) -> Any:
        """The value that was read last, None for nothing; it is read again when that was long ago."""
        at, found = self._known.get((kind, name), (0.0, None))
        if time.monotonic() - at > STALE_S:
            self._begin(kind, name, lambda: self._keep(kind, name, read()))
        return found

    def _keep(self, kind: str, name: str, found: Any) -> None:
        if len(self._known) > MOST_KNOWN:
            self._known.clear()
        self._known[kind, name] = time.monotonic(), found

    def forget_known(self, name: str) -> None:
        """Forget what was read of an attempt."""
        for kind in ("live", "inside", "end"):
            self._known.pop((kind, name), None)

    # -- for the runner ----------------------------------------------------------------------------

    def prepare(self, names: list[str]) -> frozenset[str]:
        """Have the folders of attempts made; returns those that aren't there yet."""
        missing = [name for name in names if name not in self._ready]
        if missing and time.monotonic() - self._failed[0] > AGAIN_S:
            self._begin("prepare", "", lambda: self._make(missing))
        return frozenset(missing)

    def _make(self, names: list[str]) -> None:
        try:
            self.service.prepare(names)
            self._ready.update(names)
            self._failed = 0.0, ""
        except ConnectionError:
            self._failed = time.monotonic(), ""  # that there is no line is told elsewhere
        except FileNotFoundError:
            self._failed = time.monotonic(), "its folder there was removed; it is made anew"
            self._anew()
        except OSError as fault:
            self._failed = (
                time.monotonic(),
                f"nothing can start there: its folder cannot be written ({words_of(fault)})",
            )

    def lay_out(self, job: Job, part: int) -> bool:
        """Have it written what a part is to run: False, and a :class:`LaidOut` tells when that is done."""
        name = attempt_name(job, part)
        self._begin("lay out", name, lambda: self._lay_out(job, part, name), copies=travels(job))
        return False

    def _lay_out(self, job: Job, part: int, name: str) -> None:
        wrong: OSError | IntentTooLong | None = None
        try:
            intent = intent_of(job, self._ground(), part)
            if travels(job) and not self.service.is_claimed(name) and not self._sees_now(job.paths.folder):
                self._travelled.add(name)
                intent = moved(intent, job, self.service.make_place(name, told_of(job)))
                intent = self._carried(intent, name, job)
            self.service.lay_out(name, intent_text(intent), job.origin.script)
            self._unwritten.discard(name)
        except (OSError, IntentTooLong) as fault:
            wrong = fault
            self._unwritten.add(name)
        self._copying.pop(name, None)
        self._ready.discard(name)
        self._done.append(LaidOut(name, wrong))

    def _carried(self, intent: Intent, name: str, job: Job) -> Intent:
        """Have what a job takes in copied there; that counts as walltime, as all staging does.

        One that is stopped meanwhile gets no further, and is told so where it would start. Raises :class:`CannotTravel`,
        :class:`OSError`.
        """
        walltime_s, tell = job.request.walltime_s, self._told(name, "in")

        def told(done: int, total: int) -> None:
            tell(done, total)
            if name in self._stopped:
                raise _Stopped
            if _since_s(job) > walltime_s:
                over = f"its walltime of {format_duration(walltime_s)} was over while its files were copied there"
                raise CannotTravel(f"{over}, {format_bytes(done)} of {format_bytes(total)}")

        try:
            carry_in(self.service, name, job, told, self._carrying)
        except _Stopped:
            self.service.write_stop(name, self._stopped[name])
        left_s = max(1, walltime_s - round(_since_s(job)))
        return replace(intent, limits=replace(intent.limits, walltime_s=left_s))

    def _sees_now(self, folder: str) -> bool:
        """True when a folder of this machine is the same there, looked at now. Raises :class:`OSError`."""
        here, there = FileService(Path()).folder_mark(folder), self.service.folder_mark(folder)
        return here is not None and there is not None and _is_same(here, there)

    def rest(self) -> None:
        """Nothing is wanted now: let go what keeps an agent there, unless something is under way."""
        with self._lock:
            busy = bool(self._under_way)
        if not busy:
            self.service.close(idle=True)

    def is_laid_out(self, name: str) -> bool:
        """True unless it could not be written."""
        return name not in self._unwritten

    def write_stop(self, name: str, cause: str) -> None:
        """Have it written that an attempt should end. The message does it too, and is said again whenever the line is back."""
        self._stopped[name] = cause
        self._begin("stop", name, lambda: self._try(lambda: self.service.write_stop(name, cause)))

    def remove_attempt(self, name: str) -> None:
        """Have the folder of one removed that was settled."""
        self._unwritten.discard(name)
        self._stopped.pop(name, None)
        self.forget_known(name)
        self._begin("remove", name, lambda: self._forget(name))

    def _forget(self, name: str) -> None:
        self._unforgotten.add(name)
        with suppress(OSError):
            self.service.forget(name)
            self._unforgotten.discard(name)

    def sweep(self, running: set[str], kept_s: int) -> None:
        """Have removed what attempts have left that ended so long ago."""
        self._begin("sweep", "", lambda: self._try(lambda: self.service.sweep(sorted(running), kept_s)))

    @staticmethod
    def _try(step: Callable[[], object]) -> None:
        with suppress(OSError):
            step()

    def gathered(self, name: str, ended_ms: int) -> bool:
        """True when what an attempt that is over has told is at hand, or can't be had; it is asked for by this."""
        if ("end", name) in self._known:
            return True
        self._begin("end", name, lambda: self._gather(name, ended_ms), copies=name in self._travelled)
        return False

    def _gather(self, name: str, ended_ms: int) -> None:
        found: _Gathered = None, [], None
        try:
            marks = self._bring(name)
            inside = self._direct.inside_at_end(name, ended_ms + self._ahead_ms())
            found = _put_right(inside, self._ahead_ms()), self._samples(name), marks
        except _AWAY:
            if name in self._travelled:
                return  # what it made is still there: it is brought back when its host answers
        except OSError as fault:
            self._left[name] = words_of(fault)
        self._keep("end", name, found)

    def _bring(self, name: str) -> tuple[FileMark, ...] | None:
        """Bring back what an attempt made that travelled; how its output is here now, None for one that didn't travel.

        Raises :class:`OSError`.
        """
        told = self.service.carried(name)
        if told is None:
            return None
        self._travelled.add(name)
        try:
            bring_back(self.service, name, told, self._told(name, "out"), self._carrying.pace)
        finally:
            self._copying.pop(name, None)
        self.service.was_brought(name)
        self._travelled.discard(name)
        self._left.pop(name, None)
        return marks_here(told)

    def _told(self, name: str, way: Literal["in", "out"]) -> Callable[[int, int], None]:
        began, first = time.monotonic(), -1

        def told(done: int, total: int) -> None:
            nonlocal first
            first = done if first < 0 else first
            took, moved = time.monotonic() - began, done - first
            left_s = round((total - done) * took / moved) if took > TELLS_AFTER_S and moved else None
            if moved > LEAST_MEASURED and took:
                self.copied_a_second = moved / took
            if total:
                self._copying[name] = Copying(way, done, total, left_s)

        return told

    def copying(self, job: Job) -> Copying | None:
        """A copy that is under way for a running job."""
        return self._copying.get(attempt_name(job))

    def bring_left(self, active: Container[str]) -> None:
        """Have brought back what is left there of attempts that are over and not among ``active``, and removed what can go: once a
        connection, and now and then while there is something.
        """
        anew = self._line.connected and self._looked_on != self._line.count
        late = time.monotonic() - self._left_at > (AGAIN_S if anew else LEFT_EVERY_S)
        if late and (anew or self._left or self._unforgotten):
            self._left_at = time.monotonic()
            self._begin("left", "", lambda: self._try(lambda: self._bring_left(active)), copies=True)

    def _bring_left(self, active: Container[str]) -> None:
        on = self._line.count
        for name in sorted(self._unforgotten):
            self._forget(name)
        left = self.service.left()
        self._looked_on = on
        for name in left:
            if name not in active:
                try:
                    self._bring(name)
                    self.service.forget(name)
                except OSError as fault:
                    self._left[name] = words_of(fault)

    def printed_at_end(self, name: str) -> tuple[FileMark, ...] | None:
        """Marks of the output of an attempt that is over, where it was brought back."""
        gathered = self._known.get(("end", name))
        return None if gathered is None else gathered[1][2]

    def inside_at_end(self, name: str, ended_ms: int) -> Inside | None:
        """Parts and tasks that it had told of until then, as they were gathered."""
        found: Inside | None = self._known.get(("end", name), (0.0, (None, [], None)))[1][0]
        return found

    def samples_of(self, name: str) -> list[Sample]:
        """Measurements of an attempt: at its end as they were gathered, else as they were read last."""
        gathered = self._known.get(("end", name))
        if gathered is not None:
            samples: list[Sample] = gathered[1][1]
            return samples
        return self._live(name)[1]

    def sees(self, folder: str) -> bool | None:
        """True when a folder of this machine is the same there; None while that isn't known. Asked for by this."""
        found: bool | None = self._read("sees", folder, lambda: self._sees(folder))
        return found

    def _sees(self, folder: str) -> bool | None:
        try:
            return self._sees_now(folder)
        except OSError:
            return None

    # -- for whoever looks -------------------------------------------------------------------------

    def output(self, job: Job, path: str, from_byte: int, now_ms: int) -> OutputChunk:
        """A piece of one of a job's output files, read there: this waits for the host."""
        return self._direct.output(job, path, from_byte, now_ms)

    def _live(self, name: str) -> tuple[tuple[Use, float] | None, list[Sample]]:
        def read() -> tuple[tuple[Use, float] | None, list[Sample]]:
            return self._direct.live_of(name), self._samples(name)

        found: tuple[tuple[Use, float] | None, list[Sample]] | None = self._read("live", name, read)
        return found or (None, [])

    def _samples(self, name: str) -> list[Sample]:
        ahead = self._ahead_ms()
        return [(at - ahead, busy, memory) for at, busy, memory in self._direct.samples_of(name)]

    def live_of(self, name: str) -> tuple[Use, float] | None:
        """Use so far of a part of a running attempt, and the cores that it keeps busy."""
        return self._live(name)[0]

    def run_ms(self, job: Job) -> int | None:
        """Nobody asks a host for that: its supervisors have clocks of their own."""
        return None

    def inside(self, job: Job, now_ms: int) -> Inside | None:
        """Parts and tasks that it told of."""
        name = attempt_name(job)
        found: Inside | None = self._read(
            "inside", name, lambda: _put_right(self._direct.inside(job, now_ms), self._ahead_ms())
        )
        return found

    def samples(self, job: Job, now_ms: int) -> list[Sample]:
        """Measurements of a running attempt."""
        return self.samples_of(attempt_name(job))


def _put_right(inside: Inside | None, ahead_ms: int) -> Inside | None:
    """Parts that a job told of, their instants by this machine's clock."""
    if inside is None or not ahead_ms:
        return inside
    return replace(inside, parts=tuple(replace(part, began_ms=part.began_ms - ahead_ms) for part in inside.parts))


def _is_same(here: list[int], there: list[int]) -> bool:
    """True when two machines tell of the same folder: by its inode, and when it was changed or written to last.

    A network file system may tell another machine of a change only after a while, so of one
    that was just changed the inode has to do.
    """
    lately = time.time_ns() - max(here[1:] + there[1:]) < LATELY_S * 1e9
    return here[0] == there[0] and (lately or here[1] == there[1] or here[2] == there[2])
