"""This machine, as a paper names it."""

import platform
from contextlib import suppress
from functools import cache

from lazy_quarry.core.job.host import Host
from lazy_quarry.files import system


@cache
def this_host() -> Host:
    """Its name, kernel and processor; read once."""
    found = platform.uname()
    return Host(found.node, f"{found.system} {found.release}", _processor() or found.machine)


def _processor() -> str:
    with suppress(OSError):
        for line in system.read_text("/proc/cpuinfo").splitlines():
            name, _, value = line.partition(":")
            if name.strip() in ("model name", "Model", "cpu model") and value.strip():
                return " ".join(value.split())
    return ""
