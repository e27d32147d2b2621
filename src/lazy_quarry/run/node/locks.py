"""The locks on this node's cores: one state folder of each user has them, as long as an agent or a job of it lives."""

from __future__ import annotations

import fcntl
import json
import os
import pwd
from contextlib import suppress
from pathlib import Path

from lazy_quarry.run.node.files import read_json

_PLACES = ("/run/lock", "/var/lock", "/var/tmp", "/tmp")
"""Folders that every user may write and that a logout leaves alone, the best first."""


def locks_folder() -> Path:
    """The user's own folder of locks on this node; ``LQ_LOCKS`` chooses another one, for trying things out.

    Raises :class:`OSError` where there is none.
    """
    given = os.environ.get("LQ_LOCKS")
    if given:
        folder = Path(given)
    else:
        base = next(place for place in _PLACES if os.access(place, os.W_OK))
        folder = Path(base) / f"lazy-quarry-{os.getuid()}"
    folder.mkdir(mode=0o711, exist_ok=True)
    if folder.stat().st_uid != os.getuid():
        raise PermissionError(f"{folder} belongs to somebody else")
    return folder


class CoresTaken(Exception):
    """Another state folder's jobs have this machine's cores."""


class CoresLock:
    """The lock on this machine's cores for one state folder, held as long as an agent or supervisor of it lives."""

    def __init__(self, spool: Path) -> None:
        folder = locks_folder()
        self.single = os.open(folder / "agent.lock", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        # Others may read, and so lock, this one: that is how they see that its cores are in use.
        self.cores = os.open(folder / "cores.lock", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o644)
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


def cores_holder() -> str | None:
    """The spool whose agent or jobs have this node's cores for this user now; None when nobody has them."""
    try:
        folder = locks_folder()
    except OSError:
        return None
    if not _held(f"{folder}/cores.lock"):
        return None
    found = (read_json(folder / "cores.lock") or {}).get("spool")
    return found if isinstance(found, str) else None


def others_here() -> list[str]:
    """Names of other users whose jobs use this node's cores now: nobody divides the cores between users."""
    found = []
    for place in {os.path.realpath(place) for place in _PLACES}:
        with suppress(OSError):
            for name in os.listdir(place):
                user = name.removeprefix("lazy-quarry-")
                if (
                    user != name
                    and user.isdecimal()
                    and int(user) != os.getuid()
                    and _held(f"{place}/{name}/cores.lock")
                ):
                    with suppress(KeyError):
                        found.append(pwd.getpwuid(int(user)).pw_name)
    return sorted(set(found))


def _held(path: str) -> bool:
    try:
        fd = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    except OSError:
        return False
    try:
        fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return True
    finally:
        os.close(fd)
    return False
