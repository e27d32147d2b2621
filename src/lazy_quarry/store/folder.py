"""The state folder: where it is, and who may write it."""

import errno
import fcntl
import os
from pathlib import Path

from lazy_quarry.errors import StateFolderError


def state_folder(site: str, given: str | None) -> Path:
    """The folder of a site's state: the one given, else ``LQ_STATE``, else the user's own for this site."""
    chosen = given or os.environ.get("LQ_STATE")
    if chosen:
        return Path(chosen).expanduser().absolute()
    import platformdirs  # not needed by commands that are told the folder

    return Path(platformdirs.user_state_dir("lazy-quarry", appauthor=False)) / site


NETWORK = ("nfs", "cifs", "smb", "fuse.sshfs", "lustre", "gpfs", "beegfs", "ceph", "glusterfs", "afs", "9p", "orangefs")
"""Beginnings of the names of file systems that several machines share."""


def make_folder(folder: Path) -> None:
    """Make the folder if it isn't there; only its owner may look into it, also if it was there before.

    Raises :class:`StateFolderError` for one on a network file system.
    """
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    kind = file_system(folder)
    if kind.startswith(NETWORK):
        raise StateFolderError(
            f"{folder} is on a network file system ({kind}), where neither locks nor the journal's files can be relied on; "
            f"choose a folder on a disk of this machine with --state or LQ_STATE"
        )
    if folder.stat().st_uid == os.getuid():
        folder.chmod(folder.stat().st_mode & ~0o077)


def file_system(folder: Path, table: str = "/proc/self/mountinfo") -> str:
    """The kind of file system that a folder is on, as proc(5) tells it; empty when that is unknown."""
    best, kind = "", ""
    path = f"{folder.resolve()}/"
    try:
        lines = Path(table).read_text().splitlines()
    except OSError:
        return ""
    for line in lines:
        left, _, right = line.partition(" - ")
        at = left.split()[4].encode().decode("unicode_escape").rstrip("/") + "/"
        if path.startswith(at) and len(at) >= len(best):
            best, kind = at, right.split()[0]
    return kind


class FolderLock:
    """An exclusive lock on the folder, or a file of it, held as long as the process lives or until released.

    That on the folder itself can't be lost by removing a file.
    """

    def __init__(self, folder: Path, name: str, wait: bool) -> None:
        """Raises :class:`BlockingIOError` when it is taken and ``wait`` is false. An empty name is the folder itself."""
        try:
            make_folder(folder)
            flags = os.O_RDWR | os.O_CREAT if name else os.O_RDONLY | os.O_DIRECTORY
            self._fd = os.open(folder / name, flags | os.O_CLOEXEC, 0o600)
        except OSError as fault:
            if fault.errno in (errno.EROFS, errno.EACCES, errno.EPERM):
                raise StateFolderError(
                    f"{folder} cannot be written ({fault.strerror}); choose another folder with --state or LQ_STATE"
                ) from None
            if fault.errno == errno.ENOSPC:
                raise StateFolderError(f"the disk that holds {folder} is full; make room there and try again") from None
            raise StateFolderError(f"{folder} cannot be used: {fault.strerror}") from None
        try:
            fcntl.flock(self._fd, fcntl.LOCK_EX | (0 if wait else fcntl.LOCK_NB))
        except BlockingIOError:
            os.close(self._fd)
            raise

    def release(self) -> None:
        """Release the lock."""
        os.close(self._fd)
