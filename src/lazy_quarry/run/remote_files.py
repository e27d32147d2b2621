"""A node's file service over its channel: each method is asked, and waited for, of the file server at the other end."""

import errno
import itertools
import socket
import threading
import time
from collections.abc import Callable
from concurrent.futures import Future
from functools import cache, wraps
from pathlib import Path
from typing import Any, get_type_hints

from lazy_quarry.run.node.channel import Broken, Channel, packed, unpacked
from lazy_quarry.run.node.file_server import ANSWER_S
from lazy_quarry.run.node.file_service import METHODS, FileService
from lazy_quarry.run.node.pause import pause
from lazy_quarry.run.node.sockets import FILES_SOCKET, dial
from lazy_quarry.store.typed_json import converted

WAIT_S = ANSWER_S + 10
"""The server answers before, also that it is late; a link that says nothing for so long is given up."""
GREETING_S = 10.0


class Turned(OSError):
    """The node knows an engine of a later epoch, and does nothing for this one."""


class AskedFiles(FileService):
    """A file service that is somewhere else: each of its methods is asked by :meth:`ask`."""

    def ask(self, method: str, *arguments: Any) -> Any:
        """The answer to a request. Raises :class:`OSError`."""
        raise NotImplementedError


def _asking(method: str) -> Callable[..., Any]:
    """A method that asks for what the one of this name answers, and reads it as what that returns."""
    of_here = getattr(FileService, method)

    @wraps(of_here)
    def asked(self: AskedFiles, *arguments: Any) -> Any:
        return _read(self.ask(method, *arguments), method)

    return asked


def _read(found: Any, method: str) -> Any:
    """An answer as what a method returns. Raises :class:`OSError` for what is no such thing."""
    try:
        return converted(found, _returned(method))
    except ValueError as fault:
        raise OSError(errno.EPROTO, f"its node answers {method} with what is no answer: {fault}") from None


@cache
def _returned(method: str) -> Any:
    return get_type_hints(getattr(FileService, method))["return"]


for _method in METHODS:
    setattr(AskedFiles, _method, _asking(_method))


class RemoteFiles(AskedFiles):
    """The file service of a node that is reached by a stream. Every method may raise :class:`OSError`, also when the link is gone.

    Several threads may ask at once. Raises :class:`Turned` at once where another engine has taken this one's place.
    """

    def __init__(self, stream: socket.socket, journal: str, epoch: int, spool: Path = Path()) -> None:
        super().__init__(spool)
        self._channel, self._numbers, self._lock = Channel(stream), itertools.count(1), threading.Lock()
        self._asked: dict[int, Future[Any]] = {}
        self._gone = ""
        stream.settimeout(GREETING_S)
        self._channel.send({"journal": journal, "epoch": epoch})
        told, _ = self._channel.receive()
        stream.settimeout(None)
        if not isinstance(told, dict) or told.get("welcome") is not True:
            self._channel.close()
            raise Turned(f"the node knows an engine of epoch {told.get('epoch') if isinstance(told, dict) else '?'}")
        threading.Thread(target=self._listen, daemon=True, name="files of a node").start()

    @property
    def gone(self) -> bool:
        """True when the link has ended."""
        with self._lock:
            return bool(self._gone)

    def close(self) -> None:
        """End the link; whoever waits is told."""
        self._channel.close()

    def _listen(self) -> None:
        try:
            while True:
                told, body = self._channel.receive()
                with self._lock:
                    asked = self._asked.pop(told["number"], None)
                if asked is not None:
                    self._settle(asked, told, body)
        except (OSError, KeyError, TypeError, ValueError):
            with self._lock:
                self._gone = "the link to its node is gone"
                left, self._asked = list(self._asked.values()), {}
            for one in left:
                one.set_exception(Broken(self._gone))
            self._channel.close()

    def _settle(self, asked: "Future[Any]", told: dict[str, Any], body: bytes) -> None:
        if "fault" in told:
            number, words, name = told["fault"]
            asked.set_exception(OSError(int(number), str(words), *([str(name)] if name else [])))
        else:
            asked.set_result(unpacked(told["found"], body))

    def ask(self, method: str, *arguments: Any) -> Any:
        """The answer to a request. Raises :class:`OSError`."""
        answer, number = Future[Any](), next(self._numbers)
        with self._lock:
            if self._gone:
                raise Broken(self._gone)
            self._asked[number] = answer
        head, body = packed(list(arguments))
        try:
            self._channel.send({"number": number, "method": method, "arguments": head}, body)
            return answer.result(WAIT_S)
        except TimeoutError:
            if not answer.done():  # nobody said that it is late
                self.close()
            raise
        finally:
            with self._lock:
                self._asked.pop(number, None)


class FilesAtSocket(AskedFiles):
    """The file service that is reached by a socket in a folder: connected when something is asked, and again when that has broken.

    ``name`` is whose files they are, for messages. For so many seconds it is waited until somebody listens there.
    """

    def __init__(
        self, folder: Path, name: str, journal: str, epoch: Callable[[], int], patience_s: float = 0.0
    ) -> None:
        super().__init__(Path())
        self._folder, self._name, self._journal, self._epoch = folder, name, journal, epoch
        self._patience_s = patience_s
        self._files: RemoteFiles | None = None
        self._opening = threading.Lock()
        self._asked = 0
        """Questions that are under way."""

    def ask(self, method: str, *arguments: Any) -> Any:
        """The answer to a request. Raises :class:`OSError`, :class:`ConnectionError` at once where nobody can be reached."""
        with self._opening:
            files = self._connected()
            self._asked += 1
        try:
            return files.ask(method, *arguments)
        finally:
            with self._opening:
                self._asked -= 1

    def close(self, idle: bool = False) -> None:
        """End the link, if there is one; the next question makes another. ``idle``: unless a question is under way."""
        with self._opening:
            if self._files is not None and not (idle and self._asked):
                self._files.close()
                self._files = None

    def _connected(self) -> RemoteFiles:
        if self._files is None or self._files.gone:
            until = time.monotonic() + self._patience_s
            while (stream := dial(self._folder, FILES_SOCKET, 0.0)) is None and time.monotonic() < until:
                pause(0.05)
            if stream is None:
                raise ConnectionError(errno.ENOTCONN, f"{self._name} does not answer")
            self._files = RemoteFiles(stream, self._journal, self._epoch())
        return self._files
