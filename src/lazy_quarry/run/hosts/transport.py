"""The way to a host: a program whose streams are those of a command there."""

from __future__ import annotations

import subprocess
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

CONNECT_S = 10
"""Seconds for the first answer of a host; a busy one takes some."""


class Transport(Protocol):
    """How commands are run on a host; tests use a pipe or a namespace."""

    @property
    def name(self) -> str:
        """The host, as people call it."""
        ...

    def open(self, command: str) -> subprocess.Popen[bytes]:
        """Run a command line by the login shell there, with three pipes. Raises :class:`OSError`."""
        ...


@dataclass(frozen=True, slots=True)
class Ssh:
    """The OpenSSH client (ssh(1)), with the person's own keys, agent, jump hosts, certificates and ``known_hosts``.

    It asks nobody anything. A connection without an answer for 30 seconds ends.
    """

    name: str
    options: Sequence[str] = ()

    def words(self, command: str) -> list[str]:
        """The words of the program that runs a command line there."""
        settings = ("BatchMode=yes", f"ConnectTimeout={CONNECT_S}", "ServerAliveInterval=10", "ServerAliveCountMax=3")
        return [
            "ssh",
            "-T",
            *(word for each in settings for word in ("-o", each)),
            *self.options,
            "--",
            self.name,
            command,
        ]

    def open(self, command: str) -> subprocess.Popen[bytes]:
        """Run a command line there."""
        return piped(self.words(command))


def piped(words: Sequence[str]) -> subprocess.Popen[bytes]:
    """Start a program with three pipes, out of reach of the terminal's keys. Raises :class:`OSError`."""
    pipe = subprocess.PIPE
    return subprocess.Popen(words, stdin=pipe, stdout=pipe, stderr=pipe, bufsize=0, start_new_session=True)
