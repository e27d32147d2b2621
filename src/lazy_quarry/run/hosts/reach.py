"""Reaching a host: the loader is run there, the agent's archive is sent where it isn't, and the agent's greeting awaited."""

from __future__ import annotations

import json
import os
import random
import re
import selectors
import subprocess
import threading
import time
from collections import defaultdict
from collections.abc import Sequence
from contextlib import nullcontext, suppress
from dataclasses import dataclass, field
from types import TracebackType
from typing import Any

from lazy_quarry.run.hosts.archive import Archive, agent_archive
from lazy_quarry.run.hosts.loader import MARK, OLDEST_PYTHON, remote_command
from lazy_quarry.run.hosts.transport import Transport

MARK_S = 20.0
"""Seconds until the loader must have said something: login files may do much, but not wait for anybody."""
ANSWER_S = 30.0
"""Seconds without any progress, after which a host is given up."""
MOST_NOISE = 1 << 20
"""Bytes that login files may print before the loader says something."""
MOST_TOLD = 200
OPENED_AT_ONCE = 8
"""Connections that are being opened at a time; a server that sees more turns some away."""
OPENED_BY_JUMP = 4
"""Of these so many by way of the same host."""
TRIES, PAUSE_S = 3, 0.5
"""A connection that was closed during its beginning is tried so often, with pauses around so many seconds, each longer."""
_OPENING = threading.BoundedSemaphore(OPENED_AT_ONCE)
_BY_JUMP: defaultdict[str, threading.BoundedSemaphore] = defaultdict(lambda: threading.BoundedSemaphore(OPENED_BY_JUMP))


class Unreached(Exception):
    """A host can't be reached, or not be used; the text says why, and what to do."""


class TurnedAway(Unreached):
    """The connection was closed during its beginning, as a server does to which many connect at once."""


@dataclass(slots=True)
class Talk:
    """A host that was reached: requests to what runs there, one at a time. It ends with :meth:`close`."""

    name: str
    reached_ms: int
    """Milliseconds until the agent's greeting was there."""
    sent: bool
    """Its archive was sent: it wasn't there before."""
    noise: str
    """The end of what login files printed, of both streams; empty when they were silent, as they should be."""
    greeting: dict[str, Any]
    """What the archive said when it began: its version, of a relay the agent's spool there."""
    _pipe: _Pipe = field(repr=False)

    def pipes(self) -> tuple[int, int, int, bytes]:
        """The descriptors of what comes, what is said and the errors, and what has come already; for whoever passes on streams."""
        return self._pipe.taken()

    def ask(self, word: str, *of: Any) -> Any:
        """The answer to a request. Raises :class:`Unreached` when the host is gone, :class:`OSError` with what it says."""
        self._pipe.send(json.dumps({"ask": word, "of": of}).encode() + b"\n")
        answer = json.loads(self._pipe.line(ANSWER_S))
        if "fault" in answer:
            raise OSError(answer["fault"])
        return answer["answer"]

    def close(self) -> None:
        """End the connection, and what runs there for it."""
        self._pipe.close()

    def __enter__(self) -> Talk:
        """The host, until the end of the block."""
        return self

    def __exit__(
        self, kind: type[BaseException] | None, fault: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()


def reach(
    transport: Transport,
    python: str = "python3",
    spool: str = "",
    archive: Archive | None = None,
    words: Sequence[str] = ("talk",),
) -> Talk:
    """Reach a host, and have the agent's archive answer there.

    ``python`` is the program to use there, ``spool`` the folder for our files, by default this user's own on that host; ``words``
    are what the archive should do. Where many are being opened it waits for its turn. Raises :class:`Unreached`.
    """
    jump = transport.route().jump
    for tried in range(1, TRIES + 1):
        try:
            with _BY_JUMP[jump] if jump else nullcontext(), _OPENING:
                return _reach(transport, python, spool, archive or agent_archive(), words)
        except TurnedAway:
            if tried == TRIES:
                raise
        time.sleep(PAUSE_S * tried * random.uniform(0.5, 1.5))
    raise AssertionError("it was tried, and neither reached nor not")


def _reach(transport: Transport, python: str, spool: str, whole: Archive, words: Sequence[str]) -> Talk:
    begun = time.monotonic()
    try:
        process = transport.open(remote_command(whole, words, python, spool))
    except OSError as fault:
        raise Unreached(f"{transport.name}: {fault.filename or 'ssh'} can't be run here: {fault.strerror}") from fault
    pipe = _Pipe(transport.name, process, python)
    try:
        noise = pipe.until_mark()
        told = json.loads(pipe.line(ANSWER_S))
        if told["is_"] == "old":
            oldest = ".".join(map(str, OLDEST_PYTHON))
            raise Unreached(
                f"{transport.name}: its Python is {told['python']}, and {oldest} is needed; where there is a newer one, name it: "
                "--python /path/to/python3"
            )
        _whole(transport.name, told)
        if told["need"]:
            pipe.send(len(whole.content).to_bytes(8, "big") + whole.content)
        line = pipe.line(ANSWER_S)
        if line.startswith(MARK):
            _whole(transport.name, json.loads(line[len(MARK) :]))
        greeting = json.loads(line)
        if "found" in greeting:
            greeting |= json.loads(greeting.pop("found")).get("host", {})
        if "greeting" not in greeting:
            raise Unreached(f"{transport.name}: something else answers in our program's place: {_shown(line)}")
        if greeting.get("refused"):
            raise Unreached(f"{transport.name}: {greeting['refused']}")
    except (ValueError, KeyError, TypeError) as fault:
        pipe.close()
        raise Unreached(
            f"{transport.name}: what it says can't be understood ({fault}); a login file may print into it"
        ) from fault
    except BaseException:
        pipe.close()
        raise
    return Talk(transport.name, round((time.monotonic() - begun) * 1000), bool(told["need"]), noise, greeting, pipe)


def _whole(name: str, told: dict[str, Any]) -> None:
    """Raise :class:`Unreached` where the loader says that it couldn't do its part."""
    if told["is_"] == "unwritable":
        raise Unreached(
            f"{name}: our files can't be written to {told['where']} there: {told['why']}; make room or let it be written to, or "
            "name another folder on a disk of that host: --spool /path"
        )
    if told["is_"] == "cut":
        raise Unreached(f"{name}: the connection ended while our program was sent; try again")


class _Pipe:
    """The streams of a command on a host, each read for no longer than a given time."""

    def __init__(self, name: str, process: subprocess.Popen[bytes], python: str) -> None:
        assert process.stdin and process.stdout and process.stderr
        self._name, self._process, self._python = name, process, python
        self._input, self._output, self._errors = process.stdin, process.stdout, process.stderr
        for each in (self._input, self._output, self._errors):
            os.set_blocking(each.fileno(), False)
        self._read = b""
        self._said = b""
        """The end of what came on standard error: login files' words, or the client's own."""
        self._selector = selectors.DefaultSelector()
        self._selector.register(self._output, selectors.EVENT_READ)
        self._selector.register(self._errors, selectors.EVENT_READ)

    def until_mark(self) -> str:
        """Skip what comes before the loader's first line; returns the end of that, for people to read."""
        until, before = time.monotonic() + MARK_S, b""
        while (at := self._read.find(MARK)) < 0:
            if len(self._read) > MOST_NOISE:
                raise Unreached(
                    f"{self._name}: its login files print more than a million bytes before our program begins; see what "
                    f"~/.bashrc, ~/.cshrc or config.fish there print: {_shown(self._read)}"
                )
            if not self._more(until - time.monotonic()):
                raise Unreached(
                    f"{self._name}: it let us in, but our program doesn't begin there; a login file waits for input (read) or "
                    "starts another program (exec): let it do so only for a terminal"
                )
        before, self._read = self._read[:at], self._read[at + len(MARK) :]
        return _shown(self._said + before)

    def line(self, patience_s: float) -> bytes:
        """The next line, without its end. Raises :class:`Unreached`."""
        while b"\n" not in self._read:
            if not self._more(patience_s):
                raise Unreached(f"{self._name}: it says nothing any more, for {round(patience_s)} seconds")
        line, _, self._read = self._read.partition(b"\n")
        return line

    def send(self, content: bytes) -> None:
        """Send all of it, as fast as it is taken. Raises :class:`Unreached`."""
        view = memoryview(content)
        with selectors.DefaultSelector() as taking:
            taking.register(self._input, selectors.EVENT_WRITE)
            while len(view):
                if not taking.select(ANSWER_S):
                    raise Unreached(f"{self._name}: it takes nothing any more, for {round(ANSWER_S)} seconds")
                try:
                    view = view[os.write(self._input.fileno(), view[:65536]) :]
                except BrokenPipeError:
                    self._ended()

    def taken(self) -> tuple[int, int, int, bytes]:
        """What it reads from, writes to and the errors, for another to use, and what was read already."""
        read, self._read = self._read, b""
        return self._output.fileno(), self._input.fileno(), self._errors.fileno(), read

    def _more(self, patience_s: float) -> bool:
        """Read some more; False when nothing came in time. Raises :class:`Unreached` when the command has ended."""
        until = time.monotonic() + patience_s
        while (left := until - time.monotonic()) > 0:
            ready = [key for key, _ in self._selector.select(left)]
            # What was said of errors was said before: it is read first.
            for key in sorted(ready, key=lambda one: one.fileobj is not self._errors):
                some = os.read(key.fd, 65536)
                if key.fileobj is self._errors:
                    if some:
                        self._said = (self._said + some)[-MOST_NOISE:]
                    else:
                        self._selector.unregister(self._errors)
                elif some:
                    self._read += some
                    return True
                else:
                    self._ended()
        return False

    def _ended(self) -> None:
        """Say why the command has ended. Always raises :class:`Unreached`."""
        with suppress(OSError):
            os.set_blocking(self._errors.fileno(), True)
            while some := os.read(self._errors.fileno(), 65536):
                self._said = (self._said + some)[-MOST_NOISE:]
        code = self._process.wait(10)
        said = self._said.decode(errors="replace")
        words = f"{self._name}: {_why(self._name, said, code, self._python)}"
        raise TurnedAway(words) if code == 255 and re.search(_TURNED_AWAY, said) else Unreached(words)

    def close(self) -> None:
        """End the command's connection."""
        self._selector.close()
        for each in (self._input, self._output, self._errors):
            with suppress(OSError):
                each.close()
        with suppress(OSError):
            self._process.terminate()
        with suppress(subprocess.TimeoutExpired):
            self._process.wait(5)


_TURNED_AWAY = "Connection (closed|reset)|kex_exchange_identification"
_SSH_SAYS = (
    (
        "REMOTE HOST IDENTIFICATION HAS CHANGED",
        "its host key isn't the one that is known. If that host was set up anew, type once: ssh-keygen -R {name}; ssh {name}",
    ),
    (
        "Host key verification failed",
        "its host key isn't known here. Type once, by hand, and compare what it shows: ssh {name}",
    ),
    (
        "Permission denied",
        "it doesn't let you in. Type once: ssh-copy-id {name}; where your key has a passphrase, ssh-add first ({last})",
    ),
    ("Could not resolve hostname", "nobody knows a host of that name; see ~/.ssh/config and /etc/hosts"),
    ("Connection refused", "no SSH server answers there; is it running?"),
    ("No route to host|Network is unreachable", "there is no way to it; is it on, and this machine's network too?"),
    ("timed out", "it doesn't answer; is it on, and reached from here?"),
    (
        _TURNED_AWAY,
        "it closed the connection before that was there; where many connect at once, try again",
    ),
)
"""What the client or the server say, and what that means to a person; the first that fits."""


def _why(name: str, said: str, code: int, python: str) -> str:
    """Say why a command on a host ended before it was asked to."""
    lines = [line.strip() for line in said.splitlines() if line.strip() and not line.startswith("Warning:")]
    last = lines[-1] if lines else ""
    if code == 255:
        for pattern, words in _SSH_SAYS:
            if re.search(pattern, said):
                return words.format(name=name, last=last)
        return last or "the connection ended"
    if re.search(r"not found|No such file", last) and os.path.basename(python) in last:
        return f"there is no {python} there; install Python 3.9 or newer, or name one: --python /path/to/python3"
    return f"our program ended there ({code}){f': {_shown(last.encode())}' if last else ''}"


def _shown(content: bytes) -> str:
    """The end of what was printed, in one line for a person."""
    text = " ".join(content.decode(errors="replace").split())
    plain = "".join(each for each in text if each.isprintable())
    return plain if len(plain) <= MOST_TOLD else "…" + plain[-MOST_TOLD:]
