"""Reading a file of a node over its channel: 64 MiB in pieces, against sending the same bytes over a bare socket."""

import os
import socket
import tempfile
from collections.abc import Callable
from pathlib import Path

from lazy_quarry.run.node.file_server import FileServer
from lazy_quarry.run.node.file_service import CHUNK
from lazy_quarry.run.remote_files import RemoteFiles

SIZE = 64 << 20


def figures(best):
    with tempfile.TemporaryDirectory(prefix="lq-bench-") as base:
        path = f"{base}/big"
        Path(path).write_bytes(os.urandom(1 << 20) * 64)
        (Path(base) / "spool").mkdir()
        taken = best(3, lambda: _over_the_channel(path, Path(base)))
        yield "channel-read", taken, "s", best(3, lambda: _bare(path)), 10


def _over_the_channel(path: str, base: Path) -> None:
    here, there = socket.socketpair()
    serving = _child(lambda: FileServer(there, base / "spool").serve(), here)
    there.close()
    files, at = RemoteFiles(here, "j", 1), 0
    while at < SIZE:
        at += len(files.piece(path, at).raw)
    files.close()
    os.waitpid(serving, 0)


def _bare(path: str) -> None:
    here, there = socket.socketpair()

    def send() -> None:
        with open(path, "rb") as file:
            while raw := file.read(CHUNK):
                there.sendall(raw)

    sending = _child(send, here)
    there.close()
    got = 0
    while got < SIZE:
        got += len(here.recv(CHUNK))
    here.close()
    os.waitpid(sending, 0)


def _child(work: Callable[[], None], other: socket.socket) -> int:
    pid = os.fork()
    if pid == 0:
        other.close()
        try:
            work()
        finally:
            os._exit(0)
    return pid
