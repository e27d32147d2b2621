"""The outer process: first of the namespaces that hold the bridge and the hosts, so that with it all of them end.

It makes the hosts, lets faults happen to them, and answers on a socket: a line of JSON each way. It is the head, too: what runs
there runs in its namespaces.
"""

from __future__ import annotations

import json
import os
import select
import signal
import socket
import subprocess
import time
import uuid
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from cluster import kernel
from cluster.control_groups import freeze
from cluster.errors import ClusterError
from cluster.folder import Folder
from cluster.frames import Passing, start_relay
from cluster.host import Host, start_host
from cluster.hosts import HEAD, HEAD_ADDRESS, HEAD_ETHERNET, HOSTS, HostKind
from cluster.roots import build_head
from cluster.stand_in import put_in_place

_PATIENCE_S = 10.0
GroupsOfHosts = dict[str, dict[Path, Path]]
"""Control groups of each host, by where they are mounted below /sys/fs/cgroup."""


@dataclass
class _Cable:
    """The cable of a host: from the bridge to its ``eth0``, with a relay in it where something is wrong."""

    number: int
    passing: Passing = Passing()
    cut: bool = False
    relay: int | None = None

    @property
    def end(self) -> str:
        """The interface at the bridge's side."""
        return f"v{self.number}"


class Outer:
    """The cluster, from its first process."""

    def __init__(self, folder: Folder, groups: GroupsOfHosts, *, root: bool) -> None:
        self._folder = folder
        self._groups = groups
        self._root = root
        """People other than the one user can be logged in as, so there are SSH servers."""
        self._hosts: dict[str, Host] = {}
        self._cables = {each.name: _Cable(number) for number, each in enumerate(HOSTS, 1)}
        self._does: dict[str, Callable[[str, str], Any]] = {
            "cut": self._cut,
            "mend": self._mend,
            "slow": self._slow,
            "lose": self._lose,
            "half": self._half,
            "stop": self._stop,
            "reboot": self._reboot,
            "clock": self._clock,
            "full": self._full,
            "ps": self._processes,
            "first": lambda name, by: self._hosts[name].pid,
        }

    def make(self) -> None:
        """Make the head, the bridge and the hosts. Raises OSError or ClusterError where this machine doesn't allow it."""
        build_head(self._folder)
        socket.sethostname(HEAD)
        # A bridge without an address of its own takes one of its cables': what is sent to that would go past a relay.
        _ip(
            "link set lo up",
            f"link add br0 address {HEAD_ETHERNET} type bridge",
            f"addr add {HEAD_ADDRESS}/24 dev br0",
            "link set br0 up",
        )
        for kind in HOSTS:
            self._start(kind, kind.up_s)
        if not self._root:
            put_in_place({name: host.pid for name, host in self._hosts.items()})

    def _start(self, kind: HostKind, up_s: int) -> None:
        cable = self._cables[kind.name]
        groups = self._groups.get(kind.name, {})
        host = start_host(kind, self._folder, groups, up_s, str(uuid.uuid4()), sshd=self._root)
        self._hosts[kind.name] = host
        _ip(f"link add {cable.end} type veth peer name eth0 address {kind.ethernet} netns {host.pid}")
        _ip(*_silent(cable.end), f"link set {cable.end} master br0", f"link set {cable.end} up")
        host.ask("address")

    def serve(self, listening: socket.socket) -> None:
        """Do what is asked until killed; the first process of all, so it ends what nobody waits for."""
        woken = kernel.wakes_by(signal.SIGCHLD)
        while True:
            ready = select.select([listening.fileno(), woken], [], [])[0]
            kernel.calmed(woken)
            if listening.fileno() in ready:
                connection = listening.accept()[0]
                with connection, connection.makefile("rwb") as both, suppress(OSError, ValueError):
                    connection.settimeout(10)
                    both.write(json.dumps(self._answer(json.loads(both.readline()))).encode() + b"\n")
                    both.flush()

    def _answer(self, asked: dict[str, str]) -> dict[str, Any]:
        word, name = asked.get("word", ""), asked.get("host", "")
        if word not in self._does:
            return {"problem": f"{word}: no such word; there are {', '.join(self._does)}"}
        if word != "ps" and name not in self._hosts:
            return {"problem": f"{name}: no such host; there are {', '.join(self._hosts)}"}
        try:
            return {"answer": self._does[word](name, asked.get("by", ""))}
        except (ClusterError, OSError) as wrong:
            return {"problem": getattr(wrong, "strerror", None) or str(wrong)}

    def _cut(self, name: str, by: str) -> None:
        self._cables[name].cut = True
        _ip(f"link set {self._cables[name].end} down")

    def _slow(self, name: str, by: str) -> None:
        self._pass(name, replace(self._cables[name].passing, delay_s=float(by)))

    def _lose(self, name: str, by: str) -> None:
        self._pass(name, replace(self._cables[name].passing, lost=float(by)))

    def _half(self, name: str, by: str) -> None:
        self._pass(name, replace(self._cables[name].passing, one_way=True))

    def _pass(self, name: str, passing: Passing) -> None:
        """Have frames pass like that: through a relay between the host's cable and the bridge, or straight."""
        cable = self._cables[name]
        if cable.relay is not None:
            with suppress(ProcessLookupError, ChildProcessError):
                os.kill(cable.relay, signal.SIGKILL)
                os.waitpid(cable.relay, 0)
            cable.relay = None
            _ip(f"link del r{cable.number}")
        cable.passing = passing
        if passing.plain:
            _ip(f"link set {cable.end} master br0")
            return
        ours, bridged = f"q{cable.number}", f"r{cable.number}"
        _ip(f"link add {bridged} type veth peer name {ours}", f"link set {cable.end} nomaster")
        _ip(
            *_silent(ours),
            *_silent(bridged),
            f"link set {bridged} master br0",
            f"link set {bridged} up",
            f"link set {ours} up",
        )
        cable.relay = start_relay(cable.end, ours, passing)
        _wait_for(bridged)

    def _stop(self, name: str, by: str) -> None:
        host = self._hosts[name]
        host.faults.add("stop")
        if not freeze(host.groups, frozen=True):
            self._signal(host, signal.SIGSTOP)

    def _go_on(self, host: Host) -> None:
        if "stop" in host.faults and not freeze(host.groups, frozen=False):
            self._signal(host, signal.SIGCONT)
        host.faults.discard("stop")

    def _signal(self, host: Host, number: signal.Signals) -> None:
        """To all of a host's processes, until no new one is found."""
        told: set[int] = set()
        while new := set(_inside(host)) - told:
            for pid in new:
                with suppress(ProcessLookupError):
                    os.kill(pid, number)
            told |= new

    def _reboot(self, name: str, by: str) -> None:
        host, cable = self._hosts[name], self._cables[name]
        self._go_on(host)
        was = cable.passing
        self._pass(name, Passing())
        self._switch_off(host)
        with suppress(ClusterError):  # the kernel removes it with the host's network, at some time
            _ip(f"link del {cable.end}")
        self._start(host.kind, 0)
        if cable.cut:
            self._cut(name, "")
        if not was.plain:
            self._pass(name, was)
        if not self._root:
            put_in_place({each: one.pid for each, one in self._hosts.items()})

    def _switch_off(self, host: Host) -> None:
        """End all that runs on a host. Who entered it from the head is its processes' parent, and must not keep them."""
        inside = _inside(host)
        entered = {_parent(pid) for pid in inside} - set(inside) - {os.getpid(), 0}
        for pid in (host.pid, *entered):
            with suppress(ProcessLookupError):
                os.kill(pid, signal.SIGKILL)
        end = time.monotonic() + _PATIENCE_S
        with suppress(ChildProcessError):
            while not os.waitpid(host.pid, os.WNOHANG)[0]:
                if time.monotonic() > end:
                    raise ClusterError(
                        f"{host.kind.name}: a process from outside the cluster holds one of its own: end that first"
                    )
                time.sleep(0.01)

    def _clock(self, name: str, by: str) -> None:
        if not self._root:
            raise ClusterError("a wrong clock needs root: it is the SSH server that gives it to what it starts")
        self._awake(name).ask("clock", by)

    def _full(self, name: str, by: str) -> None:
        self._awake(name).ask("fill")

    def _awake(self, name: str) -> Host:
        host = self._hosts[name]
        if "stop" in host.faults:
            raise ClusterError(f"{name} is stopped: MEND={name} lets it go on")
        return host

    def _mend(self, name: str, by: str) -> None:
        host, cable = self._hosts[name], self._cables[name]
        self._go_on(host)
        cable.cut = False
        _ip(f"link set {cable.end} up")
        if not cable.passing.plain:
            self._pass(name, Passing())
        for word in ("empty", "true-clock", "sshd"):
            host.ask(word)

    def _processes(self, name: str, by: str) -> dict[str, list[dict[str, Any]]]:
        return {
            each: [_told(pid, host) for pid in _inside(host)]
            for each, host in self._hosts.items()
            if name in ("", each)
        }


def _ip(*lines: str) -> None:
    done = subprocess.run(["ip", "-batch", "-"], input="\n".join(lines), text=True, capture_output=True)
    if done.returncode:
        raise ClusterError(f"ip {'; '.join(lines)}: {done.stderr.strip()}")


def _wait_for(interface: str) -> None:
    """Wait until the kernel has seen that a cable is in: it may take a second, in which the bridge passes nothing to it."""
    end = time.monotonic() + _PATIENCE_S
    while b" UP " not in subprocess.run(["ip", "-brief", "link", "show", interface], capture_output=True).stdout:
        if time.monotonic() > end:
            raise ClusterError(f"{interface}: it doesn't come up")
        time.sleep(0.02)


def _silent(interface: str) -> tuple[str, ...]:
    """An end of a cable says nothing itself: else the head would answer by it for its own address, past the bridge and relays."""
    return f"link set {interface} arp off", f"link set {interface} addrgenmode none"


def _inside(host: Host) -> list[int]:
    """The processes of a host, by the outer numbers: those whose namespace of processes is the host's, or below it."""
    found, theirs = [], os.stat(f"/proc/{host.pid}/ns/pid").st_ino
    below = {theirs}
    for pid in sorted(int(each) for each in os.listdir("/proc") if each.isdigit()):
        with suppress(OSError, IndexError):
            space = os.stat(f"/proc/{pid}/ns/pid").st_ino
            if space in below or _parent(pid) in found:
                below.add(space)
                found.append(pid)
    return found


def _parent(pid: int) -> int:
    """The process that waits for another, 0 for one outside or one that is gone."""
    try:
        return int(Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[1])
    except (OSError, IndexError):
        return 0


def _told(pid: int, host: Host) -> dict[str, Any]:
    """What a process is, as somebody on its host would see it."""
    with suppress(OSError, IndexError, StopIteration):
        status = dict(
            line.split(":\t", 1) for line in Path(f"/proc/{pid}/status").read_text().splitlines() if ":\t" in line
        )
        words = Path(f"/proc/{pid}/cmdline").read_bytes().decode(errors="replace").split("\0")
        return {
            "pid": int(status["NSpid"].split()[-1]),
            "user": int(status["Uid"].split()[0]),
            "state": status["State"][0],
            "command": "init" if pid == host.pid else " ".join(words).strip() or f"[{status['Name']}]",
        }
    return {"pid": 0, "user": 0, "state": "X", "command": "(it ended)"}


def be_outer(folder: Folder, groups: GroupsOfHosts, listening: socket.socket, told: int, *, root: bool) -> None:
    """Make the cluster and serve it until killed; whether it could be made is written to ``told``, then the pipe is closed."""
    try:
        outer = Outer(folder, groups, root=root)
        outer.make()
        folder.ready.touch()
    except (OSError, ClusterError) as wrong:
        os.write(told, (getattr(wrong, "strerror", None) or str(wrong)).encode())
        os._exit(1)
    os.write(told, b"made")
    os.close(told)
    outer.serve(listening)
