"""A node's file service over its channel: each method is asked, and waited for, of the file server at the other end."""

import errno
import itertools
import socket
import threading
import time
from collections.abc import Callable, Sequence
from concurrent.futures import Future
from pathlib import Path
from typing import Any

from lazy_quarry.run.node.channel import Broken, Channel, packed, unpacked
from lazy_quarry.run.node.file_kinds import FileFound
from lazy_quarry.run.node.file_server import ANSWER_S
from lazy_quarry.run.node.file_service import FileService, InsideRaw, Mark, Piece
from lazy_quarry.run.node.made_files import MadeFile, MadeFiles
from lazy_quarry.run.node.pause import pause
from lazy_quarry.run.node.sockets import FILES_SOCKET, dial

WAIT_S = ANSWER_S + 10
"""The server answers before, also that it is late; a link that says nothing for so long is given up."""
GREETING_S = 10.0


class Turned(OSError):
    """The node knows an engine of a later epoch, and does nothing for this one."""


class AskedFiles(FileService):
    """A file service that is somewhere else: how it is asked is said by :meth:`ask`."""

    def ask(self, method: str, *arguments: Any) -> Any:
        """The answer to a request. Raises :class:`OSError`."""
        raise NotImplementedError

    def live(self, name: str) -> Any:
        return self.ask("live", name)

    def ran_ms(self, name: str) -> int | None:
        found: int | None = self.ask("ran_ms", name)
        return found

    def inside(self, name: str, known: Mark | None, spreads: Sequence[str]) -> InsideRaw | None:
        found = self.ask("inside", name, known, list(spreads))
        return None if found is None else InsideRaw((found[0][0], found[0][1]), found[1], found[2])

    def piece(self, path: str, begin: int) -> Piece:
        return Piece(*self.ask("piece", path, begin))

    def look_at(self, paths: Sequence[str]) -> list[FileFound]:
        return [FileFound(*one) for one in self.ask("look_at", list(paths))]

    def made(self, folder: str, since_ms: int, until_ms: int | None) -> MadeFiles:
        whose, files, more, problem = self.ask("made", folder, since_ms, until_ms)
        return MadeFiles(whose, tuple(MadeFile(*one) for one in files), more, problem)

    def remove(self, folder: str, paths: Sequence[str], since_ms: int) -> tuple[int, list[str]]:
        count, kept = self.ask("remove", folder, list(paths), since_ms)
        return count, kept

    def unusable(self, folder: str, written: dict[str, str], input_path: str) -> dict[str, str]:
        found: dict[str, str] = self.ask("unusable", folder, written, input_path)
        return found

    def folder_mark(self, path: str) -> list[int] | None:
        found: list[int] | None = self.ask("folder_mark", path)
        return found

    def is_claimed(self, name: str) -> bool:
        return bool(self.ask("is_claimed", name))

    def make_place(self, name: str, told: dict[str, Any]) -> str:
        return str(self.ask("make_place", name, told))

    def put_piece(self, name: str, path: str, begin: int, piece: bytes, check: int) -> None:
        self.ask("put_piece", name, path, begin, piece, check)

    def size_put(self, name: str, path: str) -> int:
        return int(self.ask("size_put", name, path))

    def begin_put(self, name: str, path: str, size: int) -> int:
        return int(self.ask("begin_put", name, path, size))

    def put_whole(
        self, name: str, path: str, size: int, mode: int, mtime_ns: int, sent: int | None, compared: bool
    ) -> str | None:
        kept: str | None = self.ask("put_whole", name, path, size, mode, mtime_ns, sent, compared)
        return kept

    def put_digest(self, name: str, path: str, begin: int, most: int) -> str:
        return str(self.ask("put_digest", name, path, begin, most))

    def drop_put(self, name: str, path: str) -> None:
        self.ask("drop_put", name, path)

    def kept_of_size(self, name: str, size: int) -> list[str]:
        return [str(each) for each in self.ask("kept_of_size", name, size)]

    def kept_digest(self, name: str, kept: str, begin: int, most: int) -> str:
        return str(self.ask("kept_digest", name, kept, begin, most))

    def use_kept(self, name: str, path: str, size: int, kept: str, mode: int, mtime_ns: int) -> bool:
        return bool(self.ask("use_kept", name, path, size, kept, mode, mtime_ns))

    def make_room(self, name: str, wanted: int) -> int:
        return int(self.ask("make_room", name, wanted))

    def drop_place(self, name: str) -> None:
        self.ask("drop_place", name)

    def put_small(self, name: str, files: Sequence[Sequence[Any]]) -> None:
        self.ask("put_small", name, files)

    def put_other(self, name: str, path: str, target: str | None) -> None:
        self.ask("put_other", name, path, target)

    def carried(self, name: str) -> dict[str, Any] | None:
        found: dict[str, Any] | None = self.ask("carried", name)
        return found

    def place_files(self, name: str, patterns: Sequence[str]) -> list[list[Any]]:
        found: list[list[Any]] = self.ask("place_files", name, list(patterns))
        return found

    def get_piece(self, name: str, path: str, begin: int, most: int) -> list[Any]:
        found: list[Any] = self.ask("get_piece", name, path, begin, most)
        return found

    def place_digest(self, name: str, path: str, begin: int, most: int) -> str:
        return str(self.ask("place_digest", name, path, begin, most))

    def kept(self) -> list[list[Any]]:
        found: list[list[Any]] = self.ask("kept")
        return found

    def drop(self, item: str) -> None:
        self.ask("drop", item)

    def was_brought(self, name: str) -> None:
        self.ask("was_brought", name)

    def left(self) -> list[str]:
        return [str(each) for each in self.ask("left")]

    def prepare(self, names: Sequence[str]) -> None:
        self.ask("prepare", list(names))

    def lay_out(self, name: str, intent: str, script: str) -> None:
        self.ask("lay_out", name, intent, script)

    def is_laid_out(self, name: str) -> bool:
        return bool(self.ask("is_laid_out", name))

    def write_stop(self, name: str, cause: str) -> None:
        self.ask("write_stop", name, cause)

    def forget(self, name: str) -> None:
        self.ask("forget", name)

    def sweep(self, running: Sequence[str], kept_s: int) -> None:
        self.ask("sweep", list(running), kept_s)


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
