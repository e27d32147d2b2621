"""Figures of jobs over time: when each waited, ran, may still run, and is expected."""

from collections.abc import Collection, Iterator, Sequence
from datetime import UTC, tzinfo

from lazy_quarry.core.job.phase import FAILING, Phase
from lazy_quarry.core.units import HOUR_MS, format_duration, plural
from lazy_quarry.draw.paint import MOST_ROWS
from lazy_quarry.draw.time_scale import source_words, time_scale
from lazy_quarry.draw.values import Bar, Figure, Lane, Lanes
from lazy_quarry.views.board import Board
from lazy_quarry.views.job_view import JobView
from lazy_quarry.wording.sentences import range_now


def lanes_figure(
    board: Board, views: Sequence[JobView], begin_ms: int, end_ms: int, zone: tzinfo = UTC, whose: str = ""
) -> Figure:
    """These jobs from one instant to another, from top to bottom."""
    shown = [view for view in views if _in_sight(view, board.now_ms, begin_ms, end_ms)]
    lanes = tuple(job_lane(view, board) for view in shown[:MOST_ROWS])
    told = f"{plural(len(shown), 'job')}{whose}"
    if len(shown) > MOST_ROWS:
        told += f", the first {MOST_ROWS} of them"
    used = {bar.role for lane in lanes for bar in lane.bars}
    return Figure(
        name="lanes",
        title=f"Jobs on {board.site.name} over {format_duration((end_ms - begin_ms) // 1000)}",
        note=told,
        panel=Lanes(time_scale(begin_ms, end_ms, board.now_ms, zone), lanes),
        source=source_words(board.site.name, board.now_ms, zone),
        legend=tuple((role, words) for role, words in LEGEND if role in used),
    )


LEGEND = (
    ("waited", "waited"),
    ("mine", "mine, running"),
    ("mine-rest", "may still run"),
    ("accounts", "my accounts', running"),
    ("accounts-rest", "may still run"),
    ("others", "others', running"),
    ("others-rest", "may still run"),
    ("expected", "expected by the plan"),
    ("past", "ran"),
    ("failed", "ran, and failed"),
    ("critical", "nothing may slip"),
)


def span_of(views: Collection[JobView], now_ms: int) -> tuple[int, int]:
    """From the first start to the last end that is known of these, an hour around the present at least."""
    begins, ends = [now_ms - HOUR_MS], [now_ms + HOUR_MS]
    for view in views:
        begins.append(view.started_ms if view.started_ms is not None else view.submitted_ms)
        ends += [at for _, at in _spans(view, now_ms)]
    return min(begins), max(ends)


def job_lane(view: JobView, board: Board) -> Lane:
    """One job on the axis, as Watch draws it."""
    owner = board.person.owner(view.user, view.account)
    return Lane(f"{view.label} {view.name}", tuple(_bars(view, owner, board.now_ms)), view.phase.value)


def _bars(view: JobView, owner: str, now: int) -> Iterator[Bar]:
    until = view.started_ms or view.ended_ms or now
    yield Bar(view.submitted_ms, min(until, now), "waited", 0.44, 0.12)
    if view.started_ms is not None:
        if view.phase is Phase.RUNNING:
            limit = view.started_ms + view.walltime_s * 1000
            if view.rows and view.forecast_ms is not None and view.forecast_end_ms is not None:
                limit = view.forecast_ms
                if view.forecast_end_ms > limit:
                    yield Bar(limit, view.forecast_end_ms, "expected")
            yield Bar(view.started_ms, now, owner)
            yield Bar(now, max(now, limit), f"{owner}-rest")
        elif view.ended_ms is not None:
            yield Bar(view.started_ms, view.ended_ms, "failed" if view.phase in FAILING else "past")
    elif view.forecast_ms is not None and view.forecast_end_ms is not None:
        if (ranged := range_now(view.range, now)) is not None:
            yield Bar(ranged.early_ms, ranged.late_ms, "expected", 0.4, 0.2)
        yield Bar(view.forecast_ms, view.forecast_end_ms - view.grace_s * 1000, "expected")


def _spans(view: JobView, now: int) -> list[tuple[int, int]]:
    return [(round(bar.begin), round(bar.end)) for bar in _bars(view, "mine", now)]


def _in_sight(view: JobView, now: int, begin: int, end: int) -> bool:
    return any(until >= begin and since <= end for since, until in _spans(view, now))
