"""A site as text for people."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import tzinfo
from typing import TYPE_CHECKING

from lazy_quarry.core.units import clock_time, fold_names, format_core_hours, format_duration, format_size, plural
from lazy_quarry.wording.sentences import LEAST_BUSY, others_words, shut_words, site_words, storage_words

if TYPE_CHECKING:
    from lazy_quarry.views.board import Board
    from lazy_quarry.views.outcomes import RoomView


def survey_lines(board: Board, rooms: list[RoomView], zone: tzinfo) -> Iterator[str]:
    """A site for people."""
    yield site_words(board.site, board.now_ms, zone)
    for queue in board.site.queues:
        nodes = [node for node in board.nodes if queue.name in node.queues]
        free = sum(node.cores - node.cores_used for node in nodes if not node.shut)
        limit = f"at most {format_duration(queue.walltime_limit_s)}" if queue.walltime_limit_s else "no walltime limit"
        state = "open" if queue.open else "closed"
        yield f"queue {queue.name}: {state}, {free} of {plural(sum(node.cores for node in nodes), 'core')} free, {limit}"
        for room in rooms:
            if room.queue == queue.name and room.cores:
                gpus = f", {plural(room.gpus, 'GPU')}" if room.gpus else ""
                where = plural(room.nodes, "node")
                cores = plural(room.cores, "core")
                yield f"  now for {format_duration(room.walltime_s):<4} {room.kind:<11} {cores} on {where}{gpus}"
    for node in board.nodes:
        closed = f", {words}" if (words := shut_words(node, board.now_ms, zone)) else ""
        traits = f", {', '.join(node.traits)}" if node.traits else ""
        spare = f"{node.cores - node.cores_used} of {plural(node.cores, 'core')} free"
        yield f"node {node.name}: {spare}, {format_size(node.memory_mib)}{traits}{closed}"
    for node_ in board.site.login_nodes:
        yield f"node {node_.name}: for logging in, no job runs there"
    for window in board.site.windows:
        begins, ends = (clock_time(at, board.now_ms, zone) for at in (window.begins_ms, window.ends_ms))
        yield f"ahead: {begins} to {ends} no jobs on {fold_names(window.nodes)}, {window.reason}"
    if board.others_busy >= LEAST_BUSY:
        yield others_words(board.others_busy)
    shares = {one.account: one for one in board.person.shares} if len(board.accounts) > 1 else {}
    for line in board.accounts:
        if line.account in board.person.accounts:
            left = (
                "no limit" if line.left_core_ms is None else f"{format_core_hours(line.left_core_ms)} core-hours left"
            )
            share = shares.get(line.account)
            parts = f"; its part is {share.due:.0%}, lately it had {share.used:.0%} of what was used" if share else ""
            yield f"account {line.account}: {left}{parts}"
    for bound in board.person.limits:
        yield f"limit of {bound.kind} {bound.name}: {bound.in_use:,} of {bound.most:,} {bound.measure} in use"
    for tier in board.site.tiers:
        if not tier.users or board.person.user in tier.users:
            yield f"tier {tier.name}: charge ×{tier.charge_permille / 1000:g}" + (f", {tier.note}" if tier.note else "")
    for area in board.site.storage:
        yield f"storage {area.path}: {storage_words(area)}"
    for module in board.site.software:
        yield f"module {module.name}" + (f": {module.note}" if module.note else "")
