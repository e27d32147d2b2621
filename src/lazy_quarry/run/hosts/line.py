"""The line to a host: one kept connection, and sockets here that lead to those of the agent there.

Whoever wants the agent or its files connects to a socket in its folder, as on a machine of one's own. It is tried again when it
breaks, later each time, and with few others at a time.
"""

from __future__ import annotations

import os
import random
import selectors
import socket
import threading
import time
from contextlib import suppress
from pathlib import Path
from typing import Any

from lazy_quarry.run.hosts.reach import Talk, Unreached, reach
from lazy_quarry.run.hosts.transport import Transport
from lazy_quarry.run.node.process import wall_ms
from lazy_quarry.run.node.sockets import AGENT_SOCKET, FILES_SOCKET, accepted, dial, listen
from lazy_quarry.run.node.streams import Garbled, Streams

AGAIN_S, LONGEST_S = 1.0, 60.0
"""Seconds until it is tried again: at first, and at most."""
_NAMES = {AGENT_SOCKET: "agent", FILES_SOCKET: "files"}


class Line:
    """A host's line, kept by a thread of its own from :meth:`start` to :meth:`close`.

    ``folder`` is where its sockets are here; ``journal`` the identity of the journal whose attempts are there. What may be read
    while it runs is told by :attr:`connected`, :attr:`problem` and :attr:`silent_since`.
    """

    def __init__(
        self, transport: Transport, folder: Path, journal: str, python: str = "python3", spool: str = ""
    ) -> None:
        self.transport, self.folder, self.journal = transport, folder, journal
        self._python, self._spool = python, spool
        self.connected = False
        self.problem = ""
        """Why there is no connection, with what to do; empty while there is one, or it is tried for the first time."""
        self.silent_since: float | None = time.monotonic()
        """Since when (time.monotonic) there is no connection; None while there is."""
        self.ahead_ms = 0
        """Milliseconds that the clock there was ahead when it was reached; the way of the greeting is not taken off."""
        self.count = 0
        """The number of connections so far."""
        self.greeting: dict[str, Any] = {}
        """What the relay there said of itself when it was reached last: see :func:`~lazy_quarry.run.node.hosted.relay`."""
        self._ends, self._anew = threading.Event(), threading.Event()
        self._woken, self._wake = os.pipe()
        os.set_blocking(self._woken, False)
        self._thread = threading.Thread(target=self._keep, daemon=True, name=f"line to {transport.name}")

    def start(self) -> None:
        """Begin to keep it."""
        self.folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        self.folder.chmod(0o700)
        self._thread.start()

    def close(self) -> None:
        """End it, and wait until it has ended; the agent there goes on."""
        self._ends.set()
        os.write(self._wake, b"x")
        if self._thread.is_alive():
            self._thread.join()
        for end in (self._woken, self._wake):
            os.close(end)

    def again(self) -> None:
        """Try at once, where it waits to be tried again."""
        os.write(self._wake, b"x")

    def anew(self) -> None:
        """Give up the connection that there is, at whose other end nobody answers, and make another."""
        self._anew.set()
        os.write(self._wake, b"x")

    def _keep(self) -> None:
        wait_s = AGAIN_S
        while not self._ends.is_set():
            try:
                with reach(self.transport, self._python, self._spool, words=("relay", self.journal)) as host:
                    wait_s = AGAIN_S
                    self._pass(host)
            except Unreached as fault:
                self.problem = _for_site_file(str(fault).removeprefix(f"{self.transport.name}: "))
            except (OSError, EOFError) as fault:
                self.problem = f"the connection ended: {fault}"
            self._is_gone()
            self._rest(wait_s * random.uniform(0.7, 1.3))
            wait_s = min(LONGEST_S, wait_s * 2)

    def _is_gone(self) -> None:
        self.connected = False
        if self.silent_since is None:
            self.silent_since = time.monotonic()
        for name in _NAMES:
            with suppress(OSError):
                (self.folder / name).unlink()

    def _rest(self, seconds: float) -> None:
        """Wait, unless somebody wants it to be tried now."""
        with selectors.DefaultSelector() as waiting:
            waiting.register(self._woken, selectors.EVENT_READ)
            if not self._ends.is_set():
                waiting.select(seconds)
        self._calm()

    def _calm(self) -> None:
        with suppress(BlockingIOError):
            os.read(self._woken, 4096)

    def _pass(self, host: Talk) -> None:
        """Pass streams on until the connection ends. Raises :class:`OSError` and :class:`EOFError`."""
        from_there, to_there, errors, heard = host.pipes()
        streams = Streams(from_there, to_there, _nothing, odd=True, heard=heard)
        listeners: dict[int, tuple[socket.socket, str]] = {}
        try:
            for name, wanted in _NAMES.items():
                here = listen(self.folder, name)
                here.setblocking(False)
                listeners[here.fileno()] = here, wanted
                streams.selector.register(here, selectors.EVENT_READ)
            for each in (errors, self._woken):
                streams.selector.register(each, selectors.EVENT_READ)
            self.ahead_ms = int(host.greeting.get("clock_ms", 0)) - wall_ms()
            self.greeting, self.problem, self.silent_since = host.greeting, "", None
            self._anew.clear()
            self.count += 1
            self.connected = True
            while not self._ends.is_set() and not self._anew.is_set():
                for key in streams.turn(None):
                    if key.fd in listeners:
                        here, wanted = listeners[key.fd]
                        with suppress(OSError):
                            if (link := accepted(here)) is not None:
                                streams.open(wanted, link)
                    elif key.fd == self._woken:
                        self._calm()
                    elif not os.read(errors, 65536):
                        streams.selector.unregister(errors)
        except Garbled as fault:
            raise OSError(str(fault)) from fault
        finally:
            streams.close()
            for here, _ in listeners.values():
                here.close()


class AgentThere:
    """The way to the agent of a host, by its line; see :class:`~lazy_quarry.run.agent_link.WayToAgent`."""

    def __init__(self, line: Line) -> None:
        self.line, self.refused = line, ""

    def connection(self) -> socket.socket | None:
        """A new stream to the agent, which the relay there has started; None while there is no line."""
        self.refused = self.line.problem
        return dial(self.line.folder, AGENT_SOCKET, 0.0) if self.line.connected else None

    def reap(self) -> None:
        """An agent there is nobody's child here."""


def _for_site_file(words: str) -> str:
    """Word the remedy for a host of a site: there no option names its Python and our folder, but its table."""
    for key, option in (("python", "--python /path/to/python3"), ("spool", "--spool /path")):
        words = words.replace(option, f'{key} = "{option.partition(" ")[2]}" in its table of the site file')
    return words


def _nothing(name: str) -> None:
    """Nobody there opens a stream to here."""
