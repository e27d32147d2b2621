"""The process on a node that starts jobs and records them, one for each node and user.

It knows nothing but the folders of attempts, so every message may be sent again, to it or to the next agent. The messages are
those of :mod:`lazy_quarry.run.node.messages`, over a Unix socket in the spool; whoever has not greeted is told nothing.

It never waits for whoever is connected: what can't be sent at once is kept for a while, and who doesn't read is dropped.
"""

from __future__ import annotations

import faulthandler
import gc
import json
import os
import selectors
import signal
import socket
import sys
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from lazy_quarry.files import ours
from lazy_quarry.files.kinds import words_of
from lazy_quarry.files.logs import keep_short
from lazy_quarry.run.node import groups
from lazy_quarry.run.node.agent_process import REFUSED
from lazy_quarry.run.node.attempt import OWN, Exit, put_back, read_claim, read_exit, read_intent
from lazy_quarry.run.node.epoch import Epoch
from lazy_quarry.run.node.file_server import serve_in_child
from lazy_quarry.run.node.inbox import Told, has_inbox, remove_inbox
from lazy_quarry.run.node.locks import CoresLock, CoresTaken
from lazy_quarry.run.node.messages import (
    NAME,
    Ask,
    Beat,
    Beats,
    Ensure,
    FromAgent,
    Has,
    Hello,
    Notes,
    Over,
    Refused,
    Renew,
    Settle,
    Stop,
    Waits,
    Welcome,
    line_of,
    message_of,
    of_before,
    version_with,
)
from lazy_quarry.run.node.process import (
    Identity,
    become_subreaper,
    boot_id,
    boottime,
    busy_s,
    children,
    descendants,
    is_stopped,
    living,
    of_attempt,
    send,
    wall_ms,
)
from lazy_quarry.run.node.registry import Claimed, forget, noted_at, registered
from lazy_quarry.run.node.sockets import AGENT_SOCKET, FILES_SOCKET, accepted, listen
from lazy_quarry.run.node.supervisor import supervise
from lazy_quarry.run.node.versions import NEWEST, OLDEST

IDLE_S = 3.0
"""It leaves when no job has run and nobody was connected for so long."""
RETRY_S = 2.0
LOOK_S, DYING_S = 0.5, 0.02
LONGEST_LINE, MOST_UNREAD = 64 * 1024, 4 * 2**20
MOST_SERVERS = 16
"""Connections to this node's files at one time."""
ASKS = 4
"""A supervisor's lease is asked for so often before it is over."""


class Agent:
    """Starts supervisors, watches them through pidfds, and tells whoever is connected."""

    def __init__(self, spool: Path) -> None:
        self.spool = spool
        self.lock = CoresLock(spool)
        self.selector = selectors.DefaultSelector()
        self.listener = listen(spool, AGENT_SOCKET)
        self.selector.register(self.listener, selectors.EVENT_READ, ("accept", None))
        self.files = listen(spool, FILES_SOCKET)
        self.selector.register(self.files, selectors.EVENT_READ, ("files", None))
        self.servers = set[int]()
        """The processes that answer what is asked of this node's files, one a connection."""
        self.clients: dict[socket.socket, bytearray] = {}
        self.unsent: dict[socket.socket, bytearray] = {}
        self.epoch = Epoch(spool)
        self.greeted: dict[
            socket.socket, tuple[str, int]
        ] = {}  # whoever said which engine it is → its journal and epoch
        self.watched: dict[str, int] = {}  # attempt → pidfd of its supervisor
        self.own: dict[str, int] = {}  # attempt → number of a supervisor forked here
        self.retries: dict[str, float] = {}
        self.told = Told()
        self.stops: dict[str, Stop] = {}  # said to a supervisor as soon as it can be reached
        self.leases: dict[str, float] = {}  # attempts that go on only for so many seconds after an engine's word
        self.asked: dict[str, float] = {}  # attempt → when that was asked for last, in seconds since boot
        self.dying: dict[str, str] = {}  # attempt whose supervisor is gone → why, until nothing of it is left
        self.never: dict[str, Exit] = {}
        """Attempts that were stopped before anybody claimed them; nobody does any more."""
        self.idle_since = self.looked_at = time.monotonic()

    def run(self) -> None:
        """Serve until there is nothing to do and nobody is connected."""
        while True:
            for key, ready in self.selector.select(timeout=DYING_S if self.dying else 0.5):
                kind, name = key.data
                if kind == "accept":
                    self._accept()
                elif kind == "files":
                    self._serve_files()
                elif kind == "client":
                    if ready & selectors.EVENT_WRITE:
                        self._send_on(name)
                    if ready & selectors.EVENT_READ and name in self.clients:
                        self._hear(name)
                else:
                    self._over(name)
            now = time.monotonic()
            self._end_orphans()
            if now >= self.looked_at + LOOK_S:
                self.looked_at = now
                self._look_after_supervisors()
                with suppress(OSError):
                    self._reap_adopted()
                self.lock.keep_fresh(noted_at(self.spool / name) for name in self.watched)
                keep_short(self.spool.parent / "agent.log")
                self.epoch.keep()
            for name in [name for name, at in self.retries.items() if at <= now]:
                del self.retries[name]
                self._try(name, self._ensure)
            if self.clients or self.watched or self.dying or self.servers:
                self.idle_since = now
            elif now - self.idle_since > IDLE_S:
                return

    # -- whoever is connected ----------------------------------------------------------------------

    def _accept(self) -> None:
        with suppress(OSError):
            client = accepted(self.listener)
            if client is None:
                return
            client.setblocking(False)
            self.clients[client], self.unsent[client] = bytearray(), bytearray()
            self.selector.register(client, selectors.EVENT_READ, ("client", client))

    def _serve_files(self) -> None:
        """Fork a process that answers whoever wants to read this node's files, unless as many are there as may."""
        with suppress(OSError):
            stream = accepted(self.files)
            if stream is None:
                return
            with stream:
                stream.setblocking(True)
                if len(self.servers) >= MOST_SERVERS or (pid := os.fork()) < 0:
                    return
                if pid == 0:
                    self._shed()
                    self.lock.leave_cores()
                    serve_in_child(stream, self.spool)
                self.servers.add(pid)

    def _drop(self, client: socket.socket) -> None:
        self.selector.unregister(client)
        client.close()
        del self.clients[client], self.unsent[client]
        self.greeted.pop(client, None)

    def _hear(self, client: socket.socket) -> None:
        try:
            heard = client.recv(65536)
        except BlockingIOError:
            return
        except OSError:
            heard = b""
        if not heard:
            self._drop(client)
            return
        *lines, rest = bytes(self.clients[client] + heard).split(b"\n")
        if len(rest) > LONGEST_LINE:
            self._drop(client)
            return
        self.clients[client] = bytearray(rest)
        for line in lines:
            if client in self.clients:
                self._take(client, line)

    def _take(self, client: socket.socket, line: bytes) -> None:
        """Do what a message asks for, where whoever sent it may ask."""
        message = message_of(line)
        if isinstance(message, Hello):
            self._greet(client, message)
        elif isinstance(message, (Ensure, Stop, Settle, Renew, Beat)):
            if not self._listens_to(client):
                self._refuse(client)
            elif isinstance(message, Beat):
                self._say(client, line_of(Beats(message.sent, wall_ms(), boot_id(), busy_s())))
            elif isinstance(message, Ensure):
                self._try(message.name, self._ensure)
            elif isinstance(message, Stop):
                self._stop(message)
            elif isinstance(message, Renew):
                self._renew(message)
            else:
                self.never.pop(message.name, None)
                self.retries.pop(message.name, None)
        elif answer := of_before(line):
            self._say(client, answer)

    def _greet(self, client: socket.socket, hello: Hello) -> None:
        version = version_with(hello)
        if version is None or not self.epoch.take(hello.journal, hello.epoch):
            self._refuse(client)
            return
        # An engine has one link. What is still under way on an earlier one of it would come after what is said on this.
        this = hello.journal, hello.epoch
        for other in [each for each, known in self.greeted.items() if known == this and each != client]:
            self._drop(other)
        self.greeted[client] = this
        self._say(client, line_of(Welcome(version, hello.epoch)))
        if version >= 2:
            for name in self._alive():
                if client in self.clients:
                    self._say(client, line_of(Has(name)))

    def _refuse(self, client: socket.socket) -> None:
        self._say(client, line_of(Refused(OLDEST, NEWEST, self.epoch.highest)))

    def _listens_to(self, client: socket.socket) -> bool:
        """True for the engine of the highest epoch."""
        return self.greeted.get(client) == (self.epoch.journal, self.epoch.highest)

    def _tell(self, message: FromAgent) -> None:
        line = line_of(message)
        for client in list(self.greeted):
            if self._listens_to(client):
                self._say(client, line)

    def _say(self, client: socket.socket, line: bytes) -> None:
        self.unsent[client] += line
        if len(self.unsent[client]) > MOST_UNREAD:
            self._drop(client)  # it may connect again, and is told everything that still matters
        else:
            self._send_on(client)

    def _send_on(self, client: socket.socket) -> None:
        left = self.unsent[client]
        try:
            while left:
                del left[: client.send(left[: 1 << 16])]
        except BlockingIOError:
            pass
        except OSError:
            left.clear()  # its end is heard by the selector
        wanted = selectors.EVENT_READ | (selectors.EVENT_WRITE if left else 0)
        self.selector.modify(client, wanted, ("client", client))

    # -- attempts ----------------------------------------------------------------------------------

    def _claim(self, name: str) -> Identity | None:
        """The supervisor that took an attempt, by its folder or, if that is gone, by the registry."""
        folder = self.spool / name
        claim = read_claim(folder)
        if claim is None and (known := registered(folder)):
            return known.supervisor
        return claim

    def _alive(self) -> list[str]:
        """The attempts here whose supervisors live, as far as that can be told."""
        found = list(self.watched)
        with suppress(OSError):
            for folder in self.spool.iterdir():
                if NAME.fullmatch(folder.name) and folder.name not in self.watched:
                    with suppress(OSError):
                        claim = read_claim(folder)
                        if claim is not None and claim.alive():
                            found.append(folder.name)
        return found

    def _try(self, name: str, step: Callable[[str], None]) -> None:
        """Go on with an attempt; where the system lacks something that it takes, later."""
        try:
            step(name)
        except OSError as fault:
            self._tell(Notes(name, f"its node cannot look after it at present: {words_of(fault)}"))
            self.retries[name] = time.monotonic() + RETRY_S

    def _ensure(self, name: str) -> None:
        """Start an attempt unless it was started before; then watch it, or report how it ended."""
        if name in self.watched or name in self.dying:
            return
        folder = self.spool / name
        if name in self.never:
            self._tell(Over(name, self.never[name]))
            return
        if self._claim(name) is not None or not folder.is_dir():
            self._follow(name)
            return
        with suppress(FileNotFoundError):
            os.unlink(f"{folder}/refused")
        intent = read_intent(folder)
        if intent is None:
            return  # the engine will finish laying it out, and ask again
        # A fork without exec, so that no job pays for the start of a new interpreter.
        pid = os.fork()
        if pid == 0:
            self._shed()
            supervise(folder, intent)
        self.own[name] = pid
        self._has_lease(name, intent.lease_s)
        self._watch(name, pid)  # where that fails, its claim is followed later

    def _shed(self) -> None:
        """In a new supervisor: close the agent's files, but not the lock on the cores."""
        self.selector.close()
        self.listener.close()
        self.files.close()
        for client in self.clients:
            client.close()
        for pidfd in self.watched.values():
            os.close(pidfd)
        self.told.close()
        self.lock.leave_single()
        signal.signal(signal.SIGTERM, signal.SIG_DFL)

    def _watch(self, name: str, pid: int) -> None:
        pidfd = os.pidfd_open(pid)
        self.watched[name] = pidfd
        self.selector.register(pidfd, selectors.EVENT_READ, ("supervisor", name))

    def _over(self, name: str) -> None:
        """A supervisor's process has ended."""
        pidfd = self.watched.pop(name)
        self.leases.pop(name, None)
        self.stops.pop(name, None)
        self.selector.unregister(pidfd)
        os.close(pidfd)
        if pid := self.own.pop(name, 0):
            # By number: waitpid(-1) could take the end of another supervisor, whose pidfd would then never be matched.
            with suppress(ChildProcessError):
                os.waitpid(pid, 0)
            remove_inbox(self.spool / name, pid)
        self.told.forget(name)
        self._try(name, lambda name: self._follow(name, pid))

    def _follow(self, name: str, ended: int = 0) -> None:
        """Watch the supervisor that claimed an attempt; report how it ended when it has gone, as the process ``ended`` has."""
        claim = self._claim(name)
        if claim is not None and claim.pid != ended and claim.alive():
            with suppress(ProcessLookupError):
                self._watch(name, claim.pid)
                intent = read_intent(self.spool / name)
                self._has_lease(name, intent.lease_s if intent else None)
                return
        self._settle(name, claim)

    def _settle(self, name: str, claim: Identity | None) -> None:
        """Report how an attempt ended, after the supervisor that claimed it is gone."""
        folder = self.spool / name
        if claim is not None:
            remove_inbox(folder, claim.pid)
        ended = read_exit(folder, claim)
        if ended is not None:
            self._clear(name, ended)
            self._tell(Over(name, ended))
            return
        if claim is None and folder.is_dir():
            try:
                reason = ours.read_text(folder / "refused")[:1000]
            except OSError:
                reason = "the disk is full"
            self._tell(Waits(name, reason))
            self.retries[name] = time.monotonic() + RETRY_S
            return
        # A supervisor that goes on writing may leave a folder behind, from which its claim was removed all the same.
        gone = read_claim(folder) is None
        if claim is not None and claim.boot != boot_id():
            self.dying[name] = "its machine was started anew"
        else:
            self.dying[name] = "its folder in the spool was removed" if gone else "its supervisor was killed"
        self._end_orphans()

    def _clear(self, name: str, ended: Exit) -> None:
        """Forget an attempt, but not that it ran: a job may have removed its claim, and the engine may ask for it again."""
        groups.remove(name)
        folder = self.spool / name
        known = registered(folder)
        if known is not None and folder.is_dir() and read_claim(folder) is None:
            try:
                put_back(folder, known.supervisor, ended)
            except OSError:
                return  # the registry goes on telling it
        forget(folder)

    def _end_orphans(self) -> None:
        """Stop everything of attempts whose supervisor is gone, and report those as lost of which nothing is left.

        Until then they keep their cores, which would else be given to others.
        """
        for name, reason in list(self.dying.items()):
            with suppress(OSError):  # what is left of it can't be told at this moment: it stays in the list
                self._end_orphan(name, reason)

    def _end_orphan(self, name: str, reason: str) -> None:
        found = self._left_of(name)
        if found:
            groups.kill(name)
            send(found, signal.SIGSTOP)  # so that none forks away before the second look
            send(self._left_of(name), signal.SIGKILL)
            self._reap_adopted()
            return
        ended = Exit(wall_ms(), _last_seen_ms(self.spool / name), cause="lost", reason=reason)
        self._clear(name, ended)
        del self.dying[name]
        self._tell(Over(name, ended, lost=True))

    def _left_of(self, name: str) -> list[int]:
        """Living processes of an attempt: in its group or session, with its folder in the environment, or fallen to this one."""
        folder = self.spool / name
        session = ours.read_json(f"{folder}/session")
        marks = (f"LQ_ATTEMPT_FOLDER={folder}/{OWN}", f"LQ_ATTEMPT_FOLDER={folder}")  # the second of an earlier version
        fallen = [pid for pid in children(os.getpid()) if pid not in self.own.values() and pid not in self.servers]
        below = [each for pid in fallen for each in descendants(pid)]
        of_it = of_attempt(marks, session if isinstance(session, int) else None)
        return living(sorted({*groups.members(name), *of_it, *fallen, *below} - {os.getpid()}))

    def _look_after_supervisors(self) -> None:
        """Let supervisors go on that something has stopped, and end what is far over its time all the same."""
        for name in list(self.watched):
            self._ask(name)
            if stop := self.stops.get(name):
                self._pass_on(name, stop)
            with suppress(OSError):  # what can't be read at this moment is looked at the next time
                self._look_after(name)

    def _has_lease(self, name: str, lease_s: float | None) -> None:
        """Have an engine asked, from now on, whether this attempt goes on."""
        if lease_s is not None:
            self.leases[name] = lease_s
            self.asked.pop(name, None)
            self._ask(name)

    def _ask(self, name: str) -> None:
        lease_s, now = self.leases.get(name), boottime()
        if lease_s is not None and now >= self.asked.get(name, 0.0) + lease_s / ASKS:
            self.asked[name] = now
            self._tell(Ask(name, now))

    def _renew(self, message: Renew) -> None:
        """An engine has said that an attempt goes on. That counts from when it was asked, as the answer may be late."""
        if message.name in self.leases:
            with suppress(OSError):
                self._pass_on(message.name, message)

    def _pass_on(self, name: str, message: Stop | Renew) -> None:
        """Say it to the attempt's supervisor. Of one that has not claimed it yet nothing is known."""
        claim = self._claim(name)
        if claim is None:
            return
        if self.told.say(self.spool / name, claim.pid, message):
            self.stops.pop(name, None)
        elif isinstance(message, Stop) and claim.alive() and not has_inbox(self.spool / name, claim.pid):
            send([claim.pid], signal.SIGTERM)  # one of an earlier version then looks for the file that says so

    def _look_after(self, name: str) -> None:
        claim = self._claim(name)
        if claim is None:
            return
        if is_stopped(claim.pid):
            send([claim.pid], signal.SIGCONT)
            self._tell(Notes(name, "its supervisor was stopped by a signal; it goes on"))
        known: Claimed | None = registered(self.spool / name)
        if known is not None and boottime() > known.over_by:
            send([claim.pid], signal.SIGKILL)

    def _reap_adopted(self) -> None:
        """Reap adopted orphans; this process's own supervisors are waited for one by one."""
        for pid in set(children(os.getpid())) - set(self.own.values()):
            with suppress(ChildProcessError):
                if os.waitpid(pid, os.WNOHANG)[0]:
                    self.servers.discard(pid)

    def _stop(self, message: Stop) -> None:
        """Tell the supervisor of an attempt to stop it. One that nobody has claimed ends here, and is never started.

        Where the claim can't be told at this moment, the file that says so is found later, or the message comes again.
        """
        name = message.name
        with suppress(OSError):
            claim = self._claim(name)
            if claim is None and name in self.watched and not (self.spool / name).is_dir():
                # Its folder was removed, and with it all other ways to tell its supervisor.
                signal.pidfd_send_signal(self.watched[name], signal.SIGTERM)
            elif (claim is not None and claim.alive()) or name in self.own:
                self.stops[name] = message
                self._pass_on(name, message)
            elif claim is None and (self.spool / name).is_dir() and name not in self.dying:
                self.retries.pop(name, None)
                ended = Exit(wall_ms(), 0, cause=message.cause, reason="before it was started")
                self._tell(Over(name, self.never.setdefault(name, ended)))


def _last_seen_ms(folder: Path) -> int | None:
    """Time (ms) that an attempt had run when its supervisor wrote last; None when its folder is gone."""
    if not folder.is_dir():
        return None
    found = (ours.read_json(f"{folder}/live.json") or {}).get("held_ms", 0)
    return found if isinstance(found, int) else 0


def serve(spool: Path) -> None:
    """Be the agent of a spool until there is nothing to do; exits with 3 where another state folder has the cores."""
    try:
        agent = Agent(spool)
    except CoresTaken as taken:
        ours.write_whole(spool / REFUSED, json.dumps({"by": str(taken)}), durable=False)
        sys.exit(3)
    (spool / REFUSED).unlink(missing_ok=True)
    with suppress(OSError):
        become_subreaper()
    faulthandler.enable()  # a crash leaves its trace in the log
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGHUP, signal.SIG_IGN)
    boot_id()
    groups.look_up()
    gc.disable()  # a collection in a supervisor would copy every page that it shares with this process
    agent.run()


if __name__ == "__main__":  # python -m lazy_quarry.run.node.agent SPOOL
    serve(Path(sys.argv[1]))
