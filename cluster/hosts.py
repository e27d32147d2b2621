"""What the hosts are: four, unlike each other, and the people who have a home on each."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

PREFIX = "10.77.0"
"""The network of the cluster, inside its own namespace: nothing of it is reached from outside, and nothing outside from it."""
HEAD = "head"
HEAD_ADDRESS = f"{PREFIX}.1"
HEAD_ETHERNET = "02:00:00:00:00:01"
"""Of the head's network card, one of those that anybody may give (RFC 7042)."""
PEOPLE = {"root": 0, "imre": 13001, "salka": 13002, "tove": 13003}
"""Who has a home on the head and on each host, by name, with the number of the user: the same everywhere."""
HOMES = Path("/users")
DISK = Path("/disk")
"""A host's disk as it sees it: homes, /tmp and /var/tmp are folders of it."""
SHARED = Path("/shared")
DAY_S = 86_400


@dataclass(frozen=True)
class HostKind:
    """A host, as it is when nothing is wrong with it."""

    name: str
    address: str
    cores: tuple[int, ...]
    """The processors that it has, by the machine's numbers."""
    share: str
    """Which part of the machine's processors these are."""
    disk_mib: int
    shell: tuple[str, ...]
    """The login shell of everybody there; the first of them that is installed."""
    up_s: int
    """Seconds that it has been up when the cluster is made."""
    devices: tuple[str, ...] = ()
    """Ordinary files that stand where the device files of GPUs stand."""
    greets: bool = False
    """A login file there prints, on both streams."""

    @property
    def ethernet(self) -> str:
        """The address of its network card: a reboot doesn't change it."""
        return f"02:00:00:00:00:{int(self.address.rpartition('.')[2]):02x}"

    @property
    def login_shell(self) -> str:
        """The first shell that is installed, by its path."""
        return next((each for each in self.shell if os.path.exists(each)), "/bin/sh")


def _hosts() -> tuple[HostKind, ...]:
    cores = tuple(sorted(os.sched_getaffinity(0)))
    half = cores[: max(1, len(cores) // 2)]
    return (
        HostKind(
            "h1",
            f"{PREFIX}.11",
            cores,
            "all cores",
            256,
            ("/bin/bash",),
            41 * DAY_S,
            ("nvidia0", "nvidia1", "nvidiactl"),
        ),
        HostKind("h2", f"{PREFIX}.12", half, "half of the cores", 128, ("/bin/bash",), 3 * DAY_S, greets=True),
        HostKind(
            "h3",
            f"{PREFIX}.13",
            cores[-1:],
            "one core",
            128,
            ("/bin/tcsh", "/bin/csh"),
            9 * 3600,
            ("dri/renderD128", "dri/renderD129"),
        ),
        HostKind("h4", f"{PREFIX}.14", cores, "all cores", 24, ("/usr/bin/fish", "/bin/bash"), 17 * 60),
    )


HOSTS = _hosts()


def host_named(name: str) -> HostKind | None:
    """The host of that name, if there is one."""
    return next((each for each in HOSTS if each.name == name), None)
