"""The engine's link to the agent of a node, and the way to that of this machine, which is started when there is none."""

import socket
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Protocol

from lazy_quarry.errors import StateFolderError
from lazy_quarry.files.kinds import words_of
from lazy_quarry.run.node.agent_process import end_agent, holder_named, start_agent
from lazy_quarry.run.node.locks import cores_holder
from lazy_quarry.run.node.messages import (
    Ask,
    Beats,
    FromEngine,
    Has,
    Hello,
    Notes,
    Over,
    Refused,
    Waits,
    Welcome,
    line_of,
    message_of,
)
from lazy_quarry.run.node.sockets import AGENT_SOCKET, FORMER_SOCKET, dial, peer_of
from lazy_quarry.run.node.versions import NEWEST, OLDEST

CONNECT_S = 2.0
"""A new agent is waited for so long; after that it is looked for again now and then, as long as its process lives."""
GLANCE_S = 0.1
"""An agent that was started before and does not listen yet is waited for so long."""
SEND_S = 2.0
"""An agent that reads nothing for so long is left, and connected to again."""
AGAIN_S = 1.0
"""After a failure it is tried again this much later."""


def _in_use(spool: str) -> str:
    return f"this machine's cores are in use by the jobs of {Path(spool).parent}; jobs here start when those have ended"


def taken_words(spool: Path) -> str:
    """Name the other state folder whose jobs have this machine's cores, in a sentence; empty for none."""
    holder = cores_holder()
    return "" if holder in (None, str(spool)) else _in_use(str(holder))


class Epochs(Protocol):
    """An engine's journal: its identity, and the number of this start of an engine in it."""

    identity: str
    epoch: int

    def lift_epoch(self, above: int) -> None:
        """Take a number above one that a node has seen: the journal was put back to an earlier state."""


class WayToAgent(Protocol):
    """The way to connect to the agent of a node."""

    refused: str
    """Why there was no connection when it was tried last, as far as a person can do something about it; else empty."""

    def connection(self) -> socket.socket | None:
        """A new connection; where there is no agent one is started, if that is for us to do. None: there is none now."""
        ...

    def reap(self) -> None:
        """Notice an agent that this process started and that has ended."""
        ...


class AgentHere:
    """The way to the agent of this machine: its socket in the state folder's spool; it is started when there is none."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.spool = folder, folder / "spool"
        self.refused = ""
        self._agent: subprocess.Popen[bytes] | None = None

    def reap(self) -> None:
        """Notice an agent that this process started and that has ended."""
        if self._agent is not None and self._agent.poll() is not None:
            self._agent = None

    def connection(self) -> socket.socket | None:
        """Connect to the agent, or start one."""
        self.refused = ""
        return dial(self.spool, AGENT_SOCKET) or self._start()

    def _start(self) -> socket.socket | None:
        self.reap()
        until, leaving = time.monotonic() + GLANCE_S, self._agent is not None
        if self._agent is None:
            until = time.monotonic() + CONNECT_S
            try:
                self._end_former()
                words = [sys.executable, "-m", "lazy_quarry.run.node.agent", str(self.spool)]
                self._agent = start_agent(words, self.spool)
            except OSError as fault:
                where = f"{fault.filename}: " if fault.filename else ""
                self.refused = f"the agent cannot be started: {where}{words_of(fault)}"
                return None
        while (link := dial(self.spool, AGENT_SOCKET)) is None:
            if self._agent.poll() is not None:
                by = holder_named(self.spool)
                if leaving and not by:  # it had nothing to do, and was on its way out
                    return self._start()
                self.refused = _in_use(by) if by else f"the agent does not start; see {self.folder / 'agent.log'}"
                self._agent = None
                return None
            if time.monotonic() > until:
                return None  # a busy machine starts it late; what should run is told to it then
            time.sleep(0.01)
        return link

    def _end_former(self) -> None:
        """End an agent of an earlier version, which knows no greeting. Its jobs go on, and the next agent finds them."""
        link = dial(self.spool, FORMER_SOCKET)
        if link is not None:
            end_agent(peer_of(link).pid, CONNECT_S)
            link.close()


class AgentLink:
    """Messages to and from an agent. :attr:`greet` is called when one has taken up this engine, to say all that it should know.

    ``closing`` is told of the link's file descriptor just before it is closed: another may have that number a moment later.
    """

    def __init__(
        self, way: WayToAgent, site: str, epochs: Epochs, closing: Callable[[int], None], send_s: float = SEND_S
    ) -> None:
        self._way, self._closing, self._send_s = way, closing, send_s
        self.site, self.epochs = site, epochs
        self.superseded = False
        """Another engine of this site has taken this one's place: it must say and write nothing more."""
        self._welcome = self._ever_welcome = False
        self.refused = ""
        """Why there is no agent: another state folder's jobs have this machine's cores, or it does not start."""
        self.greet: Callable[[], None] = lambda: None
        self.link: socket.socket | None = None
        self._heard = b""
        self._tried = 0.0

    def fileno(self) -> int | None:
        """The link, to wait on; None while there is none."""
        return self.link.fileno() if self.link else None

    @property
    def connected(self) -> bool:
        """True while there is a link."""
        return self.link is not None

    @property
    def welcome(self) -> bool:
        """True while an agent listens that has taken up this engine."""
        return self.link is not None and self._welcome

    def reap(self) -> None:
        """Notice an agent that this process started and that has ended."""
        self._way.reap()

    def connect_again(self) -> None:
        """Connect, unless that was tried a moment ago."""
        if self.link is None and time.monotonic() - self._tried > AGAIN_S:
            self.connect()

    def connect(self) -> None:
        """Connect to the agent, or start one. When that fails, :attr:`refused` says why."""
        self._tried = time.monotonic()
        link = self._way.connection()
        self.refused = self._way.refused
        if link is not None:
            link.setblocking(False)
            self.link, self._heard = link, b""
            self._introduce()

    def _introduce(self) -> None:
        self._welcome = False
        self._send(Hello(OLDEST, NEWEST, self.epochs.identity, self.site, self.epochs.epoch))

    def drop(self) -> None:
        """Close the link; the agent leaves when it has nothing to do."""
        if self.link is not None:
            self._closing(self.link.fileno())
            self.link.close()
        self.link = None

    def send(self, message: FromEngine) -> None:
        """Send a message, if there is an agent that listens; what was not sent is said again by ``greet``."""
        if self._welcome:
            self._send(message)

    def _send(self, message: FromEngine) -> None:
        if self.link is None:
            return
        try:
            self.link.settimeout(self._send_s)
            self.link.sendall(line_of(message))
            self.link.setblocking(False)
        except OSError:
            self.drop()

    def heard(self) -> Iterator[Ask | Over | Waits | Notes | Has | Beats]:
        """Messages that have come since the last time, but for the greeting's."""
        while self.link is not None:
            try:
                heard = self.link.recv(1 << 20)
            except BlockingIOError:
                break
            except OSError:
                heard = b""
            if not heard:
                self.drop()
                break
            self._heard += heard
        *lines, self._heard = self._heard.split(b"\n")
        for line in lines:
            match message_of(line):
                case Welcome(epoch=self.epochs.epoch):
                    self._welcome = self._ever_welcome = True
                    self.greet()
                case Refused() as refusal:
                    self._was_refused(refusal)
                case (Ask() | Over() | Waits() | Notes() | Has() | Beats()) as message:
                    yield message

    def _was_refused(self, refusal: Refused) -> None:
        if not (refusal.oldest <= NEWEST and refusal.newest >= OLDEST):
            self.refused = "the agent of this machine is of a newer version; start the engine anew with that program"
        elif self._ever_welcome:
            self.superseded = True
            self.refused = "another engine of this site has taken this one's place"
        elif refusal.epoch >= self.epochs.epoch:
            try:
                self.epochs.lift_epoch(refusal.epoch)
            except StateFolderError:
                self.drop()  # and it is tried again with the next link
                raise
            self._introduce()
