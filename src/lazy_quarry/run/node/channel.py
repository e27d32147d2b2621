"""Frames over a stream: a head in JSON (RFC 8259) and as many bytes as it has, so that files need no other form to be sent.

Each frame is two numbers of four bytes, big-endian (the lengths of head and body), the head, and the body. JSON with the bytes in
base64 reached 25 MB/s between two processes, where this reaches 300.
"""

from __future__ import annotations

import json
import socket
import struct
import threading
from contextlib import suppress
from typing import Any

_LENGTHS = struct.Struct(">II")
MOST_HEAD, MOST_BODY = 64 << 20, 64 << 20
"""A frame beyond that is no frame of ours: the stream is given up."""


_MOST_ASKED = 1 << 21
"""Bytes that are asked of a stream in one call: room is made for all of them."""


class Broken(OSError):
    """The stream has ended, or what came is no frame."""


class Channel:
    """Frames over one stream. Several threads may send; one receives."""

    def __init__(self, stream: socket.socket) -> None:
        self.stream = stream
        self._sending = threading.Lock()

    def send(self, head: Any, body: bytes = b"") -> None:
        """Send a frame. Raises :class:`OSError`, also for one that is too long, of which nothing was sent then."""
        raw = json.dumps(head).encode()
        if len(raw) > MOST_HEAD or len(body) > MOST_BODY:
            raise ValueError("a frame of more than 64 MiB")
        with self._sending:
            self.stream.sendall(_LENGTHS.pack(len(raw), len(body)) + raw)
            if body:
                self.stream.sendall(body)

    def receive(self) -> tuple[Any, bytes]:
        """The next frame. Raises :class:`Broken` at the end of the stream and for anything that is no frame."""
        head, body = _LENGTHS.unpack(self._exactly(_LENGTHS.size))
        if head > MOST_HEAD or body > MOST_BODY:
            raise Broken("what came is no frame")
        try:
            told = json.loads(self._exactly(head))
        except (ValueError, RecursionError):
            raise Broken("what came is no frame") from None
        return told, self._exactly(body)

    def _exactly(self, length: int) -> bytes:
        """Receive exactly so many bytes; those that come in one piece aren't copied."""
        pieces = list[bytes]()
        while length:
            some = self.stream.recv(min(length, _MOST_ASKED), socket.MSG_WAITALL)
            if not some:
                raise Broken("the stream has ended")
            pieces.append(some)
            length -= len(some)
        return pieces[0] if len(pieces) == 1 else b"".join(pieces)

    def close(self) -> None:
        """End the stream for both sides, also while another thread waits for a frame."""
        with suppress(OSError):
            self.stream.shutdown(socket.SHUT_RDWR)
        self.stream.close()


def packed(value: Any) -> tuple[Any, bytes]:
    """A value as the head and the body of a frame: bytes in it stand in the body, in their order."""
    pieces: list[bytes] = []
    return _packed(value, pieces), b"".join(pieces)


def _packed(value: Any, pieces: list[bytes]) -> Any:
    if isinstance(value, bytes):
        pieces.append(value)
        return {"bytes": len(value)}
    if isinstance(value, dict):
        return {"entries": [[key, _packed(each, pieces)] for key, each in value.items()]}
    if isinstance(value, (list, tuple)):
        return [_packed(each, pieces) for each in value]
    return value


def unpacked(head: Any, body: bytes) -> Any:
    """The opposite of :func:`packed`; tuples come back as lists. Raises :class:`Broken` for anything else."""
    rest = _Rest(body)
    value = _unpacked(head, rest)
    if rest.at != len(body):
        raise Broken("what came has bytes that nobody named")
    return value


class _Rest:
    """The body of a frame, and how much of it was given out: to cut each piece off what is left would copy all of that."""

    def __init__(self, body: bytes) -> None:
        self.body, self.at = body, 0


def _unpacked(head: Any, rest: _Rest) -> Any:
    if isinstance(head, list):
        return [_unpacked(each, rest) for each in head]
    if not isinstance(head, dict):
        return head
    if isinstance(entries := head.get("entries"), list):
        if not all(isinstance(one, list) and len(one) == 2 and isinstance(one[0], str) for one in entries):
            raise Broken("what came is no value")
        return {key: _unpacked(each, rest) for key, each in entries}
    length = head.get("bytes")
    if type(length) is not int or not 0 <= length <= len(rest.body) - rest.at:
        raise Broken("what came is no value")
    begin, rest.at = rest.at, rest.at + length
    return rest.body[begin : rest.at]
