"""The watcher: a process outside the cluster that starts its outer process, and removes what is left when that ends.

It ends the cluster when the command that owns it ends, however that ends: the command holds a pipe that nobody else has.
"""

from __future__ import annotations

import os
import select
import signal
import socket
import sys
import uuid
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

from cluster import kernel
from cluster.control_groups import Hierarchy, hierarchies, make_group, remove_groups, thaw
from cluster.folder import Folder, Kept, Process
from cluster.hosts import HOSTS
from cluster.outer import GroupsOfHosts, be_outer

_ROOT = Path("/sys/fs/cgroup")


def watch(folder: Folder, owner: int | None, told: int) -> int:
    """Make the cluster of a folder and keep it until its owner, or it, ends. ``owner`` and ``told`` are ends of pipes."""
    this = Process.of(os.getpid())
    assert this is not None
    root = os.geteuid() == 0
    usable = hierarchies() if root else ()
    name = f"lq-cluster-{uuid.uuid4().hex[:8]}"
    wholes = tuple(each.own / name for each in usable)
    folder.keep(Kept(this, None, tuple(map(str, wholes)), owner is not None))
    ended = kernel.wakes_by(signal.SIGTERM, signal.SIGINT, signal.SIGHUP, signal.SIGCHLD)
    outer = None
    try:
        groups = {each.name: {_place(one): make_group(one, f"{name}/{each.name}") for one in usable} for each in HOSTS}
        outer = _start(folder, groups, told, root=root)
        folder.keep(replace(folder.kept() or Kept(this), outer=Process.of(outer)))
        os.close(told)
        select.select([each for each in (owner, ended) if each is not None], [], [])
        return 0
    except OSError as wrong:
        with suppress(OSError):
            os.write(told, (wrong.strerror or str(wrong)).encode())
        return 1
    finally:
        if outer is not None:
            _end(outer, wholes)
        remove_groups(wholes)
        folder.remove()


def _place(hierarchy: Hierarchy) -> Path:
    return hierarchy.place.relative_to(_ROOT)


def _start(folder: Folder, groups: GroupsOfHosts, told: int, *, root: bool) -> int:
    """Start the outer process in namespaces of its own; its number here."""
    listening = socket.socket(socket.AF_UNIX)
    os.chdir(folder.path)
    listening.bind(folder.socket.name)  # the whole path may be longer than a socket's name may be
    listening.listen(16)
    os.chdir("/")
    watcher = os.getpid()
    known, tell = os.pipe()
    between = os.fork()
    if between == 0:
        try:
            signal.set_wakeup_fd(-1)
            kernel.end_with_parent()
            user, team = os.geteuid(), os.getegid()
            new = kernel.NEW_MOUNTS | kernel.NEW_PIDS | kernel.NEW_NETWORK | kernel.NEW_NAME | kernel.NEW_IPC
            kernel.unshare(new if root else new | kernel.NEW_USERS)
            if not root:
                Path("/proc/self/setgroups").write_text("deny")
                Path("/proc/self/uid_map").write_text(f"0 {user} 1")
                Path("/proc/self/gid_map").write_text(f"0 {team} 1")
            outer = os.fork()
            if outer == 0:
                kernel.end_with_parent()
                kernel.keep_only(listening.fileno(), told)
                for number in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
                    signal.signal(number, signal.SIG_IGN)
                be_outer(folder, groups, listening, told, root=root)
            os.close(told)
            os.write(tell, b"%d" % outer)
            os.close(tell)
            if os.getppid() == watcher:
                os.waitpid(outer, 0)
        except OSError as wrong:
            with suppress(OSError):
                os.write(told, (wrong.strerror or str(wrong)).encode())
        finally:
            os._exit(0)
    os.close(tell)
    listening.close()
    with open(known, "rb") as file:
        return int(file.read() or between)


def _end(outer: int, groups: tuple[Path, ...]) -> None:
    """End the first process, with which all others end, and wait until they have."""
    with suppress(ProcessLookupError):
        os.kill(outer, signal.SIGKILL)
    while True:
        thaw(groups)  # what is stopped can't end
        try:
            if os.waitpid(-1, os.WNOHANG)[0] == 0:
                select.select([], [], [], 0.01)
        except ChildProcessError:
            return


def main() -> int:
    """Arguments: the folder, the owner's pipe or "-", the pipe to tell how it went."""
    path, owner, told = sys.argv[1:]
    os.setsid()
    return watch(Folder(Path(path)), None if owner == "-" else int(owner), int(told))


if __name__ == "__main__":
    sys.exit(main())
