"""SiteClient: all that the interface and the command line may call.

Calls block, so the interface makes them from workers, never from its loop.
"""

import json
import socket
import subprocess
import sys
import threading
import time
from contextlib import suppress
from pathlib import Path
from typing import Any, Literal, Protocol

from lazy_quarry import __version__
from lazy_quarry.core.explain.answers import Suggestion
from lazy_quarry.core.site import Window
from lazy_quarry.errors import EngineAway, StateFolderError
from lazy_quarry.run.node.sockets import dial
from lazy_quarry.site.views import (
    Board,
    DraftReport,
    JobDetail,
    JobView,
    Outcome,
    OutputChunk,
    Receipt,
    RoomView,
    Submission,
)
from lazy_quarry.store.folder import FolderLock

START_S = 20.0
CHANGES = (
    *("submit", "try_one", "again", "hold", "release", "cancel"),
    *("change", "order", "nodes", "reserve", "unreserve"),
)
"""Calls that must not be made twice when the link breaks."""
SOCKET = "engine.sock"


class SiteClient(Protocol):
    """A site in use, whatever runs it."""

    def submit(self, submission: Submission) -> Receipt:
        """Take a script in, or say what must change first."""
        ...

    def hold(self, jobs: list[int]) -> list[Outcome]:
        """Keep waiting jobs from starting."""
        ...

    def release(self, jobs: list[int]) -> list[Outcome]:
        """Let held jobs start."""
        ...

    def cancel(self, jobs: list[int]) -> list[Outcome]:
        """End waiting jobs, stop running ones."""
        ...

    def jobs(
        self, ended: bool = False, since_ms: int | None = None, everyone: bool = True, limit: int = 500
    ) -> list[JobView]:
        """Live jobs by number, or the newest ended ones."""
        ...

    def job(self, number: int) -> JobView:
        """One job."""
        ...

    def detail(self, number: int) -> JobDetail:
        """One job with record, script and verdict."""
        ...

    def output(self, number: int, which: Literal["output", "errors"], from_byte: int = 0) -> OutputChunk:
        """A piece of what a job printed; a negative ``from_byte`` counts from the end."""
        ...

    def check(self, submission: Submission) -> DraftReport:
        """All that can be said of a draft."""
        ...

    def board(self) -> Board:
        """Everything of the present."""
        ...

    def try_one(self, submission: Submission, task: int | None = None, values: dict[str, str] | None = None) -> Receipt:
        """Run one task of a draft in the site's trial tier."""
        ...

    def room(self, queue: str) -> list[RoomView]:
        """The most that could start now in a queue, by walltime and kind."""
        ...

    def change(self, jobs: list[int], settings: list[str]) -> list[Outcome]:
        """Ask for something else on behalf of jobs that have not started."""
        ...

    def order(self, jobs: list[int]) -> Outcome:
        """Put one's own waiting jobs into an order."""
        ...

    def again(self, jobs: list[int]) -> list[Outcome]:
        """Submit jobs again, each as it was."""
        ...

    def samples(self, number: int) -> list[tuple[int, float, int]]:
        """What was measured of a running job: (instant in ms, cores busy, memory in MiB)."""
        ...

    def turns(self) -> list[int]:
        """One's own waiting jobs in the order of their turns."""
        ...

    def ladder(self, number: int) -> list[Suggestion]:
        """When a waiting job would start with other walltimes."""
        ...

    def compare(self, first: int, second: int) -> str:
        """Which of two waiting jobs stands ahead, and why."""
        ...

    def nodes(self, names: list[str], what: Literal["close", "open", "lost"], reason: str = "") -> list[Outcome]:
        """Close nodes, open them, or tell that they have gone."""
        ...

    def reserve(self, window: Window) -> Outcome:
        """Keep nodes free for a time, or for some people."""
        ...

    def unreserve(self, name: str) -> Outcome:
        """Take a reservation back."""
        ...

    def changes(self, since: int, timeout_s: float) -> int:
        """The site's version as soon as it is past ``since``, or when the time is over."""
        ...

    def close(self) -> None:
        """Let the site go; its jobs go on."""
        ...


class SocketClient:
    """A client of an engine in a process of its own, which it starts when there is none."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._lock = threading.Lock()
        self._replies: dict[int, dict[str, Any]] = {}
        self._news = threading.Condition()
        self._version = 0
        self._number = 0
        self._closed = False
        self.engine_version = ""
        self._socket = self._connect()

    # -- the link ----------------------------------------------------------------------------------

    def _connect(self) -> socket.socket:
        link = dial(self.folder, SOCKET)
        if link is None:
            start_lock = FolderLock(self.folder, "start.lock", wait=True)
            try:
                link = dial(self.folder, SOCKET) or _start_engine(self.folder)
            finally:
                start_lock.release()
        threading.Thread(target=self._read, args=(link,), daemon=True, name="engine-link").start()
        return link

    def _read(self, link: socket.socket) -> None:
        with suppress(OSError, ValueError), link.makefile("rb") as lines:
            for line in lines:
                message = json.loads(line)
                with self._news:
                    if message.get("method") == "changed":
                        self._version = message["params"]["version"]
                    elif message.get("method") == "hello":
                        self.engine_version = message["params"]["version"]
                    else:
                        self._replies[message["id"]] = message
                    self._news.notify_all()
        with self._news:
            if link is self._socket:
                self._closed = True
            self._news.notify_all()

    def _call(self, method: str, **arguments: Any) -> Any:
        from lazy_quarry.link.protocol import params_of, result_of

        with self._lock:
            if self._closed:
                self._closed = False
                self._socket = self._connect()
            self._number += 1
            number = self._number
            request = {
                "jsonrpc": "2.0",
                "id": number,
                "method": method,
                "params": params_of(SiteClient, method, arguments),
            }
            try:
                self._socket.sendall(json.dumps(request).encode() + b"\n")
            except OSError:
                self._closed = True
        with self._news:
            self._news.wait_for(lambda: number in self._replies or self._closed)
            reply = self._replies.pop(number, None)
        if reply is None:
            if method in CHANGES:
                raise EngineAway(f"the engine of {self.folder} went away during {method}; see lazy-quarry jobs")
            return self._call(method, **arguments)  # reading again changes nothing
        return result_of(SiteClient, method, reply)

    def leave(self) -> None:
        """Have the engine end, and wait until it has; its jobs go on."""
        with suppress(OSError):
            self._socket.sendall(b'{"jsonrpc":"2.0","id":0,"method":"leave"}\n')
        with self._news:
            self._news.wait_for(lambda: self._closed, START_S)
        FolderLock(self.folder, "engine.lock", wait=True).release()

    def close(self) -> None:
        """Let the engine go; its jobs go on."""
        with suppress(OSError):
            self._socket.shutdown(socket.SHUT_RDWR)
        self._socket.close()

    def changes(self, since: int, timeout_s: float) -> int:
        """The newest version told, as soon as it is past ``since``."""
        with self._news:
            self._news.wait_for(lambda: self._version > since or self._closed, timeout_s)
            return self._version

    # -- the calls ---------------------------------------------------------------------------------

    def submit(self, submission: Submission) -> Receipt:
        """See :class:`SiteClient`."""
        receipt: Receipt = self._call("submit", submission=submission)
        return receipt

    def hold(self, jobs: list[int]) -> list[Outcome]:
        """See :class:`SiteClient`."""
        told: list[Outcome] = self._call("hold", jobs=jobs)
        return told

    def release(self, jobs: list[int]) -> list[Outcome]:
        """See :class:`SiteClient`."""
        told: list[Outcome] = self._call("release", jobs=jobs)
        return told

    def cancel(self, jobs: list[int]) -> list[Outcome]:
        """See :class:`SiteClient`."""
        told: list[Outcome] = self._call("cancel", jobs=jobs)
        return told

    def jobs(
        self, ended: bool = False, since_ms: int | None = None, everyone: bool = True, limit: int = 500
    ) -> list[JobView]:
        """See :class:`SiteClient`."""
        found: list[JobView] = self._call("jobs", ended=ended, since_ms=since_ms, everyone=everyone, limit=limit)
        return found

    def job(self, number: int) -> JobView:
        """See :class:`SiteClient`."""
        view: JobView = self._call("job", number=number)
        return view

    def detail(self, number: int) -> JobDetail:
        """See :class:`SiteClient`."""
        detail: JobDetail = self._call("detail", number=number)
        return detail

    def output(self, number: int, which: Literal["output", "errors"], from_byte: int = 0) -> OutputChunk:
        """See :class:`SiteClient`."""
        chunk: OutputChunk = self._call("output", number=number, which=which, from_byte=from_byte)
        return chunk

    def check(self, submission: Submission) -> DraftReport:
        """See :class:`SiteClient`."""
        report: DraftReport = self._call("check", submission=submission)
        return report

    def board(self) -> Board:
        """See :class:`SiteClient`."""
        board: Board = self._call("board")
        return board

    def try_one(self, submission: Submission, task: int | None = None, values: dict[str, str] | None = None) -> Receipt:
        """See :class:`SiteClient`."""
        receipt: Receipt = self._call("try_one", submission=submission, task=task, values=values)
        return receipt

    def room(self, queue: str) -> list[RoomView]:
        """See :class:`SiteClient`."""
        found: list[RoomView] = self._call("room", queue=queue)
        return found

    def change(self, jobs: list[int], settings: list[str]) -> list[Outcome]:
        """See :class:`SiteClient`."""
        told: list[Outcome] = self._call("change", jobs=jobs, settings=settings)
        return told

    def order(self, jobs: list[int]) -> Outcome:
        """See :class:`SiteClient`."""
        told: Outcome = self._call("order", jobs=jobs)
        return told

    def again(self, jobs: list[int]) -> list[Outcome]:
        """See :class:`SiteClient`."""
        told: list[Outcome] = self._call("again", jobs=jobs)
        return told

    def samples(self, number: int) -> list[tuple[int, float, int]]:
        """See :class:`SiteClient`."""
        found: list[tuple[int, float, int]] = self._call("samples", number=number)
        return found

    def turns(self) -> list[int]:
        """See :class:`SiteClient`."""
        found: list[int] = self._call("turns")
        return found

    def ladder(self, number: int) -> list[Suggestion]:
        """See :class:`SiteClient`."""
        found: list[Suggestion] = self._call("ladder", number=number)
        return found

    def compare(self, first: int, second: int) -> str:
        """See :class:`SiteClient`."""
        return str(self._call("compare", first=first, second=second))

    def nodes(self, names: list[str], what: Literal["close", "open", "lost"], reason: str = "") -> list[Outcome]:
        """See :class:`SiteClient`."""
        told: list[Outcome] = self._call("nodes", names=names, what=what, reason=reason)
        return told

    def reserve(self, window: Window) -> Outcome:
        """See :class:`SiteClient`."""
        told: Outcome = self._call("reserve", window=window)
        return told

    def unreserve(self, name: str) -> Outcome:
        """See :class:`SiteClient`."""
        told: Outcome = self._call("unreserve", name=name)
        return told


def _start_engine(folder: Path) -> socket.socket:
    log = folder / "engine.log"
    try:
        out = open(log, "wb")
    except OSError as fault:
        raise StateFolderError(f"{folder} cannot be written ({fault.strerror}); choose another with --state") from None
    with out:
        engine = subprocess.Popen(
            [sys.executable, "-m", "lazy_quarry.link.server", str(folder)],
            start_new_session=True,
            stdin=subprocess.DEVNULL,
            stdout=out,
            stderr=out,
            cwd="/",
        )
    until = time.monotonic() + START_S
    while time.monotonic() < until:
        if link := dial(folder, SOCKET):
            return link
        if engine.poll() is not None:
            said = log.read_text(errors="replace").strip().split("\n")[-1]
            if said.startswith("refused: "):
                raise StateFolderError(said.removeprefix("refused: "))
            if engine.returncode != 0:
                raise EngineAway(f"the engine does not start: {said or 'it said nothing'}; all of it is in {log}")
        time.sleep(0.01)
    raise EngineAway(f"the engine does not answer after {START_S:.0f} seconds; see {log}")


def newer_here(client: SocketClient) -> bool:
    """True when the engine that answers was started by another version of the program."""
    with client._news:
        client._news.wait_for(lambda: client.engine_version != "", 2.0)
    return client.engine_version not in ("", __version__)
