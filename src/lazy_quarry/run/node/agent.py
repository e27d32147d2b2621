"""The process on a node that starts jobs and records them, one for each node and user.

It knows nothing but the folders of attempts, so every message may be sent again, to it or to the
next agent. Messages are JSON, one a line, over a Unix socket in the spool.

    engine → agent   {"ensure": "4127-1"}   start this attempt unless it was started before
                      {"stop": "4127-1"}     its ``stop`` file has been written
    agent → engine   {"ended": "4127-1", "exit": {…}}
                      {"lost": "4127-1", "exit": {…}}
                      {"waits": "4127-1", "reason": "…"}   it could not be started yet
"""

from __future__ import annotations

import fcntl
import gc
import json
import os
import selectors
import signal
import socket
import sys
import time
from contextlib import suppress
from dataclasses import asdict
from pathlib import Path
from typing import Any

from lazy_quarry.run.node.attempt import Exit, read_claim, read_exit, read_intent, read_json, write_whole
from lazy_quarry.run.node.process import become_subreaper, boot_id, children, living, of_attempt, send
from lazy_quarry.run.node.sockets import listen
from lazy_quarry.run.node.supervisor import supervise

IDLE_S = 3.0
"""It leaves when no job has run and nobody was connected for so long."""
RETRY_S = 2.0


def runtime_folder() -> Path:
    """The user's own folder for what lives no longer than the boot."""
    given = os.environ.get("XDG_RUNTIME_DIR")
    base = Path(given) if given else Path(f"/run/user/{os.getuid()}")
    if base.is_dir() and os.access(base, os.W_OK):
        folder = base / "lazy-quarry"
    else:
        folder = Path(f"/tmp/lazy-quarry-{os.getuid()}")
    folder.mkdir(mode=0o700, exist_ok=True)
    if folder.stat().st_uid != os.getuid():
        raise PermissionError(f"{folder} belongs to somebody else")
    return folder


class CoresTaken(Exception):
    """Another state folder's jobs have this machine's cores."""


class CoresLock:
    """The lock on this machine's cores for one state folder, held as long as an agent or supervisor of it lives."""

    def __init__(self, spool: Path) -> None:
        folder = runtime_folder()
        self.single = os.open(folder / "agent.lock", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        self.cores = os.open(folder / "cores.lock", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        # Two locks: one says that an agent is alive, the other that jobs are left. Supervisors inherit only the second,
        # so a killed agent can be replaced while its jobs go on.
        holder = read_json(folder / "cores.lock") or {}
        try:
            fcntl.flock(self.single, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            raise CoresTaken(holder.get("spool", "another state folder")) from None
        try:
            fcntl.flock(self.cores, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            if holder.get("spool") != str(spool):
                raise CoresTaken(holder.get("spool", "another state folder")) from None
        else:
            os.ftruncate(self.cores, 0)
            os.pwrite(self.cores, json.dumps({"spool": str(spool)}).encode(), 0)
        # Shared from here on: the next agent of this folder may join, and another folder's exclusive lock still fails.
        fcntl.flock(self.cores, fcntl.LOCK_SH)


class Agent:
    """Starts supervisors, watches them through pidfds, and tells whoever is connected."""

    def __init__(self, spool: Path) -> None:
        self.spool = spool
        self.lock = CoresLock(spool)
        self.selector = selectors.DefaultSelector()
        self.listener = listen(spool, "agent.sock")
        self.selector.register(self.listener, selectors.EVENT_READ, ("accept", None))
        self.clients: dict[socket.socket, bytearray] = {}
        self.watched: dict[str, int] = {}  # attempt → pidfd of its supervisor
        self.own: dict[str, int] = {}  # attempt → number of a supervisor forked here
        self.retries: dict[str, float] = {}
        self.idle_since = time.monotonic()

    def run(self) -> None:
        """Serve until there is nothing to do and nobody is connected."""
        while True:
            for key, _ in self.selector.select(timeout=0.5):
                kind, name = key.data
                if kind == "accept":
                    client, _ = self.listener.accept()
                    client.setblocking(False)
                    self.clients[client] = bytearray()
                    self.selector.register(client, selectors.EVENT_READ, ("client", client))
                elif kind == "client":
                    self._hear(name)
                else:
                    self._over(name)
            now = time.monotonic()
            for name in [name for name, at in self.retries.items() if at <= now]:
                del self.retries[name]
                self._ensure(name)
            self._reap_adopted()
            if self.clients or self.watched:
                self.idle_since = now
            elif now - self.idle_since > IDLE_S:
                return

    def _hear(self, client: socket.socket) -> None:
        try:
            heard = client.recv(65536)
        except BlockingIOError:
            return
        except OSError:
            heard = b""
        if not heard:
            self.selector.unregister(client)
            client.close()
            del self.clients[client]
            return
        buffer = self.clients[client]
        buffer += heard
        *lines, rest = bytes(buffer).split(b"\n")
        self.clients[client] = bytearray(rest)
        for line in lines:
            with suppress(ValueError):
                message = json.loads(line)
                if "ensure" in message:
                    self._ensure(message["ensure"])
                elif "stop" in message:
                    self._wake(message["stop"])

    def _tell(self, message: dict[str, Any]) -> None:
        line = json.dumps(message).encode() + b"\n"
        for client in list(self.clients):
            try:
                # A report must arrive whole. The engine reads at every turn of its loop, so this waits for
                # milliseconds.
                client.setblocking(True)
                client.sendall(line)
                client.setblocking(False)
            except OSError:
                continue  # its end is heard by the selector

    def _ensure(self, name: str) -> None:
        """Start an attempt unless it was started before; then watch it, or report how it ended."""
        if name in self.watched:
            return
        folder = self.spool / name
        if read_claim(folder) is not None:
            self._follow(name)
            return
        (folder / "refused").unlink(missing_ok=True)
        intent = read_intent(folder)
        if intent is None:
            return  # the engine will finish laying it out, and ask again
        # A fork without exec, so that no job pays for the start of a new interpreter.
        pid = os.fork()
        if pid == 0:
            self._shed()
            supervise(folder, intent)
        self.own[name] = pid
        self._watch(name, pid)

    def _shed(self) -> None:
        """In a new supervisor: close the agent's files, but not the lock on the cores."""
        self.selector.close()
        self.listener.close()
        for client in self.clients:
            client.close()
        for pidfd in self.watched.values():
            os.close(pidfd)
        os.close(self.lock.single)
        signal.signal(signal.SIGTERM, signal.SIG_DFL)

    def _watch(self, name: str, pid: int) -> None:
        pidfd = os.pidfd_open(pid)
        self.watched[name] = pidfd
        self.selector.register(pidfd, selectors.EVENT_READ, ("supervisor", name))

    def _over(self, name: str) -> None:
        """A supervisor's process has ended."""
        pidfd = self.watched.pop(name)
        self.selector.unregister(pidfd)
        os.close(pidfd)
        if pid := self.own.pop(name, 0):
            # By number: waitpid(-1) could take the end of another supervisor, whose pidfd would then never be matched.
            with suppress(ChildProcessError):
                os.waitpid(pid, 0)
        self._follow(name)

    def _follow(self, name: str) -> None:
        """Watch the supervisor that claimed an attempt; report how it ended when it has gone."""
        claim = read_claim(self.spool / name)
        if claim is not None and claim.alive():
            with suppress(ProcessLookupError):
                self._watch(name, claim.pid)
                return
        self._settle(name)

    def _settle(self, name: str) -> None:
        """Report how an attempt ended, after its supervisor is gone."""
        folder = self.spool / name
        ended = read_exit(folder)
        if ended is not None:
            self._tell({"ended": name, "exit": asdict(ended)})
            return
        if not folder.exists():
            return
        if read_claim(folder) is None:
            refused = folder / "refused"
            reason = refused.read_text() if refused.exists() else "the disk is full"
            self._tell({"waits": name, "reason": reason})
            self.retries[name] = time.monotonic() + RETRY_S
            return
        self._end_orphans(folder)
        ended = Exit(round(time.time() * 1000), 0, cause="lost", reason="its supervisor was killed")
        self._tell({"lost": name, "exit": asdict(ended)})

    def _end_orphans(self, folder: Path) -> None:
        """Stop everything of an attempt that is reported as lost: its cores will be given to others."""
        mark = f"LQ_ATTEMPT_FOLDER={folder}"
        claim, session = read_claim(folder), read_json(folder / "session")
        if claim is None or claim.boot != boot_id():
            return
        while left := living(of_attempt(mark, session)):
            send(left, signal.SIGSTOP)
            send(living(of_attempt(mark, session)), signal.SIGKILL)
            self._reap_adopted()
            time.sleep(0.01)

    def _reap_adopted(self) -> None:
        """Reap adopted orphans; this process's own supervisors are waited for one by one."""
        for pid in set(children(os.getpid())) - set(self.own.values()):
            with suppress(ChildProcessError):
                os.waitpid(pid, os.WNOHANG)

    def _wake(self, name: str) -> None:
        claim = read_claim(self.spool / name)
        if claim is not None and claim.alive():
            send([claim.pid], signal.SIGTERM)
        elif claim is None and name in self.own:
            send([self.own[name]], signal.SIGTERM)


def main() -> None:
    """``python -m lazy_quarry.run.node.agent SPOOL``."""
    spool = Path(sys.argv[1])
    try:
        agent = Agent(spool)
    except CoresTaken as taken:
        write_whole(spool / "agent.refused", json.dumps({"by": str(taken)}), durable=False)
        sys.exit(3)
    (spool / "agent.refused").unlink(missing_ok=True)
    with suppress(OSError):
        become_subreaper()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGHUP, signal.SIG_IGN)
    gc.disable()  # a collection in a supervisor would copy every page that it shares with this process
    agent.run()


if __name__ == "__main__":
    main()
