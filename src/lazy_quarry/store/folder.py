"""The state folder: where it is, and who may write it."""

import errno
import fcntl
import os
from pathlib import Path

from lazy_quarry.errors import StateFolderError
from lazy_quarry.files import ours, system
from lazy_quarry.files.file_systems import file_system, is_of_network

MACHINE = "machine"
"""The site that this machine is, where nobody chose another."""


def chosen_site() -> str:
    """The site that ``LQ_SITE`` names, which --site sets; else this machine's."""
    return os.environ.get("LQ_SITE") or MACHINE


def state_folder(site: str, given: str | None) -> Path:
    """The folder of a site's state: the one given, else ``LQ_STATE``, else the user's own for this site."""
    chosen = given or os.environ.get("LQ_STATE")
    if chosen:
        return Path(chosen).expanduser().absolute()
    return default_state(site)


def default_state(site: str) -> Path:
    """The user's own folder for a site's state."""
    import platformdirs  # not needed by commands that are told the folder

    return Path(platformdirs.user_state_dir("lazy-quarry", appauthor=False)) / site


def make_folder(folder: Path) -> None:
    """Make the folder if it isn't there; only its owner may look into it, also if it was there before.

    Raises :class:`StateFolderError` for one on a network file system.
    """
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    kind = file_system(folder)
    if is_of_network(kind):
        raise StateFolderError(
            f"{folder} is on a network file system ({kind}), where neither locks nor the journal's files can be relied on; "
            f"choose a folder on a disk of this machine with --state or LQ_STATE"
        )
    if folder.stat().st_uid == os.getuid():
        folder.chmod(folder.stat().st_mode & ~0o077)


class FolderLock:
    """An exclusive lock on the folder, or a file of it, held as long as the process lives or until released.

    That on the folder itself can't be lost by removing a file.
    """

    def __init__(self, folder: Path, name: str, wait: bool) -> None:
        """Raises :class:`BlockingIOError` when it is taken and ``wait`` is false. An empty name is the folder itself."""
        try:
            make_folder(folder)
            if name:
                self._fd = ours.opened(folder / name, os.O_RDWR | os.O_CREAT)
            else:
                self._fd = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
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


def holder_of(folder: Path) -> int | None:
    """The process that has locked a folder, as proc(5) tells it; None when that is not known."""
    try:
        found = os.stat(folder)
        mark = f"{os.major(found.st_dev):02x}:{os.minor(found.st_dev):02x}:{found.st_ino}"
        lines = [line.split() for line in system.read_text("/proc/locks").splitlines()]
    except OSError:
        return None
    return next((int(line[4]) for line in lines if len(line) > 5 and line[1] == "FLOCK" and line[5] == mark), None)
