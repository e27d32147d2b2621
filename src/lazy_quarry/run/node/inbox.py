"""The socket at which a supervisor is told to stop or to go on; what comes wakes it as a signal of its own would.

It lies beside the notes of claims, in a folder that a job doesn't know, or where that is gone with the attempt. It is called by the
supervisor's number: so two that want the same attempt have each their own.
"""

from __future__ import annotations

import fcntl
import os
import socket
from contextlib import suppress
from pathlib import Path

from lazy_quarry.run.node.messages import Message, line_of, message_of
from lazy_quarry.run.node.registry import noted_at
from lazy_quarry.run.node.sockets import dial, listen

LONGEST_LINE, MOST_LINKS = 64 * 1024, 16


def _places(folder: Path, supervisor: int) -> tuple[tuple[Path, str], ...]:
    """Where it may lie: a folder and a name in it."""
    base, name = os.path.split(noted_at(folder))
    return (Path(base), f"{name}.{supervisor}.sock"), (folder, f"inbox.{supervisor}.sock")


def _listening(folder: Path) -> socket.socket:
    first, second = _places(folder, os.getpid())
    try:
        return listen(*first)
    except FileNotFoundError:
        return listen(*second)


def remove_inbox(folder: Path, supervisor: int) -> None:
    """Remove what a supervisor left that was killed."""
    for base, name in _places(folder, supervisor):
        with suppress(OSError):
            os.unlink(base / name)


def has_inbox(folder: Path, supervisor: int) -> bool:
    """True when a supervisor can be sent messages: those of an earlier version have no inbox."""
    return any(os.path.lexists(base / name) for base, name in _places(folder, supervisor))


class Inbox:
    """A supervisor's side. ``SIGIO`` comes with each message and must be blocked; messages stay until they are taken."""

    def __init__(self, folder: Path) -> None:
        """Listen. Raises :class:`OSError`."""
        self.folder = folder
        self._listener = _listening(folder)
        self._links: dict[socket.socket, bytes] = {}
        _wakes(self._listener)

    def close(self) -> None:
        """Listen no more."""
        remove_inbox(self.folder, os.getpid())
        for each in (self._listener, *self._links):
            each.close()

    def messages(self) -> list[Message]:
        """Messages that have come since the last time."""
        with suppress(OSError):  # nobody more connects, or there is no descriptor for who does: it stays connected
            while len(self._links) < MOST_LINKS:
                link, _ = self._listener.accept()
                self._links[link] = b""
                _wakes(link)
        return [message for link in list(self._links) for message in self._read(link)]

    def _read(self, link: socket.socket) -> list[Message]:
        found = list[Message]()
        try:
            while heard := link.recv(1 << 16):
                *lines, rest = (self._links[link] + heard).split(b"\n")
                found += [message for line in lines if (message := message_of(line)) is not None]
                self._links[link] = rest
                if len(rest) > LONGEST_LINE:
                    break
        except BlockingIOError:
            return found
        except OSError:
            pass
        link.close()
        del self._links[link]
        return found


def _wakes(link: socket.socket) -> None:
    """Have SIGIO sent to this process for what comes over it."""
    link.setblocking(False)
    fcntl.fcntl(link, fcntl.F_SETOWN, os.getpid())
    fcntl.fcntl(link, fcntl.F_SETFL, fcntl.fcntl(link, fcntl.F_GETFL) | os.O_ASYNC)


class Told:
    """An agent's side: the supervisors to whom something was said, each over a link that stays."""

    def __init__(self) -> None:
        self._links: dict[str, tuple[int, socket.socket]] = {}

    def say(self, folder: Path, supervisor: int, message: Message) -> bool:
        """Say something to the supervisor that has claimed an attempt; False where it can't be reached at this moment."""
        pid, link = self._links.get(folder.name, (0, None))
        if link is None or pid != supervisor:
            self.forget(folder.name)
            links = (dial(*place, wait_s=0.0) for place in _places(folder, supervisor))
            link = next(filter(None, links), None)
            if link is None:
                return False
            link.setblocking(False)
            self._links[folder.name] = supervisor, link
        line = line_of(message)
        try:
            sent = link.send(line)
        except BlockingIOError:
            return False  # it is stopped, and has much to read
        except OSError:
            sent = 0
        if sent < len(line):
            self.forget(folder.name)  # it is said again over another link
        return sent == len(line)

    def forget(self, attempt: str) -> None:
        """Its supervisor has ended, or the link to it."""
        if attempt in self._links:
            self._links.pop(attempt)[1].close()

    def close(self) -> None:
        """Close all, as in a process that was forked."""
        for _, link in self._links.values():
            link.close()
