"""Use of an attempt, measured from /proc by its supervisor."""

from __future__ import annotations

import json
import os
import resource
import threading
from contextlib import suppress
from pathlib import Path
from typing import Any

from lazy_quarry.files import ours
from lazy_quarry.run.node.pause import pause
from lazy_quarry.run.node.process import (
    boottime,
    bytes_moved,
    cpu_ms,
    peak_mib,
    proportional_mib,
    resident_mib,
    wall_ms,
)

_MOST_SAMPLES = 240
_LIVE_EVERY_S = 1.0
_MOST_FILES, _MOST_WATCHED = 20_000, 5_000_000
"""Files that are counted at a job's end, and while it runs."""
_WATCH_EVERY_S, _WATCH_PART = 1.0, 20
"""Between two looks at a scratch folder pass so many seconds, or so many times what a look takes."""


class Measure:
    """Measures the processes below this one. ``live.json`` in the attempt's folder has the last values."""

    def __init__(self, folder: Path, memory_limit_mib: int, now: float) -> None:
        self.folder, self.memory_limit_mib = folder, memory_limit_mib
        self.peak_mib = 0
        self._samples: list[tuple[int, float, int]] = []
        """(instant in ms, cores busy, memory in MiB), for the graphs of a running job."""
        self._sample_every_ms = 0
        self._began = self._live_at = now
        self.scratch_mib = 0
        """The content of its scratch folder, where that is watched."""
        self._seen: tuple[float, int] = (0.0, 0)
        """When CPU time was last measured, and how much it was."""

    def memory_mib(self, processes: list[int]) -> int:
        """Memory of processes now. Shared pages are counted once where that decides about the limit."""
        memory = resident_mib(processes)
        # The exact sum makes the kernel walk every page table, so it is taken only where the answer decides.
        if memory > self.memory_limit_mib:
            memory = proportional_mib(processes) or memory
        self.peak_mib = max(self.peak_mib, memory)
        return memory

    def note_own_peaks(self, processes: list[int]) -> None:
        """Count the greatest memory that each process ever had by itself: between two looks it may have had more than at either."""
        self.peak_mib = max(self.peak_mib, max(map(peak_mib, processes), default=0))

    def write_live(self, processes: list[int], memory: int, now: float) -> None:
        """Write once a second what is in use."""
        if now - self._live_at < _LIVE_EVERY_S:
            return
        self._live_at = now
        self.note_own_peaks(processes)
        spent = cpu_ms(processes) + self.reaped_cpu_ms()
        before, spent_before = self._seen
        busy = max(0.0, (spent - spent_before) / 1000 / (now - before)) if before else 0.0
        self._seen = (now, spent)
        self._sample(busy, memory)
        read, written = self.bytes_moved(processes)
        live: dict[str, Any] = {
            "held_ms": round((now - self._began) * 1000),
            "cpu_ms": spent,
            "memory_mib": memory,
            "peak_mib": self.peak_mib,
            "busy": busy,
            "samples": self._samples,
            "read": read,
            "written": written,
            "scratch": self.scratch_mib,
        }
        with suppress(OSError):
            ours.write_whole(f"{self.folder}/live.json", json.dumps(live), durable=False)

    def _sample(self, busy: float, memory: int) -> None:
        """Keep a sample. When the list is full every second one goes, and from then on half as many are kept."""
        at = wall_ms()
        if self._samples and at - self._samples[-1][0] < self._sample_every_ms:
            return
        self._samples.append((at, round(busy, 2), memory))
        if len(self._samples) > _MOST_SAMPLES:
            del self._samples[1::2]
            self._sample_every_ms = max(2000, self._sample_every_ms * 2)

    def note_largest(self) -> None:
        """Count what the kernel saw of processes too short to be measured here."""
        largest = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss // 1024
        if largest > resident_mib([os.getpid()]) + 4:  # below that it is this process, before its child's exec
            self.peak_mib = max(self.peak_mib, largest)

    @staticmethod
    def reaped_cpu_ms() -> int:
        """CPU time of the processes that have ended."""
        reaped = resource.getrusage(resource.RUSAGE_CHILDREN)
        return round((reaped.ru_utime + reaped.ru_stime) * 1000)

    @staticmethod
    def bytes_moved(processes: list[int]) -> tuple[int, int]:
        """Bytes read and written: this process with all that it reaped, less its own, and those still there."""
        # The process's counters include its reaped children; the thread's own do not. The difference is what the job
        # moved.
        whole, own = bytes_moved("/proc/self/io"), bytes_moved(f"/proc/self/task/{os.getpid()}/io")
        read, written = max(0, whole[0] - own[0]), max(0, whole[1] - own[1])
        for pid in processes:
            more = bytes_moved(f"/proc/{pid}/io")
            read, written = read + more[0], written + more[1]
        return read, written

    def watch_scratch(self, folder: str) -> None:
        """Measure a folder again and again, in a thread: a disk that is slow keeps nothing else waiting."""

        def measure() -> None:
            while True:
                began = boottime()
                self.scratch_mib = folder_mib(folder, _MOST_WATCHED)
                pause(max(_WATCH_EVERY_S, _WATCH_PART * (boottime() - began)))

        threading.Thread(target=measure, daemon=True).start()


def folder_mib(folder: str, most: int = _MOST_FILES) -> int:
    """Space (MiB) of the files below a folder, rounded up to MiB; of very many files only the first are counted."""
    total, left, folders = 0, most, [folder]
    while folders and left > 0:
        with suppress(OSError), os.scandir(folders.pop()) as entries:
            for entry in entries:
                left -= 1
                with suppress(OSError):
                    if entry.is_dir(follow_symlinks=False):
                        folders.append(entry.path)
                    else:
                        total += entry.stat(follow_symlinks=False).st_blocks * 512
    return -(-total // 2**20)
