"""The locks on this node's cores: one state folder of each user has them, as long as an agent or a job of it lives.

They are in a folder of the user's own, found by its owner and not by its name alone, in a place that every user may write and
where nobody may remove what is another's. So nobody else can take them, stand in their way, or be taken for somebody.
"""

from __future__ import annotations

import fcntl
import json
import os
import pwd
import random
import re
import stat
import tempfile
import time
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path

from lazy_quarry.files import ours
from lazy_quarry.files.file_systems import is_shared
from lazy_quarry.run.node.pause import pause
from lazy_quarry.run.node.process import identify, start_ticks

PLACES = ("/var/tmp", "/tmp")
"""Sticky folders that every user may write and that a logout leaves alone, the best first."""
_FORMER = ("/run/lock", "/var/lock", "/var/tmp", "/tmp")
"""Where earlier versions had their locks, under a name that anybody could take."""
_NAME = re.compile(r"lazy-quarry-(\d+)-\w+")
NOTE = "in-use.json"
FRESH_EVERY_S = 6 * 3600.0
"""Many machines remove from such places what is left alone for days."""
PATIENCE_S, GLANCE_S, PAUSE_S = 5.0, 0.5, 0.02
"""An agent of the same state folder that leaves is waited for so long; somebody who only looks at a lock for a moment; between two
tries."""
_MOST_NOTE = 4096


class CoresTaken(Exception):
    """Another state folder's jobs have this machine's cores."""


def _place() -> str:
    """The place for the user's folder. Raises :class:`OSError` where there is none."""
    for place in PLACES:
        with suppress(OSError):
            found = os.stat(place)
            usable = (
                stat.S_ISDIR(found.st_mode) and found.st_mode & stat.S_ISVTX and os.access(place, os.W_OK | os.X_OK)
            )
            if usable and not is_shared(place):
                return place
    raise PermissionError(
        f"there is no folder for locks: {' or '.join(PLACES)} must be on a disk of this machine, writable and sticky"
    )


def _own_folders(place: str) -> list[str]:
    """This user's folders of locks there: one whose lock was ever held first, then by name. What others have made doesn't count."""
    found = [
        f"{place}/{name}"
        for name in os.listdir(place)
        if (match := _NAME.fullmatch(name)) and int(match[1]) == os.getuid() and _is_own_folder(f"{place}/{name}")
    ]
    return sorted(found, key=lambda folder: (not _was_held(folder), folder))


def _was_held(folder: str) -> bool:
    try:
        return os.lstat(f"{folder}/cores.lock").st_size > 0
    except OSError:
        return False


def _is_own_folder(path: str, closed_to: int = 0o022) -> bool:
    try:
        found = os.lstat(path)
    except OSError:
        return False
    return stat.S_ISDIR(found.st_mode) and found.st_uid == os.getuid() and not found.st_mode & closed_to


def locks_folder() -> Path:
    """The user's own folder of locks on this node; ``LQ_LOCKS`` chooses another one, for trying things out.

    Raises :class:`OSError` where there is none.
    """
    if given := os.environ.get("LQ_LOCKS"):
        with suppress(FileExistsError):
            os.mkdir(given, 0o711)
        if not _is_own_folder(given, 0o002):
            raise PermissionError(f"{given} is no folder of this user's alone")
        return Path(given)
    return all_locks_folders()[0]


def all_locks_folders() -> list[Path]:
    """Every folder that may have this user's locks, that of :func:`locks_folder` first: one, unless two were made at a time."""
    if os.environ.get("LQ_LOCKS"):
        return [locks_folder()]
    place = _place()
    while not (found := _own_folders(place)):
        made = tempfile.mkdtemp(prefix=f"lazy-quarry-{os.getuid()}-", dir=place)
        os.chmod(made, 0o711)
        # Somebody may have made one since we looked, and hold its locks: then theirs is the one. If both go, both try again.
        if _own_folders(place) != [made]:
            with suppress(OSError):  # somebody uses it
                os.rmdir(made)
            pause(random.uniform(0, PAUSE_S))
    return [Path(one) for one in found]


def former_folder() -> Path | None:
    """Where an earlier version has its locks, if that is the user's own; None when there is no such folder."""
    if os.environ.get("LQ_LOCKS"):
        return None
    base = next((place for place in _FORMER if os.access(place, os.W_OK)), None)
    path = f"{base}/lazy-quarry-{os.getuid()}"
    return Path(path) if base and _is_own_folder(path) else None


class CoresLock:
    """The lock on this machine's cores for one state folder, held as long as an agent or supervisor of it lives."""

    def __init__(self, spool: Path) -> None:
        self.spool, self._fresh_at = str(spool), time.monotonic()
        self._single: list[int] = []
        """Files that say that an agent lives. Supervisors inherit only the others, so a killed agent can be replaced."""
        self._cores: list[int] = []
        try:
            self._take_all()
        except BaseException:
            for fd in (*self._single, *self._cores):
                os.close(fd)
            raise
        with suppress(OSError):  # it is there for others alone
            text = json.dumps(vars(identify(os.getpid())))
            ours.write_whole(self.folder / NOTE, text, durable=False, mode=0o644)

    def _take_all(self) -> None:
        if former := former_folder():
            self._take(former)
        taken = set[Path]()
        # All of them are held: another may have been made by somebody who looked before this one was there.
        while rest := [folder for folder in all_locks_folders() if folder not in taken]:
            # Its maker takes it away again where somebody made another one at the same time: then look again.
            with suppress(FileNotFoundError):
                self._take(rest[0])
                taken.add(rest[0])
        self.folder = locks_folder()

    def _take(self, folder: Path) -> None:
        single = ours.opened(folder / "agent.lock", os.O_RDWR | os.O_CREAT)
        self._single.append(single)
        cores = ours.opened(folder / "cores.lock", os.O_RDWR | os.O_CREAT)
        self._cores.append(cores)
        holder = (ours.glance_json(folder / "cores.lock") or {}).get("spool", "another state folder")
        if not _locked(single, PATIENCE_S if holder == self.spool else GLANCE_S):
            raise CoresTaken(holder)
        if _locked(cores, 0.0 if holder == self.spool else GLANCE_S):
            os.ftruncate(cores, 0)
            os.pwrite(cores, json.dumps({"spool": self.spool}).encode(), 0)
        elif holder != self.spool:
            raise CoresTaken(holder)  # a job of that folder may live on without its agent, and holds this lock
        # Shared from here on: the next agent of this folder may join, and another folder's exclusive lock still fails.
        fcntl.flock(cores, fcntl.LOCK_SH)

    def leave_single(self) -> None:
        """In a new supervisor: close what says that an agent lives, and keep what says that jobs are left."""
        for fd in self._single:
            os.close(fd)

    def leave_cores(self) -> None:
        """In a process that runs no job: close that too."""
        for fd in self._cores:
            os.close(fd)

    def keep_fresh(self, claims: Iterable[str]) -> None:
        """Touch the folder, what is in it, and these claims now and then, so that nobody takes them for left over."""
        if time.monotonic() - self._fresh_at < FRESH_EVERY_S:
            return
        self._fresh_at = time.monotonic()
        own = [str(self.folder), *(f"{self.folder}/{name}" for name in os.listdir(self.folder))]
        for path in (*own, *claims):
            with suppress(OSError):
                os.utime(path, follow_symlinks=False)


def _locked(fd: int, within_s: float) -> bool:
    """Lock a file for this process alone; False when it could not be had in time."""
    until = time.monotonic() + within_s
    while True:
        try:
            fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            if time.monotonic() >= until:
                return False
            pause(PAUSE_S)
        else:
            return True


def cores_holder() -> str | None:
    """The spool whose agent or jobs have this node's cores for this user now; None when nobody has them."""
    for folder in (*_known_folders(), former_folder()):
        if folder is not None and _held(folder / "cores.lock"):
            found = (ours.glance_json(folder / "cores.lock") or {}).get("spool")
            if isinstance(found, str):
                return found
    return None


def _known_folders() -> list[Path]:
    try:
        return all_locks_folders()
    except OSError:
        return []


def _held(path: Path) -> bool:
    try:
        fd = ours.opened(path)
    except OSError:
        return False
    try:
        fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return True
    finally:
        os.close(fd)
    return False


def others_here() -> list[str]:
    """Names of other users whose agent runs on this node now, as they say: nobody divides the cores between users.

    It is a note that anybody can write of himself, so it is told and never in the way.
    """
    found = set()
    with suppress(OSError):
        place = _place()
        for name in os.listdir(place):
            known = _NAME.fullmatch(name)
            if known and int(known[1]) != os.getuid() and _says_it_runs(f"{place}/{name}", int(known[1])):
                with suppress(KeyError):
                    found.add(pwd.getpwuid(int(known[1])).pw_name)
    return sorted(found)


def _says_it_runs(folder: str, user: int) -> bool:
    """True when a note tells of a process that runs, and folder, note and process are one user's."""
    try:
        above = os.lstat(folder)
        fd = os.open(f"{folder}/{NOTE}", os.O_RDONLY | os.O_CLOEXEC | os.O_NOFOLLOW | os.O_NONBLOCK)
    except OSError:
        return False
    try:
        note = os.fstat(fd)
        if not stat.S_ISREG(note.st_mode) or {above.st_uid, note.st_uid} != {user}:
            return False
        said = json.loads(ours.read_from(fd, _MOST_NOTE, folder))
        pid, ticks = int(said["pid"]), int(said["ticks"])
        return pid > 0 and os.stat(f"/proc/{pid}").st_uid == user and start_ticks(pid) == ticks
    except (OSError, ValueError, TypeError, KeyError, RecursionError):
        return False
    finally:
        os.close(fd)
