"""A client of an engine in a process of its own, over a Unix socket."""

from __future__ import annotations

import os
import socket
import sys
import threading
import time
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from lazy_quarry import __version__
from lazy_quarry.errors import EngineAway, StateFolderError
from lazy_quarry.files import ours, system
from lazy_quarry.files.kinds import words_of
from lazy_quarry.files.logs import opened_log
from lazy_quarry.link.call_marks import Call
from lazy_quarry.link.protocol import Reply, read_reply, result_of, types_of, write_request
from lazy_quarry.link.site_client import CALLS, SiteClient
from lazy_quarry.run.node.sockets import dial, peer_of
from lazy_quarry.store.folder import FolderLock, holder_of

if TYPE_CHECKING:
    import subprocess

START_S = 60.0
"""Seconds that an engine may take until it answers. One that can't start ends at once and says why; a slow machine needs many."""
SILENT_S = 1.5
"""An engine that has the folder listens within this time."""
SOCKET = "engine.sock"
LOOK_S, LONGEST_S = 2.0, 900.0
"""Seconds between looks whether a silent engine is stopped; and seconds after which any call is given up."""


class SocketClient(SiteClient):
    """Sends every call to the engine of a state folder.

    With ``start`` an engine is started when there is none; else that is an :class:`EngineAway`.
    """

    def __init__(self, folder: Path, *, start: bool = True) -> None:
        self.folder = folder
        self._start = start
        self._lock = threading.Lock()
        self.replies: dict[int, Reply] = {}
        self._given_up = set[int | str | None]()
        """Calls that nobody waits for any more."""
        self._news = threading.Condition()
        self._version = 0
        self.asked = 0
        self._closed = False
        self.engine_version = ""
        self._socket = socket.socket(socket.AF_UNIX)
        """The link; before the first connection, one that leads nowhere."""
        self._connect()

    # -- the link ----------------------------------------------------------------------------------

    def _connect(self) -> None:
        link = dial(self.folder, SOCKET)
        if link is None and not self._start:
            raise EngineAway(f"no engine runs for {self.folder}")
        if link is None:
            start_lock = FolderLock(self.folder, "start.lock", wait=True)  # of many commands at once, one starts it
            try:
                link = dial(self.folder, SOCKET) or _start_engine(self.folder)
            finally:
                start_lock.release()
        self._socket = link
        threading.Thread(target=self._read, args=(link,), daemon=True, name="engine-link").start()

    def _read(self, link: socket.socket) -> None:
        with suppress(OSError, ValueError, msgspec.MsgspecError), link.makefile("rb") as lines:
            for line in lines:
                message = read_reply(line)
                with self._news:
                    if message.method == "changed":
                        self._version = message.params["version"]
                    elif message.method == "hello":
                        self.engine_version = message.params["version"]
                    elif message.id in self._given_up:
                        self._given_up.discard(message.id)
                    elif isinstance(message.id, int):
                        self.replies[message.id] = message
                    self._news.notify_all()
        with self._news:
            if link is self._socket:
                self._closed = True
            self._news.notify_all()

    def ask(self, call: Call, arguments: tuple[Any, ...], named: dict[str, Any]) -> Any:
        """Send it, its arguments by their names."""
        if arguments:
            named = dict(zip(types_of(call.name)[0], arguments, strict=False)) | named
        return self.call(call.name, named)

    def call(self, method: str, arguments: dict[str, Any], again: bool = True) -> Any:
        """Make a call and wait for its answer. Raises what the engine raised, or :class:`EngineAway`.

        When the engine goes away meanwhile, what only reads is asked once more. One that is stopped, or that says nothing for
        very long, is not waited for.
        """
        with self._lock:
            if self._closed:
                self._closed = False
                self._connect()
            self.asked += 1
            number = self.asked
            try:
                self._socket.sendall(write_request(number, method, arguments))
            except OSError:
                self._closed = True
        reply = self._reply(number, method)
        if reply is not None:
            return result_of(method, reply)
        if CALLS[method].changes:
            raise EngineAway(f"the engine of {self.folder} went away during {method}; see lazy-quarry jobs")
        if not again:
            log = self.folder / "engine.log"
            raise EngineAway(f"the engine of {self.folder} went away twice during {method}; {log} may say why")
        return self.call(method, arguments, again=False)

    def _reply(self, number: int, method: str) -> Reply | None:
        """The answer to a call; None when the engine goes away. Raises :class:`EngineAway` when it isn't worth waiting."""
        until, seen_stopped = time.monotonic() + LONGEST_S, 0
        with self._news:
            while not self._news.wait_for(lambda: number in self.replies or self._closed, LOOK_S):
                pid = _peer(self._socket)
                seen_stopped = seen_stopped + 1 if is_stopped(pid) else 0
                stopped, late = seen_stopped > 1, time.monotonic() > until  # once may be a moment in a debugger
                if stopped or late:
                    self._given_up.add(number)
                    why = "is stopped" if stopped else f"has not answered for {LONGEST_S / 60:.0f} minutes"
                    then = f"kill -CONT {pid} lets it go on" if stopped else f"kill {pid} ends it, and jobs go on"
                    known = ", and whether it was done shows later in lazy-quarry jobs" if CALLS[method].changes else ""
                    raise EngineAway(
                        f"the engine of {self.folder}, process {pid}, {why}: {method} has no answer{known}; {then}"
                    )
            return self.replies.pop(number, None)

    def leave(self) -> None:
        """Stop the engine and wait for its end; its jobs go on."""
        with suppress(OSError):
            self._socket.sendall(b'{"jsonrpc":"2.0","id":0,"method":"leave"}\n')
        with self._news:
            self._news.wait_for(lambda: self._closed, START_S)
        FolderLock(self.folder, "", wait=True).release()

    def close(self) -> None:
        """Disconnect. The engine and its jobs go on."""
        with suppress(OSError):
            self._socket.shutdown(socket.SHUT_RDWR)
        self._socket.close()

    def changes(self, since: int, timeout_s: float) -> int:
        """The newest version of the site, as soon as it is greater than ``since``."""
        with self._news:
            self._news.wait_for(lambda: self._version > since or self._closed, timeout_s)
            return self._version

    def other_version(self) -> str:
        """The version of the engine, if another version of the program started it; else empty."""
        with self._news:
            self._news.wait_for(lambda: self.engine_version != "", 2.0)
        return "" if self.engine_version == __version__ else self.engine_version


def _start_engine(folder: Path) -> socket.socket:
    """Start an engine and connect to it. Raises :class:`EngineAway` saying why that can't be."""
    log = folder / "engine.log"
    engine, begin = _started(folder, log)
    until, silent_until = time.monotonic() + START_S, 0.0
    while time.monotonic() < until:
        if link := dial(folder, SOCKET):
            return link
        if engine.poll() is not None:
            said = ours.read(log)[begin:].decode(errors="replace").strip().split("\n")[-1]
            if said.startswith("refused: "):
                raise StateFolderError(said.removeprefix("refused: "))
            if engine.returncode != 0:
                raise EngineAway(f"the engine does not start: {said or 'it said nothing'}; all of it is in {log}")
            # Another one has the folder. It listens again when its socket was removed, unless it is stopped or hangs.
            silent_until = silent_until or time.monotonic() + SILENT_S
            if time.monotonic() > silent_until:
                raise EngineAway(_silent(folder))
        time.sleep(0.01)
    raise EngineAway(f"the engine does not answer after {START_S:.0f} seconds; see {log}")


def _started(folder: Path, log: Path) -> tuple[subprocess.Popen[bytes], int]:
    """A new engine, and where in the log begins what it says."""
    import subprocess

    try:
        out = opened_log(log)
    except OSError as fault:
        raise StateFolderError(f"{log} cannot be written ({words_of(fault)}); choose another with --state") from None
    try:
        begin = os.fstat(out).st_size
        engine = subprocess.Popen(
            [sys.executable, "-m", "lazy_quarry.link.server", str(folder)],
            start_new_session=True,
            stdin=subprocess.DEVNULL,
            stdout=out,
            stderr=out,
            cwd="/",
        )
    except OSError as fault:
        raise EngineAway(f"the engine cannot be started: {words_of(fault)}") from None
    finally:
        os.close(out)
    return engine, begin


def _peer(link: socket.socket) -> int:
    """The process at the other end; 0 where that isn't known."""
    with suppress(OSError):
        return peer_of(link).pid
    return 0


def is_stopped(pid: int) -> bool:
    """True when a process is stopped by a signal or a debugger (the state T or t of proc(5))."""
    try:
        return system.read_text(f"/proc/{pid}/stat").rpartition(")")[2].split()[0] in ("T", "t")
    except (OSError, IndexError):
        return False


def _silent(folder: Path) -> str:
    pid = holder_of(folder)
    who = f"process {pid}" if pid else "another process"
    then = f"; kill -CONT {pid} lets one go on that was stopped, kill {pid} ends it, and jobs go on" if pid else ""
    return f"an engine has {folder}, {who}, and does not listen for {SILENT_S:g} seconds{then}"
