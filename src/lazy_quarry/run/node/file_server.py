"""Answers for an agent what engines ask of a node's files, in a process of its own: nothing that a disk does holds the agent up.

A connection begins with the engine's greeting, as over the control line. Then each frame is a request: its number, the method of
:class:`~lazy_quarry.run.node.file_service.FileService`, its arguments. Answers come in any order, each with its request's number.
"""

from __future__ import annotations

import errno
import gc
import os
import queue
import signal
import socket
import threading
import time
from pathlib import Path
from typing import Any

from lazy_quarry.run.node.channel import Broken, Channel, packed, unpacked
from lazy_quarry.run.node.epoch import Epoch
from lazy_quarry.run.node.file_service import METHODS, NAMED, FileService
from lazy_quarry.run.node.messages import NAME
from lazy_quarry.run.node.pause import pause
from lazy_quarry.run.node.process import end_with_parent

WORKERS, MOST_QUEUED = 8, 64
"""Requests that are worked on at once, and that wait; more are refused."""
ANSWER_S = 90.0
"""A request that has no answer by then gets one that says so; what still goes on for it is let go on."""


class FileServer:
    """Serves one connection until it ends."""

    def __init__(self, stream: socket.socket, spool: Path) -> None:
        self.channel, self.service, self.spool = Channel(stream), FileService(spool), spool
        self.requests: queue.Queue[tuple[int, str, list[Any]]] = queue.Queue(MOST_QUEUED)
        self._due: dict[int, float] = {}
        self._lock = threading.Lock()

    def serve(self) -> None:
        """Answer until the connection ends, or an engine of a lower epoch than this node knows is at its other end."""
        try:
            if not self._greeted():
                return
            for work in [self._work] * WORKERS + [self._keep_time]:
                threading.Thread(target=work, daemon=True).start()
            while True:
                self._take(*self.channel.receive())
        except OSError:
            return
        finally:
            self.channel.close()

    def _greeted(self) -> bool:
        hello, _ = self.channel.receive()
        known = Epoch(self.spool)
        if not isinstance(hello, dict) or type(hello.get("epoch")) is not int:
            return False
        welcome = known.allows(str(hello.get("journal")), hello["epoch"])
        self.channel.send({"welcome": welcome, "epoch": known.highest})
        return welcome

    def _take(self, head: Any, body: bytes) -> None:
        number, method, arguments = _request(head, body)
        with self._lock:
            self._due[number] = time.monotonic() + ANSWER_S
        try:
            self.requests.put_nowait((number, method, arguments))
        except queue.Full:
            self._answer(number, OSError(errno.EBUSY, "too much is asked of its disk at once"))

    def _work(self) -> None:
        while True:
            number, method, arguments = self.requests.get()
            try:
                found = getattr(self.service, method)(*arguments)
            except OSError as fault:
                found = fault
            except (TypeError, ValueError, KeyError) as fault:
                found = OSError(errno.EINVAL, f"{method} can't be asked so: {fault}")
            self._answer(number, found)

    def _keep_time(self) -> None:
        while True:
            pause(1.0)
            now = time.monotonic()
            with self._lock:
                late = [number for number, at in self._due.items() if at <= now]
            for number in late:
                self._answer(
                    number, TimeoutError(errno.ETIMEDOUT, f"its disk did not answer within {ANSWER_S:g} seconds")
                )

    def _answer(self, number: int, found: Any) -> None:
        with self._lock:
            if self._due.pop(number, None) is None:
                return  # it was answered that it is late
        try:
            if isinstance(found, OSError):
                name = found.filename if isinstance(found.filename, str) else ""
                self.channel.send({"number": number, "fault": [found.errno or 0, found.strerror or str(found), name]})
            else:
                head, body = packed(found)
                self.channel.send({"number": number, "found": head}, body)
        except OSError:
            self.channel.close()


def _request(head: Any, body: bytes) -> tuple[int, str, list[Any]]:
    """The request of a frame. Raises :class:`Broken` for anything else."""
    try:
        number, method, arguments = head["number"], head["method"], unpacked(head["arguments"], body)
    except (KeyError, TypeError):
        raise Broken("what came is no request") from None
    names = arguments[:1] if method in NAMED else arguments[0] if method == "prepare" and arguments else []
    if type(number) is not int or method not in METHODS or not isinstance(arguments, list):
        raise Broken("what came is no request")
    if not all(isinstance(name, str) and NAME.fullmatch(name) for name in names):
        raise Broken("what came names no attempt")
    return number, method, arguments


def serve_in_child(stream: socket.socket, spool: Path) -> None:
    """Serve a connection in this process, which is a fresh fork of an agent, and end. Never returns."""
    try:
        os.setsid()
        end_with_parent()
        gc.enable()
        for number in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP, signal.SIGCHLD):
            signal.signal(number, signal.SIG_DFL)
        signal.pthread_sigmask(signal.SIG_SETMASK, [])
        FileServer(stream, spool).serve()
    finally:
        os._exit(0)
