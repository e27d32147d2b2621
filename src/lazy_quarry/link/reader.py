"""A process that answers calls which may take long, beside the engine: it reads the journal and follows what is written there.

It has no lock that others wait for, and can be ended at any time. Where the engine goes, or gives a call up, it ends by itself.
"""

from __future__ import annotations

import os
import pickle
import resource
import select
import signal
import socket
import sys
import threading
import time
from contextlib import suppress
from pathlib import Path
from typing import Any, NoReturn

from msgspec import Struct

from lazy_quarry.core.advice.forward_draws import SupposedJob
from lazy_quarry.core.site import Site
from lazy_quarry.core.values import replace
from lazy_quarry.errors import QuarryError
from lazy_quarry.link.answered import answer
from lazy_quarry.link.protocol import fault_line, glance_at, number_faults_from
from lazy_quarry.probe.script import with_surroundings
from lazy_quarry.probe.zone import local_zone
from lazy_quarry.run.node.process import call_itself, wall_ms
from lazy_quarry.run.read_only import OnlyFiles
from lazy_quarry.run.site_nodes import files_of
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.fast_search import FastSearch
from lazy_quarry.site.session import Session
from lazy_quarry.site.site_in_use import SiteRead
from lazy_quarry.site.studies import make_study
from lazy_quarry.site.supposed_jobs import Foreseen
from lazy_quarry.store.journal import Journal
from lazy_quarry.views.job_view import StartRange
from lazy_quarry.views.study_view import StudyView

MOST_CPU_S = 300
"""Seconds of the processor that one call may take."""
MOST_MEMORY = 8 * 2**30
"""Bytes of addresses that the process may have."""
TELL_S = 0.2
"""Seconds between two reports of a study's progress."""
SIZE = 8
"""Bytes that say how long the next message is."""


class Begin(Struct, frozen=True):
    """The first message to a reader: the state folder, and the site as the engine has it."""

    folder: Path
    site: Site


class Ask(Struct, frozen=True):
    """A call for a reader, with what the engine alone knows: why nothing can start now, and the ranges of starts."""

    caller: Caller
    line: bytes
    obstacle: str = ""
    ranges: dict[int, StartRange] | None = None
    """None where they are as they were."""
    foreseen: tuple[tuple[SupposedJob, ...], Foreseen] | None = None
    """The last jobs that this person asked of though nobody has submitted them, and what is expected of them."""


class MakeStudy(Struct, frozen=True):
    """A study for a reader, as a view of it that says what is asked."""

    view: StudyView


class Reader:
    """A site as it is read by this process."""

    def __init__(self, begin: Begin) -> None:
        journal = Journal(begin.folder, reading=True)
        self.runner = OnlyFiles(files_of(begin.site, begin.folder, journal.identity, journal.epoch))
        self.session = Session(
            begin.site, journal, self.runner, clock=wall_ms, zone=local_zone(), look_up=with_surroundings
        )
        self.site = SiteRead(self.session, self._foreseen)
        self._known: tuple[tuple[SupposedJob, ...], Foreseen] | None = None
        self.wanted: tuple[SupposedJob, ...] | None = None
        """Jobs that nobody has submitted, of which the last call wanted to know what is expected."""
        self.fast_search = FastSearch(self.session.engine.plans.planner)

    def answer(self, ask: Ask) -> bytes:
        """The answer to a call, from the journal as it is at one instant."""
        session = self.session
        self.runner.words = ask.obstacle
        self._known, self.wanted = ask.foreseen, None
        if ask.ranges is not None:
            session.ranges = ask.ranges
        with session.journal.one_view():
            session.follow()
            session.engine.state.jobs.take_touched()  # nobody here looks at a board
            self.fast_search.consider(len(session.engine.state.jobs))
            return answer(self.site, ask.caller, ask.line)

    def _foreseen(self, user: str, jobs: tuple[SupposedJob, ...]) -> Foreseen | None:
        self.wanted = jobs
        return self._known[1] if self._known is not None and self._known[0] == jobs else None


def read_calls(link: socket.socket) -> None:
    """Answer calls until the engine closes the link; a message goes ahead with its length.

    Behind each answer go the jobs of which the call wanted to know what is expected: only the engine can work that out.
    """
    call_itself("lq-reader")
    number_faults_from(os.getpid() * 1000)
    threading.Thread(target=_end_with, args=(link,), daemon=True).start()
    _limit(MOST_MEMORY)
    begin: Begin | None = None
    reader: Reader | None = None
    with link.makefile("rb") as given:
        while size := given.read(SIZE):
            message: Any = pickle.loads(given.read(int.from_bytes(size, "big")))  # from our own engine
            if isinstance(message, Begin):
                begin = message
                continue
            assert begin is not None
            if isinstance(message, MakeStudy):
                _study(link, begin, message.view)
                continue
            _limit_cpu()
            try:
                reader = reader or Reader(begin)
                told = reader.answer(message)
            except QuarryError as fault:  # the journal can't be read: the next time it is opened anew
                told, reader = fault_line(glance_at(message.line).id, fault), None
            send(link, told)
            send(link, pickle.dumps(reader.wanted if reader is not None else None))


def _study(link: socket.socket, begin: Begin, view: StudyView) -> None:
    """Make a study and send how far it is; there is no limit to its time but that of whoever waits for it."""
    last = 0.0

    def told(found: StudyView) -> bool:
        nonlocal last
        if found.over or len(found.rows) > len(view.rows) or time.monotonic() - last > TELL_S:
            send(link, pickle.dumps(found))
            last = time.monotonic()
        return True  # to stop it, the link is closed

    try:
        reader = Reader(begin)
    except QuarryError as fault:
        told(replace(view, over=True, problem=str(fault)))
        return
    reader.fast_search.consider(len(reader.session.engine.state.jobs))
    make_study(reader.session, view, told)


def send(link: socket.socket, body: bytes) -> None:
    """Send a message with its length before it."""
    link.sendall(framed(body))


def framed(body: bytes) -> bytes:
    """A message with its length before it, as it goes between an engine and its readers, either way."""
    return len(body).to_bytes(SIZE, "big") + body


def _limit(memory: int) -> None:
    with suppress(ValueError, OSError):  # a lower one is there already
        resource.setrlimit(resource.RLIMIT_AS, (memory, resource.getrlimit(resource.RLIMIT_AS)[1]))
    os.nice(5)


def _limit_cpu() -> None:
    used = resource.getrusage(resource.RUSAGE_SELF)
    with suppress(ValueError, OSError):
        most = resource.getrlimit(resource.RLIMIT_CPU)[1]
        resource.setrlimit(resource.RLIMIT_CPU, (int(used.ru_utime + used.ru_stime) + 1 + MOST_CPU_S, most))


def _end_with(link: socket.socket) -> NoReturn:
    """End this process, whatever it does, as soon as the other end of the link is closed."""
    poll = select.poll()
    poll.register(link.fileno(), select.POLLRDHUP)
    poll.poll()
    os._exit(0)


def start_readers(orders: socket.socket) -> None:
    """Become a reader for each link that comes over ``orders``: a fork, which needs no time for loading the program.

    This process has one thread, so that it may be forked; it ends when the engine does.
    """
    call_itself("lq-readers", "lazy_quarry.link.reader", "lazy_quarry.link.server")
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # nobody waits for them
    while True:
        _, links, _, _ = socket.recv_fds(orders, 1, 1)
        if not links:
            return
        if os.fork() == 0:
            orders.close()
            signal.signal(signal.SIGCHLD, signal.SIG_DFL)
            code = 1
            try:
                read_calls(socket.socket(fileno=links[0]))
                code = 0
            except (OSError, EOFError):
                pass  # the engine is gone
            except BaseException:
                import traceback

                traceback.print_exc()
            finally:
                sys.stderr.flush()
                os._exit(code)
        for link in links:
            os.close(link)


def forked_starter() -> socket.socket:
    """Fork the process that starts readers; returns the link to it. To be called before there are threads, locks or a journal."""
    ours, its = socket.socketpair()
    if os.fork() == 0:
        ours.close()
        try:
            start_readers(its)
        finally:
            os._exit(0)
    its.close()
    return ours
