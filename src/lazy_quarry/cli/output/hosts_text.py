"""What was found of hosts, as text for people and as JSON."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

from lazy_quarry.core.units import exact_duration, format_size, plural

if TYPE_CHECKING:
    from lazy_quarry.run.hosts.check import HostCheck

_HEAD = ("host", "reached", "python", "cores", "memory", "GPUs", "free", "clock")
_RIGHT = (1, 3, 4, 5, 6, 7)
"""Columns of numbers."""


def hosts_lines(found: Sequence[HostCheck]) -> Iterator[str]:
    """A table of those that were reached, then what is in the way and what is good to know, host by host."""
    reached = [each for each in found if each.reached_ms is not None]
    if reached:
        rows = [_HEAD, *(_row(each) for each in reached)]
        widths = [max(len(row[column]) for row in rows) for column in range(len(_HEAD))]
        for row in rows:
            cells = [
                cell.rjust(width) if at in _RIGHT else cell.ljust(width)
                for at, (cell, width) in enumerate(zip(row, widths, strict=True))
            ]
            yield "  ".join(cells).rstrip()
        yield from _folders(reached)
    for each in found:
        for problem in each.problems:
            yield f"{each.host}: {problem}"
    for each in reached:
        for note in each.notes:
            yield f"{each.host}: note: {note}"
    well = sum(not each.problems for each in found)
    yield f"{well} of {plural(len(found), 'host')} ready for jobs"


def _row(each: HostCheck) -> tuple[str, ...]:
    facts = each.facts
    memory = facts["memory_mib"]
    return (
        each.host,
        f"{each.reached_ms:,} ms",
        facts["python"],
        str(facts["cores"]),
        "?" if memory is None else format_size(memory),
        str(len(facts["gpus"])) if facts["gpus"] else "–",
        format_size(facts["free_mib"]),
        _clock(each.offset_ms or 0),
    )


def _clock(offset_ms: int) -> str:
    if abs(offset_ms) < 1000:
        return "right"
    return f"{exact_duration(abs(offset_ms) // 1000)} {'ahead' if offset_ms > 0 else 'behind'}"


def _folders(reached: Sequence[HostCheck]) -> Iterator[str]:
    """Which hosts see each folder of this machine."""
    for folder in dict.fromkeys(folder for each in reached for folder in each.folders):
        by = [each.host for each in reached if each.folders.get(folder)]
        if len(by) == len(reached):
            yield f"{folder} is the same on all of them"
        else:
            yield f"{folder} is the same on {', '.join(by)} alone" if by else f"{folder} is seen by none of them"


def hosts_json(found: Sequence[HostCheck]) -> list[dict[str, Any]]:
    """For programs."""
    return [
        {
            "host": each.host,
            "reached": each.reached_ms is not None,
            "reached_ms": each.reached_ms,
            "problems": list(each.problems),
            "notes": list(each.notes),
            "clock_offset_ms": each.offset_ms,
            "folders": each.folders,
            **({"facts": each.facts} if each.facts else {}),
        }
        for each in found
    ]
