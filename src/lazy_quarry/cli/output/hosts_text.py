"""Hosts as they were found: text for people, and JSON."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

from lazy_quarry.core.units import exact_duration, format_bytes, format_instant, format_size, off_words, plural
from lazy_quarry.run.node.kept_here import SCRATCH

if TYPE_CHECKING:
    from lazy_quarry.run.hosts.check import HostCheck
    from lazy_quarry.run.runner import HostState, KeptThere
    from lazy_quarry.site.site_file.host_edits import FoundHost
    from lazy_quarry.site.site_file.sites import KnownSite
    from lazy_quarry.views.board import Board, NodeView

_HEAD = ("host", "reached", "python", "agent", "cores", "memory", "GPUs", "limits", "free", "clock")
_RIGHT = (1, 4, 5, 6, 8, 9)
"""Columns of numbers."""


def hosts_lines(found: Sequence[HostCheck]) -> Iterator[str]:
    """A table of those that were reached, then what is in the way and what is good to know, host by host."""
    reached = [each for each in found if each.reached_ms is not None]
    if reached:
        yield from _table([_HEAD, *(_row(each) for each in reached)], _RIGHT)
        yield from _folders(reached)
    for each in found:
        for problem in each.problems:
            yield f"{each.host}: {problem}"
    for each in reached:
        for note in each.notes:
            yield f"{each.host}: note: {note}"
    well = sum(not each.problems for each in found)
    yield f"{well} of {plural(len(found), 'host')} ready for jobs"


def _table(rows: Sequence[tuple[str, ...]], right: Sequence[int]) -> Iterator[str]:
    widths = [max(len(row[column]) for row in rows) for column in range(len(rows[0]))]
    for row in rows:
        cells = [
            cell.rjust(width) if at in right else cell.ljust(width)
            for at, (cell, width) in enumerate(zip(row, widths, strict=True))
        ]
        yield "  ".join(cells).rstrip()


def _row(each: HostCheck) -> tuple[str, ...]:
    facts = each.facts
    memory = facts["memory_mib"]
    return (
        each.host,
        f"{each.reached_ms:,} ms",
        facts["python"],
        ", ".join(facts["agents"]) or "none yet",
        str(facts["cores"]),
        "?" if memory is None else format_size(memory),
        str(len(facts["gpus"])) if facts["gpus"] else "–",
        "groups" if facts["groups"] else "watched",
        format_size(facts["free_mib"]),
        off_words(each.offset_ms or 0),
    )


def _folders(reached: Sequence[HostCheck]) -> Iterator[str]:
    """Each folder of this machine, with the hosts that see it."""
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
            "reaches": each.reaches,
            **({"facts": each.facts} if each.facts else {}),
        }
        for each in found
    ]


# -- the site's own hosts -------------------------------------------------------------------------


def host_list_lines(board: Board, found: Sequence[HostState]) -> Iterator[str]:
    """A table of the site's hosts, then what is in the way."""
    if not found:
        yield "this site has no hosts; lq hosts check NAME looks at one, lq hosts add NAME makes it a node"
        return
    nodes = {node.name: node for node in board.nodes}
    head = ("node", "host", "state", "cores", "jobs", "others", "clock", "limits", "version")
    yield from _table([head, *(_state_row(each, nodes.get(each.node), board) for each in found)], (3, 4, 5, 6))
    for each in found:
        if each.problem:
            yield f"{each.node}: {each.problem}"


def _state_row(each: HostState, node: NodeView | None, board: Board) -> tuple[str, ...]:
    ours = sum(len(one.cores) for one in node.occupants) if node is not None else 0
    return (
        each.node,
        each.host,
        state_words(each, node, board.now_ms),
        f"{ours}/{node.cores}" if node is not None else "–",
        str(len(node.occupants)) if node is not None else "–",
        "–" if each.busy is None or node is None else f"{board.others_on(node):.1f}",
        "–" if each.ahead_ms is None else off_words(each.ahead_ms),
        "groups" if each.groups else "watched" if each.version else "–",
        each.version or "–",
    )


def state_words(each: HostState, node: NodeView | None, now_ms: int) -> str:
    """Say in a few words how a host is."""
    if each.quiet_since_ms is not None:
        return f"quiet for {exact_duration(max(0, now_ms - each.quiet_since_ms) // 1000)}"
    if node is not None and node.closed:
        since = node.closed_since_ms
        return "closed" if since is None else f"closed for {exact_duration(max(0, now_ms - since) // 1000)}"
    return "answers" if each.answers else "being reached"


def host_list_json(board: Board, found: Sequence[HostState]) -> list[dict[str, Any]]:
    """For programs."""
    nodes = {node.name: node for node in board.nodes}
    told = []
    for each in found:
        node = nodes.get(each.node)
        told.append(
            {
                "node": each.node,
                "host": each.host,
                "answers": each.answers,
                "quiet_since": None if each.quiet_since_ms is None else format_instant(each.quiet_since_ms),
                "closed": (node.closed or None) if node is not None else None,
                "closed_since": format_instant(node.closed_since_ms)
                if node is not None and node.closed_since_ms
                else None,
                "jobs": [one.job for one in node.occupants] if node is not None else [],
                "clock_offset_ms": each.ahead_ms,
                "busy_cores": each.busy,
                "version": each.version or None,
                "python": each.python or None,
                "control_groups": list(each.groups),
                "folder": each.folder or None,
                "problem": each.problem or None,
            }
        )
    return told


def kept_lines(found: Sequence[KeptThere], now_ms: int) -> Iterator[str]:
    """What stays on hosts after jobs, each with its size, age and whose it is, and how to remove it."""
    if not found:
        yield "nothing is kept on hosts"
        return
    rows = [
        (one.node, one.name, format_bytes(one.bytes), exact_duration(max(0, now_ms - one.used_ms) // 1000), _of(one))
        for one in found
    ]
    yield from _table([("host", "name", "size", "age", "of"), *rows], (2, 3))
    yield f"{plural(len(found), 'item')}, {format_bytes(sum(one.bytes for one in found))}; lq hosts drop HOST NAME... removes them"


def _of(one: KeptThere) -> str:
    if one.job is not None:
        whose = f", {one.user}" if one.user else ""
        return f"{one.label or one.job}{whose}: not brought back yet"
    if one.name.startswith(SCRATCH):
        return f"the next run of {one.name.removeprefix(SCRATCH)}"
    return "the next job that takes it in"


def kept_json(found: Sequence[KeptThere]) -> list[dict[str, Any]]:
    """For programs."""
    return [
        {
            "node": one.node,
            "name": one.name,
            "bytes": one.bytes,
            "used": format_instant(one.used_ms),
            "job": one.job,
            "user": one.user or None,
        }
        for one in found
    ]


def added_line(one: FoundHost) -> str:
    """A host that was added, in a line."""
    what = [plural(one.cores, "core"), format_size(one.memory_mib)]
    what += [plural(one.gpus, "GPU")] if one.gpus else []
    return f"{one.node}: {', '.join(what)}" + (" (this machine)" if one.host == "local" else "")


def site_lines(found: Sequence[KnownSite]) -> Iterator[str]:
    """A table of a person's sites."""
    rows = [(each.name, "chosen" if each.chosen else "", str(each.file), str(each.state)) for each in found]
    yield from _table([("site", "", "site file", "state"), *rows], ())
