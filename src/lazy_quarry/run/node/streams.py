"""Many streams over one pair of pipes: what SSH carries between an engine and the sockets of a host's agent.

A frame is a stream's number (4 bytes), a kind (1) and a length (4), big-endian, and so many bytes. Either side opens a stream by
naming what it wants, with numbers of its own, odd or even. Of each stream only so much may be under way as was let through, so
nobody who doesn't read what he asked for holds up the others.
"""

from __future__ import annotations

import fcntl
import os
import selectors
import socket
import struct
from collections import deque
from collections.abc import Callable
from contextlib import suppress
from itertools import islice

OPEN, DATA, MORE, CLOSE = range(4)
_HEAD = struct.Struct(">IBI")
_LARGEST = 1 << 20
"""Bytes of a frame's content; one that claims more is not of ours."""
WINDOW = 1 << 22
"""Bytes of a stream that may be under way."""
_SET_PIPE_SIZE, _PIPE = 1031, 1 << 20
"""F_SETPIPE_SZ (fcntl(2)): what a pipe holds; of the usual 64 KiB at a time, most of the time goes with taking turns."""
_AT_ONCE = 64
"""Pieces that are given to the pipe in one call."""
_MOST_WAITING = 1 << 22
"""Bytes that wait for the pipe, above which no stream is read."""


class Garbled(OSError):
    """Something came that isn't frames of ours."""


class _Stream:
    """A stream at this end. No dataclass: what makes these takes longer to load than all of this program's relay."""

    def __init__(self, here: socket.socket) -> None:
        self.socket = here
        self.may_send = WINDOW
        """Bytes that the other side has room for."""
        self.waiting = bytearray()
        """Bytes that came, and that the socket hasn't taken yet."""
        self.taken = 0
        """Bytes that the socket took, and the other side wasn't told of yet."""
        self.ended = False
        """The other side has closed it: what waits is still given."""


class Streams:
    """One end of the pipes. :meth:`turn` does what can be done at this moment.

    ``opened`` gives the socket for a stream that the other side wants, by the name that it says, or None where there is none.
    ``odd``: this side's own streams have odd numbers. ``heard`` is what was read of the pipe before.
    """

    def __init__(
        self,
        from_there: int,
        to_there: int,
        opened: Callable[[str], socket.socket | None],
        *,
        odd: bool,
        heard: bytes = b"",
    ) -> None:
        self._from, self._to, self._opened = from_there, to_there, opened
        self._next = 1 if odd else 2
        self._streams: dict[int, _Stream] = {}
        self._heard = heard
        """What came last, and isn't understood yet: the beginning of a frame, unless it is of data."""
        self._within = (0, 0)
        """The stream of the frame of data that is coming, and how much of that is to come."""
        self._said: deque[bytes | memoryview] = deque()
        self._unsaid = 0
        """Bytes of what waits for the pipe."""
        self.selector = selectors.DefaultSelector()
        """For more to wait on; keys without data are left to whoever registered them."""
        for each in (from_there, to_there):
            os.set_blocking(each, False)
            with suppress(OSError):  # it is no pipe, or more than this user may have
                fcntl.fcntl(each, _SET_PIPE_SIZE, _PIPE)
        self.selector.register(from_there, selectors.EVENT_READ, "from")
        self._writes = False

    def open(self, name: str, here: socket.socket) -> None:
        """Have what is said on a socket go to what the other side calls by a name, and back."""
        number, self._next = self._next, self._next + 2
        self._say(number, OPEN, name.encode())
        self._attach(number, here)

    def _attach(self, number: int, here: socket.socket) -> None:
        here.setblocking(False)
        self._streams[number] = _Stream(here)
        self.selector.register(here, selectors.EVENT_READ, number)

    def turn(self, wait_s: float | None) -> list[selectors.SelectorKey]:
        """Wait, at most so long, and pass on what there is; returns the keys of others that are ready.

        Raises :class:`EOFError` when the other side has ended, :class:`Garbled`, and :class:`OSError`.
        """
        others = []
        self._understand()
        for number in self._streams:
            self._watch(number)
        self._watch_pipe()
        for key, ready in self.selector.select(wait_s):
            if key.data == "from":
                self._hear()
            elif key.data == "to":
                self._write()
            elif isinstance(key.data, int):
                if ready & selectors.EVENT_WRITE:
                    self._give(key.data)
                if ready & selectors.EVENT_READ:
                    self._take(key.data)
            else:
                others.append(key)
        return others

    def close(self) -> None:
        """Close all streams; the pipes are left to whoever opened them."""
        for number in list(self._streams):
            self._drop(number)
        self.selector.close()

    # -- the pipes ---------------------------------------------------------------------------------

    def _say(self, number: int, kind: int, content: bytes = b"") -> None:
        self._said.append(_HEAD.pack(number, kind, len(content)))
        if content:
            self._said.append(content)
        self._unsaid += _HEAD.size + len(content)

    def _watch_pipe(self) -> None:
        if bool(self._said) != self._writes:
            self._writes = bool(self._said)
            if self._writes:
                self.selector.register(self._to, selectors.EVENT_WRITE, "to")
            else:
                self.selector.unregister(self._to)

    def _write(self) -> None:
        try:
            written = os.writev(self._to, list(islice(self._said, _AT_ONCE)))
        except BlockingIOError:
            return
        self._unsaid -= written
        while written:
            first = self._said.popleft()
            if len(first) > written:
                self._said.appendleft(memoryview(first)[written:])  # nothing of it is copied
            written -= min(written, len(first))

    def _hear(self) -> None:
        try:
            some = os.read(self._from, _PIPE)
        except BlockingIOError:
            return
        if not some:
            raise EOFError("the other side has ended")
        self._heard = self._heard + some if self._heard else some
        self._understand()

    def _understand(self) -> None:
        """Do what the frames say that are here. Data is passed on as it comes."""
        heard, at = self._heard, 0
        with memoryview(heard) as whole:
            while at < len(heard):
                number, to_come = self._within
                if to_come:
                    with whole[at : at + to_come] as some:
                        at += len(some)
                        self._within = number, to_come - len(some)
                        self._came(number, some)
                    continue
                if len(heard) - at < _HEAD.size:
                    break
                number, kind, length = _HEAD.unpack_from(heard, at)
                if kind > CLOSE or length > _LARGEST:
                    raise Garbled("what comes from there can't be understood")
                if kind == DATA:
                    at += _HEAD.size
                    self._within = number, length
                    continue
                end = at + _HEAD.size + length
                if len(heard) < end:
                    break
                self._did(number, kind, heard[at + _HEAD.size : end])
                at = end
        self._heard = heard[at:]

    def _came(self, number: int, some: memoryview) -> None:
        """Give data to its socket, and keep what that doesn't take now."""
        stream = self._streams.get(number)
        if stream is None:
            return  # it was closed here a moment ago
        if len(stream.waiting) + len(some) > WINDOW:
            raise Garbled("more came than was let through")
        given = 0
        if not stream.waiting:
            with suppress(OSError):  # what is wrong with it, :meth:`_give` meets too
                given = stream.socket.send(some)
            stream.taken += given
        with some[given:] as rest:
            stream.waiting += rest
        self._give(number)

    def _did(self, number: int, kind: int, content: bytes) -> None:
        if kind == OPEN:
            if number in self._streams or number % 2 == self._next % 2:
                raise Garbled("a stream is opened twice")
            here = self._opened(content.decode(errors="replace"))
            if here is None:
                self._say(number, CLOSE)
            else:
                self._attach(number, here)
            return
        stream = self._streams.get(number)
        if stream is None:
            return  # it was closed here a moment ago
        if kind == MORE:
            stream.may_send += int.from_bytes(content, "big")
        else:
            stream.ended = True
            self._give(number)

    # -- the streams -------------------------------------------------------------------------------

    def _watch(self, number: int) -> None:
        """Wait for what can be done: to read when both the other side and the pipe have room, to write when something waits."""
        stream = self._streams[number]
        reads = stream.may_send > 0 and self._unsaid < _MOST_WAITING and not stream.ended
        events = selectors.EVENT_READ * reads | selectors.EVENT_WRITE * bool(stream.waiting)
        known = self.selector.get_map().get(stream.socket)
        if events and known is None:
            self.selector.register(stream.socket, events, number)
        elif known is not None and not events:
            self.selector.unregister(stream.socket)
        elif known is not None and known.events != events:
            self.selector.modify(stream.socket, events, number)

    def _take(self, number: int) -> None:
        """Pass on what is said on a socket here."""
        stream = self._streams.get(number)
        if stream is None:
            return
        try:
            some = stream.socket.recv(min(_LARGEST, stream.may_send))
        except BlockingIOError:
            return
        except OSError:
            some = b""
        if not some:
            self._say(number, CLOSE)
            self._drop(number)
            return
        stream.may_send -= len(some)
        self._say(number, DATA, some)

    def _give(self, number: int) -> None:
        """Give a socket here what came for it, as much as it takes."""
        stream = self._streams.get(number)
        if stream is None:
            return
        try:
            while stream.waiting:
                with memoryview(stream.waiting) as whole, whole[:_LARGEST] as some:
                    given = stream.socket.send(some)
                del stream.waiting[:given]
                stream.taken += given
        except BlockingIOError:
            pass
        except OSError:
            self._say(number, CLOSE)
            self._drop(number)
            return
        if stream.taken >= WINDOW // 4:
            self._say(number, MORE, stream.taken.to_bytes(4, "big"))
            stream.taken = 0
        if stream.ended and not stream.waiting:
            self._drop(number)

    def _drop(self, number: int) -> None:
        stream = self._streams.pop(number)
        with suppress(KeyError):
            self.selector.unregister(stream.socket)
        stream.socket.close()
