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


class FolderLock:
    """An exclusive lock on a file of the folder, held as long as the process lives or until released."""

    def __init__(self, folder: Path, name: str, wait: bool) -> None:
        """Raises :class:`BlockingIOError` when it is taken and ``wait`` is false."""
        try:
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            self._fd = os.open(folder / name, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
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
