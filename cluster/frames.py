"""A relay in a host's cable: it delays what passes, loses a share of it, or lets it pass one way only (packet(7)).

It passes whole frames, so every protocol and every other host sees the same fault, and a connection that is open stays open.
"""

from __future__ import annotations

import os
import random
import select
import socket
import time
from collections import deque
from dataclasses import dataclass

from cluster import kernel

_ALL = 0x0003
_PACKET = 263
_HEADERS = 15
"""Each frame begins with what the kernel still has to do with it: sums to fill in, large ones to cut."""
_HEADER = 10
_SENT_BY_US = 4
_ADDRESS_QUESTION = b"\x08\x06"
_LARGEST = _HEADER + 18 + 65_535


@dataclass(frozen=True)
class Passing:
    """How frames pass."""

    delay_s: float = 0.0
    """Seconds that each takes more, in each direction."""
    lost: float = 0.0
    """Share of them that gets lost, from 0 to 1."""
    one_way: bool = False
    """What the host says is lost; what is said to it arrives."""

    @property
    def plain(self) -> bool:
        """True when nothing needs to be relayed."""
        return self == Passing()


def start_relay(host_side: str, other_side: str, passing: Passing) -> int:
    """Start a process that passes frames between two interfaces until it is killed; its number."""
    pid = os.fork()
    if pid == 0:
        try:
            kernel.end_with_parent()
            kernel.keep_only()
            _relay([_opened(host_side), _opened(other_side)], passing)
        finally:
            os._exit(1)
    return pid


def _opened(interface: str) -> socket.socket:
    opened = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(_ALL))
    opened.setsockopt(_PACKET, _HEADERS, 1)
    opened.bind((interface, _ALL))
    opened.setblocking(False)
    return opened


def _relay(sides: list[socket.socket], passing: Passing) -> None:
    chance = random.Random()
    waiting: deque[tuple[float, socket.socket, bytes]] = deque()
    while True:
        left = max(0.0, waiting[0][0] - time.monotonic()) if waiting else None
        for ready in select.select(sides, [], [], left)[0]:
            try:
                frame, address = ready.recvfrom(_LARGEST)
            except OSError:
                continue  # the cable was pulled out at that end
            if address[2] == _SENT_BY_US:
                continue
            from_host = ready is sides[0]
            asks = frame[_HEADER + 12 : _HEADER + 14] == _ADDRESS_QUESTION
            if (passing.one_way and from_host and not asks) or chance.random() < passing.lost:
                continue
            waiting.append((time.monotonic() + passing.delay_s, sides[from_host], frame))
        while waiting and waiting[0][0] <= time.monotonic():
            _, side, frame = waiting.popleft()
            try:
                side.send(frame)
            except OSError:
                continue  # a network loses what it can't carry
