"""The engine as a process: one for each state folder, its lock, its socket.

Started by the first command that needs it, it serves JSON-RPC 2.0 over a Unix socket that only its user
may open, and leaves when nothing runs or waits and nobody has been connected for a minute.
"""

import asyncio
import json
import os
import signal
import socket
import struct
import sys
import time
from contextlib import suppress
from datetime import datetime
from pathlib import Path
from typing import Any

from lazy_quarry import __version__
from lazy_quarry.core.job.job import Phase
from lazy_quarry.errors import StateFolderError
from lazy_quarry.link.calls import answer
from lazy_quarry.probe.machine import this_machine, user_name
from lazy_quarry.run.local import LocalRunner
from lazy_quarry.run.node.sockets import listen
from lazy_quarry.site.operations import Operations
from lazy_quarry.site.site_file import SiteFileError
from lazy_quarry.store.folder import FolderLock
from lazy_quarry.store.journal import Journal

TICK_S = 0.5
LONGEST_LINE = 64 * 2**20


def linger_s() -> float:
    """How long it stays with nothing to do; ``LQ_LINGER`` shortens it for tests."""
    return float(os.environ.get("LQ_LINGER", "60"))


class Service:
    """A desk with its socket and its clock ticks."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        site = this_machine()
        journal = Journal(folder)
        self.runner = LocalRunner(folder, site)
        zone = datetime.now().astimezone().tzinfo
        assert zone is not None
        self.desk = Operations(site, journal, self.runner, user_name(), lambda: time.time_ns() // 1_000_000, zone)
        self.runner.sweep({f"{job.number}-{job.attempt}" for job in self.desk.engine.state.running()})
        self.writers: set[asyncio.StreamWriter] = set()
        self.idle_since = time.monotonic()
        self.told_version = 0
        self._watched: int | None = None
        self._leave = asyncio.Event()

    async def run(self) -> None:
        """Serve until there is nothing left to do."""
        loop = asyncio.get_running_loop()
        loop.add_signal_handler(signal.SIGTERM, self._leave.set)
        listener = listen(self.folder, "engine.sock")
        server = await asyncio.start_unix_server(self._serve, sock=listener, limit=LONGEST_LINE)
        try:
            while not self._leave.is_set():
                self._move_on()
                with suppress(TimeoutError):
                    await asyncio.wait_for(self._leave.wait(), TICK_S)
                if self._idle():
                    break
        finally:
            server.close()

    def _move_on(self) -> None:
        self.runner.tick(any(job.phase is Phase.WAITING for job in self.desk.engine.state.jobs.values()))
        self.runner.retry_unwritten()
        self.desk.step()
        self._watch_link()
        self._tell_changes()

    def _watch_link(self) -> None:
        """Have the loop wake when the agent says something."""
        loop = asyncio.get_running_loop()
        link = self.runner.fileno()
        if link != self._watched:
            if self._watched is not None:
                with suppress(OSError, ValueError):
                    loop.remove_reader(self._watched)
            if link is not None:
                loop.add_reader(link, self._heard)
            self._watched = link

    def _heard(self) -> None:
        self.desk.step()
        self._watch_link()
        self._tell_changes()

    def _tell_changes(self) -> None:
        if self.desk.version == self.told_version:
            return
        self.told_version = self.desk.version
        line = json.dumps({"jsonrpc": "2.0", "method": "changed", "params": {"version": self.told_version}}).encode()
        for writer in list(self.writers):
            if not writer.is_closing() and writer.transport.get_write_buffer_size() < 1 << 20:
                writer.write(line + b"\n")

    def _idle(self) -> bool:
        if self.writers or self.desk.engine.state.jobs or self.runner.busy():
            self.idle_since = time.monotonic()
        return time.monotonic() - self.idle_since > linger_s()

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        peer: socket.socket = writer.get_extra_info("socket")
        _, uid, _ = struct.unpack("3i", peer.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, 12))
        if uid != os.getuid():
            writer.close()
            return
        hello = {"jsonrpc": "2.0", "method": "hello", "params": {"version": __version__, "pid": os.getpid()}}
        writer.write(json.dumps(hello).encode() + b"\n")
        self.writers.add(writer)
        try:
            while line := await reader.readline():
                reply = self._reply(line)
                writer.write(json.dumps(reply).encode() + b"\n")
                await writer.drain()
                self._watch_link()
                self._tell_changes()
        except (ConnectionError, ValueError):
            pass
        finally:
            self.writers.discard(writer)
            writer.close()

    def _reply(self, line: bytes) -> dict[str, Any]:
        try:
            message = json.loads(line)
        except ValueError:
            return {"jsonrpc": "2.0", "id": None, "error": {"code": -32700, "message": "not JSON"}}
        if isinstance(message, dict) and message.get("method") == "leave":
            self._leave.set()
            return {"jsonrpc": "2.0", "id": message.get("id"), "result": None}
        return answer(self.desk, message)


def main() -> None:
    """``python -m lazy_quarry.link.server FOLDER``: exit 0 when done or another engine is there, 1 with a reason."""
    folder = Path(sys.argv[1])
    try:
        lock = FolderLock(folder, "engine.lock", wait=False)
    except BlockingIOError:
        return
    except StateFolderError as fault:
        sys.exit(f"refused: {fault}")
    signal.signal(signal.SIGHUP, signal.SIG_IGN)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    try:
        service = Service(folder)
    except (StateFolderError, SiteFileError) as fault:
        sys.exit(f"refused: {fault}")
    asyncio.run(service.run())
    lock.release()


if __name__ == "__main__":
    main()
