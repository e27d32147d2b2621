"""The way to a host: a program whose streams are those of a command there."""

from __future__ import annotations

import subprocess
from collections.abc import Sequence
from contextlib import suppress
from functools import lru_cache
from typing import NamedTuple, Protocol

from msgspec import Struct

from lazy_quarry.files import system

CONNECT_S = 10
"""Seconds for the first answer of a host; a busy one takes some."""


class Route(NamedTuple):
    """The way to a host: its address and port, empty where nobody says, the host that one goes by, if there is one, and the
    ciphers that may be used, those first that are wanted most.
    """

    address: str = ""
    port: int = 22
    jump: str = ""
    ciphers: tuple[str, ...] = ()


class Transport(Protocol):
    """A way to run commands on a host; tests use a pipe or a namespace."""

    @property
    def name(self) -> str:
        """The host, as people call it."""
        ...

    def route(self) -> Route:
        """The way there."""
        ...

    def open(self, command: str) -> subprocess.Popen[bytes]:
        """Run a command line by the login shell there, with three pipes. Raises :class:`OSError`."""
        ...


class Ssh(Struct, frozen=True):
    """The OpenSSH client (ssh(1)), with the person's own keys, agent, jump hosts, certificates and ``known_hosts``.

    It asks nobody anything. A connection without an answer for 30 seconds ends. Of the ciphers that the person's files allow those
    are taken first that this processor has instructions for: large files take a third of its time less then.
    """

    name: str
    options: Sequence[str] = ()

    def words(self, command: str) -> list[str]:
        """The words of the program that runs a command line there."""
        settings = ["BatchMode=yes", f"ConnectTimeout={CONNECT_S}", "ServerAliveInterval=10", "ServerAliveCountMax=3"]
        if (ciphers := quickest_first(self.route().ciphers, _has_aes())) != self.route().ciphers:
            settings.append(f"Ciphers={','.join(ciphers)}")
        return [
            "ssh",
            "-T",
            *(word for each in settings for word in ("-o", each)),
            *self.options,
            "--",
            self.name,
            command,
        ]

    def route(self) -> Route:
        """The way there, as the client's own files say (``ssh -G``)."""
        return _route((*self.options, "--", self.name))

    def open(self, command: str) -> subprocess.Popen[bytes]:
        """Run a command line there."""
        return piped(self.words(command))


@lru_cache(1000)
def _route(words: tuple[str, ...]) -> Route:
    try:
        told = subprocess.run(["ssh", "-G", *words], capture_output=True, text=True, timeout=CONNECT_S).stdout
    except (OSError, subprocess.SubprocessError):
        return Route()
    found = dict(line.split(" ", 1) for line in told.splitlines() if " " in line)
    jump = found.get("proxyjump", "none")
    port = found.get("port", "22")
    ciphers = tuple(found.get("ciphers", "").split(",")) if found.get("ciphers") else ()
    return Route(
        found.get("hostname", ""), int(port) if port.isdecimal() else 22, "" if jump == "none" else jump, ciphers
    )


def quickest_first(ciphers: tuple[str, ...], has_aes: bool) -> tuple[str, ...]:
    """Order ciphers: with instructions for AES its counter mode that authenticates too (RFC 5647) comes first, else all stay."""
    return tuple(sorted(ciphers, key=lambda cipher: "gcm" not in cipher)) if has_aes else ciphers


@lru_cache(1)
def _has_aes() -> bool:
    """True where this machine's processor has instructions for AES."""
    with suppress(OSError):
        return b" aes" in system.read("/proc/cpuinfo")
    return False


def piped(words: Sequence[str]) -> subprocess.Popen[bytes]:
    """Start a program with three pipes, out of reach of the terminal's keys. Raises :class:`OSError`."""
    pipe = subprocess.PIPE
    return subprocess.Popen(words, stdin=pipe, stdout=pipe, stderr=pipe, bufsize=0, start_new_session=True)
