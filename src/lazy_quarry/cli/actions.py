"""What the commands do, apart from parsing and printing."""

import os
import re
import shlex
import sys
import time
from collections.abc import Iterable, Iterator
from datetime import UTC, tzinfo
from pathlib import Path
from typing import Literal

from lazy_quarry.core.advice.next_request import advise
from lazy_quarry.core.header.check import Outside, check_script, decode_script
from lazy_quarry.core.header.diagnostic import Diagnostic, error
from lazy_quarry.core.units import (
    clock_time,
    fold_names,
    format_bytes,
    format_core_hours,
    format_duration,
    format_size,
    parse_duration,
    parse_instant,
    plural,
)
from lazy_quarry.errors import BadValue, EngineAway, QuarryError
from lazy_quarry.link.client import SiteClient
from lazy_quarry.probe.machine import this_machine, user_name
from lazy_quarry.probe.script import looked_up
from lazy_quarry.site.sentences import ordinal, ran, standing_words, state_words, storage_words, verdict
from lazy_quarry.site.views import Board, DraftReport, JobDetail, JobView, OutputChunk, RoomView, Submission


def read_script(path: str) -> str:
    """A script's text. Raises :class:`BadValue` saying what is wrong with the file."""
    try:
        raw = sys.stdin.buffer.read() if path == "-" else Path(path).read_bytes()
    except FileNotFoundError:
        raise BadValue("there is no such file") from None
    except IsADirectoryError:
        raise BadValue("it is a folder, not a script") from None
    except OSError as fault:
        raise BadValue(f"it cannot be read: {fault.strerror}") from None
    return decode_script(raw)


def write_pieces(path: str, pieces: Iterable[str]) -> None:
    """Write all of it to a file, or nothing: it takes the place of an older one only when it is whole."""
    beside = Path(f"{path}.part")
    try:
        with beside.open("w", encoding="utf-8", newline="") as out:
            out.writelines(pieces)
        os.replace(beside, path)
    except OSError as fault:
        beside.unlink(missing_ok=True)
        raise QuarryError(f"{path} cannot be written: {fault.strerror}") from None


def check_files(paths: list[str], overrides: list[str]) -> tuple[list[tuple[str, list[Diagnostic]]], bool]:
    """What is to be said of each file, and whether any must change."""
    site, user = this_machine(), user_name()
    found, refused = [], False
    for path in paths:
        try:
            text = read_script(path)
        except BadValue as fault:
            found.append((path, [error("unreadable", str(fault), 1)]))
            refused = True
            continue
        looked = looked_up(Submission(text, path, os.getcwd(), tuple(overrides), (), tuple(os.environ.items())))
        outside = Outside(
            user, path, os.getcwd(), tuple(overrides), findings=looked.findings, surroundings=looked.surroundings
        )
        checked = check_script(text, site, outside)
        found.append((path, list(checked.diagnostics)))
        refused = refused or checked.refused
    return found, refused


def submission_of(script: str, arguments: list[str], command: list[str], overrides: list[str]) -> Submission:
    """What is to be submitted, with where it comes from. Raises :class:`QuarryError` when it cannot be read."""
    environment = tuple(os.environ.items())
    directory = os.getcwd()
    if command:
        line = shlex.join(command) if len(command) > 1 else command[0]
        first = os.path.basename(line.split()[0]) if line.strip() else ""
        name = re.sub(r"[^A-Za-z0-9._-]+", "", first)[:64] or "command"
        text = f'#!/bin/sh\n# /// job\n# name = "{name}"\n# ///\n{line}\n'
        return looked_up(Submission(text, "", directory, tuple(overrides), (), environment))
    try:
        text = read_script(script)
    except BadValue as fault:
        raise QuarryError(f"{script}: {fault}") from None
    path = "" if script == "-" else os.path.abspath(script)
    return looked_up(Submission(text, path, directory, tuple(overrides), tuple(arguments), environment))


def since_ms(text: str) -> int:
    """An instant, or a duration before now. Raises :class:`BadValue`."""
    try:
        return int(time.time() * 1000) - 1000 * parse_duration(text)
    except BadValue:
        return parse_instant(text)


COLUMNS = {
    "job": lambda view, zone: view.label,
    "name": lambda view, zone: view.name,
    "state": lambda view, zone: f"{view.phase.sign} {view.phase}",
    "words": lambda view, zone: state_words(view, int(time.time() * 1000), zone),
    "user": lambda view, zone: view.user,
    "account": lambda view, zone: view.account,
    "queue": lambda view, zone: view.queue,
    "tier": lambda view, zone: view.tier,
    "cores": lambda view, zone: str(view.cores),
    "nodes": lambda view, zone: fold_names(view.nodes),
    "memory": lambda view, zone: format_size(view.memory_mib),
    "walltime": lambda view, zone: format_duration(view.walltime_s),
    "elapsed": lambda view, zone: format_duration(view.elapsed_s),
    "submitted": lambda view, zone: clock_time(view.submitted_ms, int(time.time() * 1000), zone),
    "charge": lambda view, zone: format_core_hours(view.charge_core_ms),
    "exit": lambda view, zone: "" if view.exit is None else str(view.exit),
    "why": lambda view, zone: view.why,
    "output": lambda view, zone: view.output,
}
_RIGHT = {"job", "cores", "charge", "exit"}


def jobs_table(views: list[JobView], columns: str, zone: tzinfo = UTC) -> list[str]:
    """Lines of a table; nothing is cut. Raises :class:`QuarryError` for a column that isn't there."""
    chosen = [name.strip() for name in (columns or "job,name,state,words,cores,queue,nodes").split(",")]
    for name in chosen:
        if name not in COLUMNS:
            raise QuarryError(f'there is no column "{name}"; there are {", ".join(COLUMNS)}')
    if not views:
        return ["no jobs"]
    rows = [[COLUMNS[name](view, zone) for name in chosen] for view in views]
    widths = [max(len(name), *(len(row[at]) for row in rows)) for at, name in enumerate(chosen)]
    lines = []
    for row in [chosen, *rows]:
        cells = zip(chosen, row, widths, strict=True)
        padded = [cell.rjust(width) if name in _RIGHT else cell.ljust(width) for name, cell, width in cells]
        lines.append("  ".join(padded).rstrip())
    return lines


def show_lines(detail: JobDetail, zone: tzinfo = UTC) -> list[str]:
    """A job for people: verdict, what was asked and used, where it prints, its record."""
    view = detail.view
    now = int(time.time() * 1000)
    lines = [f"{view.label} {view.name}   {view.phase.sign} {view.phase}, {state_words(view, now, zone)}"]
    if detail.verdict:
        lines.append(detail.verdict)
    if view.why:
        lines.append(f"Waits: {view.why}")
    if detail.instead:
        lines.append(detail.instead)
    took = format_duration(view.elapsed_s)
    used = f"{view.use.cpu_ms / 1000:.1f}s of CPU"
    lines += [
        "",
        f"  account    {view.account}, queue {view.queue}, tier {view.tier}",
        f"  walltime   {took} of {format_duration(view.walltime_s)}",
        f"  cores      {view.cores} on {fold_names(view.nodes) or 'no node yet'}, {used}",
        f"  memory     {format_size(view.use.memory_peak_mib)} at most, of {format_size(view.memory_mib)}",
        f"  read       {format_bytes(view.use.read_bytes)}, written {format_bytes(view.use.written_bytes)}",
        f"  charge     {format_core_hours(view.charge_core_ms)} core-hours",
        f"  output     {view.output}",
    ]
    if view.errors != view.output:
        lines.append(f"  errors     {view.errors}")
    lines += ["", *(f"  {clock_time(record.at_ms, now, zone)}  {record.what}" for record in detail.record)]
    return lines


def why_lines(detail: JobDetail) -> Iterator[str]:
    """What a job waits for, its standing, who is ahead, and what would help."""
    view, told = detail.view, detail.explained
    yield f"{view.label} {view.name}: {view.why}"
    if told is None:
        return
    for change in told.changes:
        settings = " ".join(f"--set {key}={shlex.quote(value)}" for key, value in change.set)
        yield f"{change.words}  (lazy-quarry change {view.label} {settings})"
    if told.place is None:
        return
    yield f"{ordinal(told.place)} in the queue, standing {standing_words(told.parts)}"
    for one in told.ahead:
        yield f"  {one.words}"


def follow_output(
    client: SiteClient, number: int, which: Literal["output", "errors"], follow: bool
) -> Iterator[OutputChunk]:
    """Pieces of what a job prints; with ``follow`` until it has ended."""
    at = 0
    while True:
        over = not follow or client.job(number).phase.final
        piece = client.output(number, which, at)
        while piece.text:
            yield piece
            at = piece.next_byte
            piece = client.output(number, which, at)
        if over:
            yield piece
            return
        time.sleep(0.2)


def wait_for(client: SiteClient, numbers: list[int]) -> Iterator[JobView]:
    """Each job as soon as it has ended. The engine may go and come back meanwhile."""
    left = dict.fromkeys(numbers)
    version, away = -1, 0
    while left:
        try:
            for number in list(left):
                view = client.job(number)
                if view.phase.final:
                    del left[number]
                    yield view
            away = 0
        except EngineAway:
            away += 1
            if away > 20:
                raise
            time.sleep(0.5)
        if left:
            version = client.changes(version, 1.0)


def trial_lines(view: JobView, walltime_s: int) -> Iterator[str]:
    """What a trial used of what is asked for, and what to ask for."""
    yield f"{view.label} {view.name}: {verdict(view)}"
    for one in advise(ran(view, walltime_s)):
        advice = (
            f'; ask for {one.key} = "{one.value}"' if one.value is not None else f"; {one.reason}" if one.reason else ""
        )
        yield f"  {one.key:<10}{one.used} of {one.asked}{advice}"


def _start_words(start_ms: int | None, now_ms: int, zone: tzinfo, refused: str = "") -> str:
    if start_ms is None:
        return refused or "no forecast"
    if start_ms <= now_ms:
        return "now"
    return f"{clock_time(start_ms, now_ms, zone)}, in {format_duration((start_ms - now_ms) / 1000)}"


def forecast_lines(report: DraftReport, zone: tzinfo) -> Iterator[str]:
    """Place, start and cost of a draft, for people."""
    if not report.cores:
        yield "the request cannot be made out; see the checks"
        return
    nodes = fold_names([one.node for one in report.placement]) or "no node"
    beyond = report.placed_nodes - len(report.placement)
    yield f"placed   {plural(report.ranks, 'rank')} of {plural(report.threads, 'thread')} on {nodes}" + (
        f" and {beyond} more" if beyond > 0 else ""
    )
    yield f"starts   {_start_words(report.start_ms, report.now_ms, zone)}"
    for rung in report.ladder:
        mark = "*" if rung.asked else " "
        start = _start_words(rung.start_ms, report.now_ms, zone, rung.refused)
        yield f"       {mark} {format_duration(rung.walltime_s):<12} {start}"
    for rung in report.fewer:
        what = f"{plural(rung.nodes, 'node')}, {plural(rung.ranks, 'rank')}"
        yield f"         {what:<20} {_start_words(rung.start_ms, report.now_ms, zone)}"
    for each in report.through:
        what = "as many as fit" if each.at_once is None else f"{each.at_once} at once"
        yield f"       {'*' if each.asked else ' '} {what:<20} all through {_start_words(each.last_ms, report.now_ms, zone)}"
    left = "" if report.left_core_ms is None else f" of {format_core_hours(report.left_core_ms)} left"
    yield f"costs    at most {format_core_hours(report.cost_core_ms)} core-hours{left}, charged to {report.account}"


def survey_lines(board: Board, rooms: list[RoomView], zone: tzinfo) -> Iterator[str]:
    """What there is, for people."""
    yield (
        f"{board.site}"
        + (f", head {board.head}" if board.head else "")
        + (f", ask {board.contact}" if board.contact else "")
    )
    for queue in board.queues:
        nodes = [node for node in board.nodes if queue.name in node.queues]
        free = sum(node.cores - node.cores_used for node in nodes if not node.closed)
        limit = f"at most {format_duration(queue.walltime_limit_s)}" if queue.walltime_limit_s else "no walltime limit"
        state = "open" if queue.open else "closed"
        yield f"queue {queue.name}: {state}, {free} of {sum(node.cores for node in nodes)} cores free, {limit}"
        for room in rooms:
            if room.queue == queue.name and room.cores:
                gpus = f", {plural(room.gpus, 'GPU')}" if room.gpus else ""
                where = plural(room.nodes, "node")
                cores = plural(room.cores, "core")
                yield f"  now for {format_duration(room.walltime_s):<4} {room.kind:<11} {cores} on {where}{gpus}"
    for node in board.nodes:
        closed = f", closed: {node.closed}" if node.closed else ""
        traits = f", {', '.join(node.traits)}" if node.traits else ""
        spare = f"{node.cores - node.cores_used} of {node.cores} cores free"
        yield f"node {node.name}: {spare}, {format_size(node.memory_mib)}{traits}{closed}"
    for node_ in board.closed_to_jobs:
        yield f"node {node_.name}: for logging in, no job runs there"
    for window in board.windows:
        begins, ends = (clock_time(at, board.now_ms, zone) for at in (window.begins_ms, window.ends_ms))
        yield f"ahead: {begins} to {ends} no jobs on {fold_names(window.nodes)}, {window.reason}"
    for line in board.accounts:
        if line.account in board.my_accounts:
            left = (
                "no limit" if line.left_core_ms is None else f"{format_core_hours(line.left_core_ms)} core-hours left"
            )
            yield f"account {line.account}: {left}"
    for tier in board.tiers:
        if not tier.users or board.user in tier.users:
            yield f"tier {tier.name}: charge ×{tier.charge_permille / 1000:g}" + (f", {tier.note}" if tier.note else "")
    for area in board.storage:
        yield f"storage {area.path}: {storage_words(area)}"
    for module in board.software:
        yield f"module {module.name}" + (f": {module.note}" if module.note else "")
