"""Unix sockets in folders whose paths may be longer than a socket's address: reached through /proc/self/fd."""

from __future__ import annotations

import os
import socket
import struct
import time
from collections import namedtuple
from collections.abc import Iterator
from contextlib import contextmanager, suppress

from lazy_quarry.run.node.pause import pause

TYPE_CHECKING = False  # typing takes longer to load than a relay has
if TYPE_CHECKING:
    from pathlib import Path

AGENT_SOCKET, FORMER_SOCKET = "node.sock", "agent.sock"
"""Where an agent listens in its spool, and where those did that know no greeting."""
FILES_SOCKET = "files.sock"
"""Where an agent listens for those who want to read and write its node's files."""
_CREDENTIALS = struct.Struct("3i")
DIAL_S, TURN_S = 2.0, 0.01
_HOLDS = 1 << 20


@contextmanager
def _address(folder: Path | str, name: str) -> Iterator[str]:
    directory = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        # An address holds 107 bytes and a state folder's path may be longer.
        yield f"/proc/self/fd/{directory}/{name}"
    finally:
        os.close(directory)


def listen(folder: Path, name: str) -> socket.socket:
    """A listening socket that only its user may open; one that is left from before is replaced."""
    with _address(folder, name) as address:
        with suppress(FileNotFoundError):
            os.unlink(address)
        listener = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        # The mode of a socket comes from the umask at bind. A chmod afterwards would leave a moment in which others can
        # connect.
        old = os.umask(0o177)
        try:
            listener.bind(address)
        finally:
            os.umask(old)
        listener.listen(64)
        return listener


class Peer(namedtuple("Peer", ("pid", "uid", "gid"))):
    """The process at the other end of a Unix socket, as it was when that was made; of a listener's, whoever listens."""

    pid: int
    uid: int
    gid: int
    __slots__ = ()


def peer_of(link: socket.socket) -> Peer:
    """Who is at the other end (SO_PEERCRED, socket(7)). Raises :class:`OSError`."""
    return Peer(*_CREDENTIALS.unpack(link.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, _CREDENTIALS.size)))


def accepted(listener: socket.socket) -> socket.socket | None:
    """A new connection of this process's own user; None for anybody else's, also where a file system ignores modes.

    Raises :class:`OSError`.
    """
    link, _ = listener.accept()
    if peer_of(link).uid == os.getuid():
        _make_wide(link)
        return link
    link.close()
    return None


def mark_of(folder: Path, name: str) -> tuple[int, int] | None:
    """Device and number of a socket's file, which tell it from one that is put in its place; None when there is none."""
    try:
        found = os.lstat(folder / name)
    except OSError:
        return None
    return found.st_dev, found.st_ino


def is_at(mark: tuple[int, int], folder: Path, name: str) -> bool:
    """True while the socket of a mark stands there."""
    return mark_of(folder, name) == mark


def dial(folder: Path | str, name: str, wait_s: float = DIAL_S) -> socket.socket | None:
    """A connection to whoever listens there, or None.

    Where many want one at once it waits so long for its turn; one that is stopped, and has many waiting already, takes nobody in.
    """
    link, until = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM), time.monotonic() + wait_s
    link.setblocking(False)
    try:
        with _address(folder, name) as address:
            while not _connected(link, address):
                if time.monotonic() >= until:
                    raise TimeoutError
                pause(TURN_S)
        link.setblocking(True)
        _make_wide(link)
    except OSError:
        link.close()
        return None
    return link


def _make_wide(link: socket.socket) -> None:
    """Let it hold more than the usual 200 KiB: of less at a time, much of the time goes with taking turns."""
    with suppress(OSError):
        link.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, _HOLDS)


def _connected(link: socket.socket, address: str) -> bool:
    """True when it is connected now; False where as many wait as may. Raises :class:`OSError` where nobody listens."""
    try:
        link.connect(address)
    except BlockingIOError:
        return False
    return True
