"""The engine as a process: one for each state folder, its lock, its socket.

Started by the first command that needs it, it serves JSON-RPC 2.0 over a Unix socket that only its user
may open, and leaves when nothing runs or waits and nobody has been connected for a minute.
"""

from __future__ import annotations

import asyncio
import faulthandler
import os
import select
import signal
import socket
import sys
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

from lazy_quarry import __version__
from lazy_quarry.errors import DamagedJournal, StateFolderError
from lazy_quarry.files.kinds import lack_of
from lazy_quarry.files.logs import keep_short
from lazy_quarry.link.answered import answer
from lazy_quarry.link.protocol import (
    INTERNAL,
    LONGEST_LINE,
    Glance,
    error_line,
    glance_at,
    logged,
    submission_of,
    write_notification,
)
from lazy_quarry.link.reader import forked_starter
from lazy_quarry.link.readers import NoReader, Readers
from lazy_quarry.link.site_client import CALLS
from lazy_quarry.probe.foreign_load import OthersLoad
from lazy_quarry.probe.machine import core_numbers, groups_of, user_name
from lazy_quarry.probe.script import folders_of, with_surroundings
from lazy_quarry.probe.zone import local_zone
from lazy_quarry.run.hosts.host_node import sockets_of
from lazy_quarry.run.intent import part_names
from lazy_quarry.run.node.process import boottime, wall_ms
from lazy_quarry.run.node.sockets import is_at, listen, mark_of, peer_of
from lazy_quarry.run.site_nodes import nodes_of
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.check_process import LONG, checked_apart
from lazy_quarry.site.clock_watch import ClockWatch
from lazy_quarry.site.session import Session
from lazy_quarry.site.site_file.roles import caller_of
from lazy_quarry.site.site_file.site_file import SiteFileError, watched_site
from lazy_quarry.site.site_in_use import SiteInUse
from lazy_quarry.store.folder import FolderLock
from lazy_quarry.store.journal import Journal

if TYPE_CHECKING:
    from lazy_quarry.core.header.check import Checked
    from lazy_quarry.core.header.submission import Submission

TICK_S = 0.5
CHECK_AFTER_S = 10.0
"""A large journal is read whole so long after the start, when the first calls are answered."""
AGE_EVERY_S = 3600.0
"""Seconds between looks for what need not be kept any longer."""
MOST_SLICES = 200
"""Slices of the plan that are worked out for one call at most, before it is answered."""
MOST_CONNECTING = 128
"""Clients that may wait to be connected."""
UNREAD_S = 60.0
"""Who reads no answer for so long is left."""
SEEN_S, LOOK_S = 3.0, 0.02
"""Hosts are waited for so long, looked at so often, when it is asked whether they see a folder."""
MOST_AT_WORK = 8
"""Calls of one client that may take long, at once; it waits with more."""
MOST_FAULTS = 50
"""Kinds of faults, one after the other, of which all is logged."""
_LEAVE, _LEFT = b'{"jsonrpc":"2.0","id":0,"method":"leave"}\n', b'{"jsonrpc":"2.0","id":0,"result":null}\n'
"""The one call that is about the engine and not about its site."""


def linger_s() -> float:
    """Seconds that it stays with nothing to do; ``LQ_LINGER`` shortens it for tests."""
    return float(os.environ.get("LQ_LINGER", "60"))


class Server:
    """The site of a state folder, with its socket and its clock ticks."""

    def __init__(self, folder: Path, starter: socket.socket | None = None) -> None:
        """Open the journal of a folder. ``starter`` is the link to a process that starts readers of it."""
        self.folder = folder
        journal = Journal(folder)
        self.site_file = watched_site(folder)
        site = self.site_file.site
        self._loop: asyncio.AbstractEventLoop | None = None
        self._watched = set[int]()
        """The descriptors of the links to agents, while the loop waits for what comes over them."""
        self.runner = nodes_of(site, folder, journal, core_numbers(), self._unwatch)
        session = Session(
            site,
            journal,
            self.runner,
            clock=wall_ms,
            zone=local_zone(),
            look_up=with_surroundings,
            others_busy=OthersLoad().cores,
            folders_of=folders_of,
        )
        self._refuse_removed(session)
        self.readers = Readers(folder, session, starter)
        self.site = SiteInUse(session, self.readers.study)
        self.readers.supposed = self.site.foresight.supposed
        self.site.mailer.start()
        self.site.foresight.start()
        self.state = self.site.session.engine.state
        self.clock = ClockWatch(self.site.session, lambda: round(boottime() * 1000), self._run_ms)
        # Folders of attempts whose ends are in the journal: the last engine may have ended before it removed them.
        self.runner.sweep({name for job in self.state.running() for name in part_names(job)})
        self.writers: set[asyncio.StreamWriter] = set()
        self.idle_since = time.monotonic()
        self.told_version = 0
        self._age_at = 0.0
        self._faults: dict[str, str] = {}
        """Faults in its own steps, and the words for each."""
        self._servers: list[asyncio.Server] = []
        self._listening: tuple[int, int] | None = None
        """The device and number of its socket's file."""
        self._begins: asyncio.Task[None] | None = None
        self._leave = asyncio.Event()
        self._own_folder = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        if not journal.checked:
            check = threading.Timer(CHECK_AFTER_S, self._check_all)
            check.daemon = True
            check.start()

    def _refuse_removed(self, session: Session) -> None:
        """Raise :class:`SiteFileError` where a host is not in the site file any more, and jobs are on it."""
        for job in session.engine.state.running():
            for one in job.allocations:
                if one.node not in session.site.node and sockets_of(self.folder, one.node).is_dir():
                    raise SiteFileError(
                        f"{self.site_file.path} has no node {one.node} any more, and {job.label} is on it; put its table back. "
                        f"When its jobs have ended, lq hosts remove {one.node} takes it out"
                    )

    def _check_all(self) -> None:
        """Read and compare all of a journal that was too large for that when it was opened; in a thread of its own."""
        session = self.site.session
        with suppress(StateFolderError):
            for problem in session.journal.problems():
                session.damage = str(DamagedJournal(self.folder, problem))
                return

    async def run(self) -> None:
        """Serve until there is nothing left to do."""
        loop = self._loop = asyncio.get_running_loop()
        loop.add_signal_handler(signal.SIGTERM, self._leave.set)
        loop.set_exception_handler(self._fault_of_loop)
        await self._begin_to_listen()
        try:
            while not self._leave.is_set():
                self.move_on()
                # Ends arrive through the link at once. The tick is for what only the clock brings.
                with suppress(TimeoutError):
                    async with asyncio.timeout(TICK_S):
                        await self._leave.wait()
                if self._idle() or self.runner.superseded or self._is_removed():
                    break
        finally:
            self.site.mailer.close()
            self.site.foresight.close()
            self.readers.close()
            self.runner.close()
            for server in self._servers:
                server.close()
            os.close(self._own_folder)

    def move_on(self) -> None:
        """Take every step once; what goes wrong in one keeps no other from being taken, and is told."""
        told = ""
        for step in self.steps():
            try:
                step()
            except Exception as fault:  # a fault of ours must not end what others rely on; each kind is logged once
                told = self._told_of(fault, getattr(step, "__name__", "a step"))
        if not told:
            self._faults.clear()
        self.site.session.say_of_steps(told)

    def steps(self) -> tuple[Callable[[], object], ...]:
        """The steps of each tick. None of them keeps the others from being done."""
        return (
            self.clock.look,
            self._tick_runner,
            self.runner.retry_unwritten,
            self.site.dispatcher.step,
            self._age,
            self.site.queries.searches.keep_up,
            self._look_at_site_file,
            self._listen_again,
            self._keep_log_short,
            self._watch_link,
            self._tell_changes,
            self.readers.let_go,
        )

    def _fault_of_loop(self, loop: asyncio.AbstractEventLoop, context: dict[str, Any]) -> None:
        """Something failed that nobody waits for, as taking a connection without a descriptor."""
        fault = context.get("exception")
        if isinstance(fault, asyncio.CancelledError):
            return  # it leaves
        if isinstance(fault, Exception):
            self.site.session.say_of_steps(self._told_of(fault, context["message"]))
        else:
            loop.default_exception_handler(context)

    def _told_of(self, fault: Exception, where: str) -> str:
        """The words for a fault in a step. A lack of the machine's is a state of it, and no fault of the program's."""
        if isinstance(fault, StateFolderError):
            return str(fault)
        if lack := lack_of(fault):
            return f"the engine cannot go on with all of its work: {lack}; it tries again all the time"
        if repr(fault) not in self._faults and len(self._faults) < MOST_FAULTS:
            self._faults[repr(fault)] = logged(fault, f"the engine's own steps, {where}")
        return self._faults.get(repr(fault), f"{where} goes wrong in ever new ways; engine.log has the first of them")

    def _run_ms(self, number: int) -> int | None:
        return self.runner.files.run_ms(self.state.jobs[number])

    def _tick_runner(self) -> None:
        self.runner.tick(any(line.places for line in self.state.jobs.lines.values()))

    def _look_at_site_file(self) -> None:
        self.site.session.say_of_site(self.site_file.note())

    def _keep_log_short(self) -> None:
        keep_short(self.folder / "engine.log")

    def _listen_again(self) -> None:
        """Listen anew when the socket's name was removed or taken; who is connected stays so."""
        if self._listening and not self._begins and not is_at(self._listening, self.folder, "engine.sock"):
            self._begins = asyncio.get_running_loop().create_task(self._begin_to_listen())
            self._begins.add_done_callback(self._began)

    def _began(self, task: asyncio.Task[None]) -> None:
        self._begins = None
        if not task.cancelled() and (fault := task.exception()) and isinstance(fault, Exception):
            self.site.session.say_of_steps(self._told_of(fault, "listening again"))

    async def _begin_to_listen(self) -> None:
        listener = listen(self.folder, "engine.sock")
        self._listening = mark_of(self.folder, "engine.sock")
        # It takes one connection at a time: where there is no descriptor for one, asyncio would fail, and try again, once for each
        # that it takes at a time, and each of these again, until it did nothing else.
        self._servers.append(await asyncio.start_unix_server(self._serve, sock=listener, limit=LONGEST_LINE, backlog=1))
        listener.listen(MOST_CONNECTING)

    def _age(self) -> None:
        """Thin, a little at a time, what the site file doesn't keep for ever."""
        kept, session = self.site.session.site.kept, self.site.session
        if kept.events_s is None or time.monotonic() < self._age_at:
            return
        with session.lock, suppress(StateFolderError):
            thinned = session.journal.thin(session.now() - kept.events_s * 1000)
            self.site.queries.searches.forget_printed(session.now() - kept.events_s * 1000)
            self._age_at = time.monotonic() + (0 if thinned else AGE_EVERY_S)

    def _watch_link(self) -> None:
        """Wake the loop when an agent sends something, or a host has done what it was asked for."""
        loop = asyncio.get_running_loop()
        for link in self.runner.descriptors() - self._watched:
            loop.add_reader(link, self._heard)
            self._watched.add(link)

    def _unwatch(self, descriptor: int) -> None:
        """Wait no longer for what comes over a link that is about to be closed: its number may be a client's a moment later."""
        if descriptor in self._watched:
            assert self._loop is not None
            self._loop.remove_reader(descriptor)
            self._watched.discard(descriptor)

    def _heard(self) -> None:
        self.site.dispatcher.step()
        self._watch_link()
        self._tell_changes()

    def _tell_changes(self) -> None:
        version = self.site.session.version
        if version == self.told_version:
            return
        self.told_version = version
        line = write_notification("changed", version=version)
        for writer in list(self.writers):
            # A client that doesn't read is skipped, so that what it hasn't read never fills the engine's memory.
            if not writer.is_closing() and writer.transport.get_write_buffer_size() < 1 << 20:
                writer.write(line)

    def _idle(self) -> bool:
        if self.writers or self.state.jobs or self.runner.busy():
            self.idle_since = time.monotonic()
        return time.monotonic() - self.idle_since > linger_s()

    def _is_removed(self) -> bool:
        """True when its state folder was removed: nobody finds it any more, and nothing that it does is kept. A file system that is
        away for a while is no removal.
        """
        return os.fstat(self._own_folder).st_nlink == 0

    async def work_out_plan(self) -> None:
        """Work the plan out, a slice at a time, between which others are answered."""
        for _ in range(MOST_SLICES):  # what changes meanwhile may begin it anew; somebody must be answered at last
            if self.site.session.work_out():
                return
            await asyncio.sleep(0)

    async def _made_ready(self, caller: Caller, line: bytes, method: str) -> tuple[Submission, Checked] | None:
        """Do what takes long for a call, while others are answered; what goes wrong here shows in its answer.

        A long script is checked apart; what was found goes on with it.
        """
        apart = None
        try:
            submission = submission_of(line) if len(line) > LONG or self.site.session.site.apart else None
            if submission is not None and self.site.session.site.apart:
                await self._until_seen(set(folders_of(submission).values()))
            if submission is not None and len(line) > LONG:
                context = self.site.drafts.context(caller, submission)
                apart = submission, await checked_apart(self.site.session.site, context)
            if method in CALLS and CALLS[method].plan:
                await self.work_out_plan()
        except Exception as fault:
            logged(fault, "making ready")
        return apart

    async def _until_seen(self, folders: set[str]) -> None:
        """Wait a moment until the hosts that answer have said whether they see these folders."""
        until = time.monotonic() + SEEN_S
        answer = {one.node for one in self.runner.hosts() if one.answers}
        while not all(answer <= self.runner.sees(folder).keys() for folder in folders) and time.monotonic() < until:
            await asyncio.sleep(LOOK_S)

    async def _answered(self, caller: Caller, line: bytes, call: Glance) -> bytes:
        """The answer to a call that no other waits for."""
        apart = await self._made_ready(caller, line, call.method)
        with self.site.drafts.knowing(apart):
            return answer(self.site, caller, line)

    def _is_long(self, call: Glance) -> bool:
        """True when a call may take long with these arguments."""
        known = CALLS.get(call.method)
        if known is None or known.long == "no":
            return False
        if known.long == "if ended":
            return bool(call.number("ended"))
        return True

    async def _long_answer(self, caller: Caller, line: bytes, call: Glance) -> bytes:
        """The answer to a call that may take long: by a reader where one can be had, else in a thread."""
        known = CALLS[call.method]
        live = known.long == "ended" and call.number("number") in self.state.jobs
        if known.by_reader and not live:
            try:
                return await self.readers.answer(caller, line, call)
            except NoReader:
                pass
        if known.plan:
            await self.work_out_plan()
        return await asyncio.to_thread(answer, self.site, caller, line)

    async def _send(self, writer: asyncio.StreamWriter, told: bytes) -> None:
        writer.write(told)
        self._watch_link()
        self._tell_changes()
        async with asyncio.timeout(UNREAD_S):  # wait_for may lose a cancel that comes as what it waits for ends
            await writer.drain()

    async def _send_long(self, writer: asyncio.StreamWriter, caller: Caller, line: bytes, call: Glance) -> None:
        """Answer a call that may take long, while others of the same client are answered too."""
        try:
            told = await self._long_answer(caller, line, call)
        except Exception as fault:
            told = error_line(call.id, INTERNAL, logged(fault, call.method))
        try:
            await self._send(writer, told)
        except (ConnectionError, TimeoutError):
            writer.transport.abort()

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        peer: socket.socket = writer.get_extra_info("socket")
        _, uid, gid = peer_of(peer)
        # The socket's mode keeps others out. This holds also where a file system ignores modes.
        if uid != os.getuid():
            writer.close()
            return
        writer.write(write_notification("hello", version=__version__, pid=os.getpid()))
        self.writers.add(writer)
        caller = caller_of(self.site.session.site, user_name(uid), groups_of(uid, gid), "socket")
        at_work = set[asyncio.Task[None]]()
        try:
            while line := await reader.readline():
                if line == _LEAVE:
                    self._leave.set()
                    await self._send(writer, _LEFT)
                    break
                call = glance_at(line)
                if self._is_long(call):
                    if len(at_work) >= MOST_AT_WORK:
                        await asyncio.wait(at_work, return_when=asyncio.FIRST_COMPLETED)
                    task = asyncio.get_running_loop().create_task(self._send_long(writer, caller, line, call))
                    at_work.add(task)
                    task.add_done_callback(at_work.discard)
                else:
                    await self._send(writer, await self._answered(caller, line, call))
                # Whoever sends many calls at once, or reads no answers, waits by himself: others are answered in between.
                await asyncio.sleep(0)
            while at_work and not _is_gone(peer):  # it may have said all that it wants to, and still read
                await asyncio.wait(at_work, timeout=TICK_S)
        except (ConnectionError, ValueError):
            pass
        except TimeoutError:
            writer.transport.abort()
        finally:
            for task in at_work:
                task.cancel()  # and the reader that worked for it ends
            self.writers.discard(writer)
            writer.close()


def _is_gone(peer: socket.socket) -> bool:
    """True when the other end of a link is closed, not only shut for writing."""
    poll = select.poll()
    try:
        poll.register(peer.fileno(), 0)
    except ValueError:
        return True
    return bool(poll.poll(0))


def main() -> None:
    """``python -m lazy_quarry.link.server FOLDER``: exit 0 when done or another engine is there, 1 with a reason."""
    folder = Path(sys.argv[1])
    starter = forked_starter()
    try:
        lock = FolderLock(folder, "", wait=False)
    except BlockingIOError:
        return
    except StateFolderError as fault:
        sys.exit(f"refused: {fault}")
    faulthandler.enable()  # a crash leaves its trace in the log
    signal.signal(signal.SIGHUP, signal.SIG_IGN)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    try:
        server = Server(folder, starter)
    except (StateFolderError, SiteFileError) as fault:
        sys.exit(f"refused: {fault}")
    asyncio.run(server.run())
    lock.release()


if __name__ == "__main__":
    main()
