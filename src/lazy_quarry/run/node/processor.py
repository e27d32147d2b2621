"""The processor of this machine, as a paper names it."""

from __future__ import annotations

from contextlib import suppress

from lazy_quarry.files import system


def processor_name() -> str:
    """Its name as the kernel tells it; empty where it tells none."""
    with suppress(OSError):
        for line in system.read_text("/proc/cpuinfo").splitlines():
            name, _, value = line.partition(":")
            if name.strip() in ("model name", "Model", "cpu model") and value.strip():
                return " ".join(value.split())
    return ""
