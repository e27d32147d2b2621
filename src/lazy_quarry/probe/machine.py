"""This machine as a site, found without configuration."""

import os
import platform
import re
import shutil
import tempfile
from pathlib import Path

import platformdirs
import psutil

from lazy_quarry.core.site import Account, Node, Queue, Site, StorageArea, Tier
from lazy_quarry.core.units import DAY_MS, format_size
from lazy_quarry.probe.modules import of_this_machine
from lazy_quarry.probe.zone import local_zone_name
from lazy_quarry.run.node.groups import memory_left_mib

QUEUE, TIER, TRIAL = "here", "steady", "trial"
_OVER_NETWORK = ("nfs", "nfs4", "cifs", "smb3", "fuse.sshfs", "afs", "9p")
"""File systems that don't stand heavy reading and writing by many."""


def user_name(uid: int | None = None) -> str:
    """The name of a user of this machine by number; without one, of the person who runs this process."""
    import pwd

    number = os.getuid() if uid is None else uid
    try:
        return pwd.getpwuid(number).pw_name
    except KeyError:
        return f"user{number}"


def groups_of(uid: int, gid: int) -> tuple[str, ...]:
    """The names of a user's groups on this machine; ``gid`` is the one that their process has."""
    import grp

    found = list[str]()
    for number in dict.fromkeys((gid, *os.getgrouplist(user_name(uid), gid))):
        try:
            found.append(grp.getgrgid(number).gr_name)
        except KeyError:
            found.append(f"group{number}")
    return tuple(found)


def core_numbers() -> list[int]:
    """The processors that this program may use, in order; a job's core k is the k-th of them."""
    return sorted(os.sched_getaffinity(0))


def memory_mib() -> int:
    """Memory of the machine, or what a control group above this process leaves of it."""
    return memory_left_mib(psutil.virtual_memory().total // 2**20)


def examples_folder() -> Path:
    """Where a person keeps scripts to begin from, on this machine."""
    return platformdirs.user_config_path("lazy-quarry") / "examples"


def storage() -> tuple[StorageArea, ...]:
    """The storage areas of this machine: home, the folder for temporary files, and network mounts."""
    mounts = {one.mountpoint: one.fstype for one in psutil.disk_partitions(all=True)}
    paths = dict.fromkeys((str(Path.home()), tempfile.gettempdir()))
    paths |= dict.fromkeys(point for point, kind in mounts.items() if kind in _OVER_NETWORK)
    found = []
    for path in paths:
        try:
            free = shutil.disk_usage(path).free // 2**20
        except OSError:
            continue
        under = [point for point in mounts if path == point or path.startswith(f"{point.rstrip('/')}/")]
        network = mounts.get(max(under, key=len, default=""), "") in _OVER_NETWORK
        found.append(StorageArea(path, f"{format_size(free)} free", shared=network, heavy=not network))
    return tuple(found)


def _free_mib(path: Path) -> int:
    """Free space where a path lies, or would lie."""
    while not path.exists():
        path = path.parent
    return shutil.disk_usage(path).free // 2**20


def this_machine() -> Site:
    """One node, one queue, one account: what this machine has, for the user at it."""
    name = re.sub(r"[^A-Za-z0-9._-]", "-", platform.node().split(".")[0]) or "here"
    cores = len(core_numbers())
    memory = memory_mib()
    scratch = _free_mib(Path.home())
    node = Node(name, cores, memory, scratch_mib=scratch)
    queue = Queue(
        QUEUE,
        (name,),
        walltime_limit_s=30 * DAY_MS // 1000,
        walltime_default_s=3600,
        memory_default_mib=max(64, min(2048, memory // cores * 8 // 10)),
    )
    user = user_name()
    return Site(
        name=name,
        kind="machine",
        nodes=(node,),
        queues=(queue,),
        accounts=(Account(user),),
        tiers=(Tier(TIER, note="the usual"), Tier(TRIAL, walltime_limit_s=1800, note="short tries")),
        default_queue=QUEUE,
        default_tier=TIER,
        software=of_this_machine(),
        storage=storage(),
        examples=str(examples_folder()),
        trial=TRIAL,
        host=platform.node(),
        head=user,
        zone=local_zone_name(),
    )
