"""This machine as a site: found by itself, no configuration needed."""

import os
import platform
import re
import shutil
from pathlib import Path

import psutil

from lazy_quarry.core.site import Account, Node, Queue, Site, Tier
from lazy_quarry.core.units import DAY_MS

QUEUE, TIER = "here", "steady"


def user_name() -> str:
    """The person's name on this machine."""
    import pwd

    try:
        return pwd.getpwuid(os.getuid()).pw_name
    except KeyError:
        return f"user{os.getuid()}"


def core_numbers() -> list[int]:
    """The processors that this program may use, in order; a job's core k is the k-th of them."""
    return sorted(os.sched_getaffinity(0))


def memory_mib() -> int:
    """Memory of the machine, or what a control group above this process leaves of it."""
    total: int = psutil.virtual_memory().total
    for path in ("/sys/fs/cgroup/memory.max", "/sys/fs/cgroup/memory/memory.limit_in_bytes"):
        try:
            with open(path) as file:
                total = min(total, int(file.read()))
        except (OSError, ValueError):
            continue
    return total // 2**20


def this_machine() -> Site:
    """One node, one queue, one account: what this machine has, for the user at it."""
    name = re.sub(r"[^A-Za-z0-9._-]", "-", platform.node().split(".")[0]) or "here"
    cores = len(core_numbers())
    memory = memory_mib()
    scratch = shutil.disk_usage(Path.home()).free // 2**20
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
        tiers=(Tier(TIER),),
        default_queue=QUEUE,
        default_tier=TIER,
        head=user,
    )
