"""The folder of a cluster on the machine's own disk: its keys, what all its hosts share, and who keeps it."""

from __future__ import annotations

import json
import os
import shutil
from dataclasses import asdict, dataclass
from pathlib import Path

from cluster.errors import ClusterError

CHECKOUT = Path(__file__).resolve().parent.parent
CLUSTERS = Path(os.environ.get("LQ_CLUSTERS") or CHECKOUT / "build" / "cluster")
"""Where the clusters of this checkout are, a folder each."""


@dataclass(frozen=True)
class Process:
    """A process that is told from a later one with its number: by when it started, in the kernel's ticks."""

    pid: int
    started: int
    boot: str
    """The boot of the machine."""

    @classmethod
    def of(cls, pid: int) -> Process | None:
        """The process of that number that lives now."""
        try:
            fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
        except OSError:
            return None
        return (
            None
            if fields[0] in "ZX"
            else cls(pid, int(fields[19]), Path("/proc/sys/kernel/random/boot_id").read_text().strip())
        )

    @property
    def lives(self) -> bool:
        """True while it runs."""
        return Process.of(self.pid) == self


@dataclass(frozen=True)
class Kept:
    """Who keeps a cluster, as its file says: what must be ended and removed when a run of ours crashed."""

    watcher: Process
    outer: Process | None = None
    """The first process of the outer namespaces: with it all of the cluster ends."""
    groups: tuple[str, ...] = ()
    """Folders of control groups that were made for it."""
    owned: bool = False
    """It ends with the command that made it."""


@dataclass(frozen=True)
class Folder:
    """The folder of one cluster."""

    path: Path

    @property
    def shared(self) -> Path:
        """The folder that the head and all hosts see as /shared."""
        return self.path / "shared"

    @property
    def keys(self) -> Path:
        """SSH keys: the people's, and one of each host."""
        return self.path / "keys"

    @property
    def socket(self) -> Path:
        """Where the outer process takes what is asked of the cluster."""
        return self.path / "outer.sock"

    @property
    def ready(self) -> Path:
        """A file that is there when all hosts answer."""
        return self.path / "ready"

    @property
    def log(self) -> Path:
        """What went wrong, for whoever builds it."""
        return self.path / "log"

    @property
    def lock(self) -> Path:
        """Held while a cluster of these is made or removed; beside the folder, since that is removed."""
        return self.path.with_name(".lock")

    @property
    def _keeper(self) -> Path:
        return self.path / "cluster.json"

    def kept(self) -> Kept | None:
        """Who keeps the cluster of this folder; None where none was made. Raises ClusterError where its file can't be read."""
        try:
            told = json.loads(self._keeper.read_text())
            outer = told["outer"] and Process(**told["outer"])
            return Kept(Process(**told["watcher"]), outer, tuple(told["groups"]), told["owned"])
        except FileNotFoundError:
            return None
        except (OSError, ValueError, TypeError, KeyError) as wrong:
            raise ClusterError(
                f"{self._keeper} can't be read ({wrong}): look at what runs of this cluster, end it, and remove {self.path}"
            ) from wrong

    def keep(self, kept: Kept) -> None:
        """Write who keeps it, at once or not at all."""
        beside = self._keeper.with_suffix(".new")
        beside.write_text(json.dumps(asdict(kept), indent=1))
        os.replace(beside, self._keeper)

    def remove(self) -> None:
        """Remove the folder; what is there is never followed through links."""
        shutil.rmtree(self.path, ignore_errors=True)
