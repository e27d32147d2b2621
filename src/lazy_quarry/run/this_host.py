"""This machine, as a paper names it."""

import platform
from functools import cache

from lazy_quarry.core.job.host import Host
from lazy_quarry.run.node.groups import group_bases
from lazy_quarry.run.node.processor import processor_name


@cache
def this_host() -> Host:
    """Its name, kernel and processor; read once."""
    found = platform.uname()
    limits = "groups" if group_bases() else "watched"
    return Host(found.node, f"{found.system} {found.release}", processor_name() or found.machine, limits)
