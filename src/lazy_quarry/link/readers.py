"""The engine's side of the processes that answer calls which may take long: few at once, in turn by person, for a limited time."""

from __future__ import annotations

import asyncio
import os
import pickle
import socket
import time
from collections import deque
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct, field

from lazy_quarry.core.values import replace
from lazy_quarry.link.protocol import INTERNAL, Glance, error_line
from lazy_quarry.link.reader import SIZE, Ask, Begin, MakeStudy, framed, send
from lazy_quarry.site.caller import Caller

if TYPE_CHECKING:
    from lazy_quarry.core.advice.forward_draws import SupposedJob
    from lazy_quarry.site.session import Session
    from lazy_quarry.site.studies import Told
    from lazy_quarry.site.supposed_jobs import SupposedJobs
    from lazy_quarry.views.job_view import StartRange
    from lazy_quarry.views.study_view import StudyView

MOST = 2
"""Readers at once."""
TRIES = 3
"""Readers that are asked for one answer: one that had ended before, one whose starter was just ending, and one more.

Where several processes are killed together, their links close one after the other, and none of it is known before it is tried.
"""
STOP_S = 0.25
"""Seconds between looks whether a study is to stop."""
IDLE_S = 60.0
"""One that had nothing to do for so long is let go."""


def most_s() -> float:
    """Seconds that one call may take; ``LQ_CALL_LIMIT`` changes it, for tests."""
    return float(os.environ.get("LQ_CALL_LIMIT", "120"))


class _Reader(Struct, eq=False):
    """A process that reads, and what it was told."""

    reader: asyncio.StreamReader
    writer: asyncio.StreamWriter
    ranges: dict[int, StartRange] | None = None
    idle_since: float = field(default_factory=time.monotonic)


class NoReader(Exception):
    """No process can be had that reads."""


class Readers:
    """Readers of one state folder. ``starter`` is the link to the process that starts them, None where there is none."""

    def __init__(self, folder: Path, session: Session, starter: socket.socket | None) -> None:
        self.folder, self.session, self._starter = folder, session, starter
        self.supposed: SupposedJobs | None = None
        """Who works out what is expected of jobs that nobody has submitted."""
        self.free: list[_Reader] = []
        self.busy: dict[_Reader, str] = {}
        """The readers at work, and for whom."""
        self.promised = 0
        """Places that are taken by calls which have no reader yet."""
        self.waiting: dict[str, deque[asyncio.Future[None]]] = {}
        """Calls that wait for a reader, by person, those whose turn is next first."""
        self._wanted: dict[str, tuple[SupposedJob, ...]] = {}
        """The last jobs of each person of which a reader wanted to know what is expected."""
        self._turns: dict[str, int] = {}
        """When each person had a turn last, counted in turns."""

    async def answer(self, caller: Caller, line: bytes, call: Glance) -> bytes:
        """The answer to a call of a person, by a reader. Raises :class:`NoReader` where none can be had.

        What takes too long is given up, and the answer says so. Where the reader ends, another one is asked: nothing was
        changed. Where the task that waits here is cancelled, the reader ends.
        """
        words = ""
        for _ in range(TRIES):
            try:
                return await self._answered(caller, line)
            except TimeoutError:
                words = f"{call.method} took longer than {most_s():g} seconds and was given up; ask for less, as of a shorter time"
                break
            except (OSError, EOFError):
                words = (
                    f"the process that answered {call.method} ended before it had an answer, and so did two others; "
                )
                words += "engine.log may say why"
                for one in self.free:  # they may have ended with it, and nobody has seen that yet
                    one.writer.close()
                self.free.clear()
        return error_line(call.id, INTERNAL, words)

    async def _answered(self, caller: Caller, line: bytes) -> bytes:
        one, done = await self._next(caller.user), False
        try:
            async with asyncio.timeout(most_s()):
                told = await self._asked(one, caller, line)
            done = True
            return told
        finally:
            self.busy.pop(one, None)
            if done:
                one.idle_since = time.monotonic()
                self.free.append(one)
            else:
                one.writer.transport.abort()  # it sees that, and ends
            self._wake()

    async def _asked(self, one: _Reader, caller: Caller, line: bytes) -> bytes:
        session = self.session
        ranges, one.ranges = (None if session.ranges is one.ranges else session.ranges), session.ranges
        jobs, supposed = self._wanted.get(caller.user), self.supposed
        found = supposed.known_of(caller.user, jobs) if supposed is not None and jobs is not None else None
        known = (jobs, found) if jobs is not None and found is not None else None
        _send(one.writer, Ask(caller, line, session.runner.obstacle(), ranges, known))
        await one.writer.drain()
        told, wanted = await _received(one.reader), pickle.loads(await _received(one.reader))
        if wanted is not None and supposed is not None:
            self._wanted[caller.user] = wanted
            supposed.of(caller.user, wanted)
        return told

    # -- whose turn it is --------------------------------------------------------------------------

    async def _next(self, user: str) -> _Reader:
        """A reader for a person, as soon as it is their turn."""
        if self.waiting or not self._room():
            turn = asyncio.get_running_loop().create_future()
            self.waiting.setdefault(user, deque()).append(turn)
            try:
                await turn
            except asyncio.CancelledError:
                if not turn.cancelled():  # it has its turn, and doesn't take it
                    self.promised -= 1
                self._wake()
                raise
            self.promised -= 1
        else:
            self._took_turn(user)
        while self.free:
            one = self.free.pop()
            if not one.writer.is_closing() and not one.reader.at_eof():
                self.busy[one] = user
                return one
            one.writer.close()
        self.promised += 1
        try:
            one = await self.started()
        except BaseException:
            self.promised -= 1
            self._wake()  # its place is free again
            raise
        self.promised -= 1
        self.busy[one] = user
        return one

    def _room(self) -> bool:
        return len(self.busy) + self.promised < MOST

    def _wake(self) -> None:
        """Give a turn to whoever waits: of those with the fewest at work the one whose last turn is longest ago."""
        while self._room():
            for user, turns in list(self.waiting.items()):
                while turns and turns[0].done():  # its call was given up
                    turns.popleft()
                if not turns:
                    del self.waiting[user]
            if not self.waiting:
                return
            at_work = list(self.busy.values())
            user = min(self.waiting, key=lambda one: (at_work.count(one), self._turns.get(one, 0)))
            self.waiting[user].popleft().set_result(None)
            self._took_turn(user)
            self.promised += 1

    def _took_turn(self, user: str) -> None:
        self._turns[user] = max(self._turns.values(), default=0) + 1

    def study(self, view: StudyView, told: Told) -> bool:
        """Make a study in a process of its own; ``told`` gets views of it and says whether to go on. False where there is none.

        It waits until the study is over, or is to stop: for a thread.
        """
        link = self._link()
        if link is None:
            return False
        with link:
            with suppress(OSError):  # where it is gone already, there is nothing to be read below
                for message in (self._begin(), MakeStudy(view)):
                    send(link, pickle.dumps(message))
            link.settimeout(STOP_S)
            given = bytearray()
            while told(view) and not view.over:
                try:
                    piece = link.recv(1 << 20)
                except TimeoutError:
                    continue
                except OSError:
                    piece = b""
                if not piece:
                    view = replace(
                        view, over=True, problem="the process that made the study ended; engine.log may say why"
                    )
                given += piece
                while len(given) >= SIZE and len(given) >= (end := SIZE + int.from_bytes(given[:SIZE], "big")):
                    view = pickle.loads(given[SIZE:end])
                    del given[:end]
            return True

    # -- the processes -----------------------------------------------------------------------------

    def _begin(self) -> Begin:
        return Begin(self.folder, self.session.engine.plans.planner.site)

    def _link(self) -> socket.socket | None:
        """The link to a new process; None where there can be none."""
        if self._starter is None:
            return None
        try:
            ours, its = socket.socketpair()
        except OSError:
            return None  # there is no descriptor for it now
        try:
            with its:
                socket.send_fds(self._starter, [b"."], [its.fileno()])
            return ours
        except OSError:
            ours.close()
            self._starter = None  # it is gone, and calls are answered by threads from now on
            return None

    async def started(self) -> _Reader:
        """Start a process that reads. Raises :class:`NoReader`."""
        link = self._link()
        if link is None:
            raise NoReader
        one = _Reader(*await asyncio.open_unix_connection(sock=link))
        _send(one.writer, self._begin())
        return one

    def let_go(self) -> None:
        """Let those go that had nothing to do for long."""
        until = time.monotonic() - IDLE_S
        for one in [one for one in self.free if one.idle_since < until or one.reader.at_eof()]:
            self.free.remove(one)
            one.writer.close()

    def close(self) -> None:
        """End all of them."""
        for one in [*self.free, *self.busy]:
            one.writer.transport.abort()
        if self._starter is not None:
            self._starter.close()


async def _received(reader: asyncio.StreamReader) -> bytes:
    size = int.from_bytes(await reader.readexactly(SIZE), "big")
    return await reader.readexactly(size)


def _send(writer: asyncio.StreamWriter, message: Begin | Ask) -> None:
    writer.write(framed(pickle.dumps(message)))
