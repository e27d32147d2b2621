"""Sentences about the books, the same in the application and on the command line."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from lazy_quarry.core.ledger.budgets import FOR_EVER
from lazy_quarry.core.units import DAY_MS, core_hours_apart, day_words, format_core_hours, format_duration, plural

if TYPE_CHECKING:
    from lazy_quarry.core.ledger.accounts import AccountLine
    from lazy_quarry.core.ledger.burn import BudgetEnd
    from lazy_quarry.core.ledger.report import Report, ShareLine, SizeRow, WasteRow
    from lazy_quarry.views.draft_view import DraftReport
    from lazy_quarry.views.study_view import StudyView


def end_day(days: float | None, now_ms: int) -> str:
    """The day so many days from now: ``25 Apr``, with its year when that is another."""
    if days is None:
        return "in years"
    day, today = (datetime.fromtimestamp((now_ms + days_ * DAY_MS) / 1000, UTC) for days_ in (days, 0.0))
    return f"{day.day} {day:%b}" if day.year == today.year else f"{day.day} {day:%b %Y}"


def as_tree(lines: Sequence[AccountLine]) -> list[tuple[int, AccountLine]]:
    """Accounts with those under them beneath each, and how deep each is."""
    known = {line.account for line in lines}
    beneath: dict[str, list[AccountLine]] = {}
    for line in lines:
        parent = line.told.parent if line.told and line.told.parent in known else ""
        beneath.setdefault(parent, []).append(line)
    found: list[tuple[int, AccountLine]] = []

    def add(parent: str, depth: int) -> None:
        for line in beneath.get(parent, ()):
            found.append((depth, line))
            add(line.account, depth + 1)

    add("", 0)
    return found


def term_words(line: AccountLine) -> str:
    """For when an account's budget is: ``each quarter, until 31 Mar``; empty for ever."""
    if line.budget is None or line.told is None:
        return ""
    term, told = line.budget.term, line.told
    last = day_words(term.end_ms - DAY_MS) if term.end_ms < FOR_EVER else ""
    if not term.periods:
        return (
            f"from {day_words(term.end_ms)} on" if last else f"until {day_words(term.begin_ms - DAY_MS)}, which is over"
        )
    if told.budget_each and told.carries_over:
        since = f"{plural(term.periods, told.budget_each)} since {day_words(term.begin_ms)}"
        return f"{since}, what is left carried over; anew after {last}"
    if told.budget_each:
        return f"each {told.budget_each}, now until {last}"
    begin = f"from {day_words(term.begin_ms)} " if term.begin_ms else ""
    return f"{begin}until {last}" if last else begin.rstrip()


def at_end_words(line: AccountLine) -> str:
    """Say what happens when an account's budget is used up."""
    if line.told is not None and line.told.at_end == "give-way":
        return "after that only tiers that give way may charge it"
    return "after that no job that is charged to it starts"


def cost_words(report: DraftReport) -> str:
    """``32 cores × 2h 30m = at most 80.0 core-hours``, with for what they count where that is more, and the tier's factor."""
    cost, shape = report.cost, report.shape
    cores = plural(shape.cores, "core")
    if cost.counts != shape.cores * 1000:
        cores += f" that count as {cost.counts / 1000:,.4g}"
    tasks = f"{plural(shape.tasks, 'task')} × " if shape.tasks else ""
    factor = f" × {cost.factor_permille / 1000:g}" if cost.factor_permille != 1000 else ""
    most, _ = amounts_of(report)
    lasting = f"({format_duration(shape.walltime_s)} + {format_duration(shape.grace_s)} grace)"
    return f"{tasks}{cores} × {lasting if shape.grace_s else format_duration(shape.walltime_s)}{factor} = at most {most} core-hours"


def waits_words(median_s: float, p95_s: float) -> str:
    """Word the waits of jobs: ``half at most 4m, 19 in 20 at most 2h``, ``nobody waited``."""
    if p95_s < 0.5:
        return "nobody waited"
    first = f"half at most {format_duration(median_s, 1)}" if median_s >= 0.5 else "half at once"
    return f"{first}, 19 in 20 at most {format_duration(p95_s, 1)}"


def amounts_of(report: DraftReport) -> tuple[str, str]:
    """The greatest charge of a draft and what its account has left, as core-hours that can be told apart; no limit: empty."""
    cost = report.cost
    if cost.left_core_ms is None:
        return format_core_hours(cost.most_core_ms), ""
    most, left = core_hours_apart(cost.most_core_ms, cost.left_core_ms)
    return most, left


def study_words(view: StudyView) -> str:
    """Word the subject of a study: ``4,108 jobs since 30 Jan 2027, with walltime=2x``."""
    otherwise = f", with {', '.join(view.settings)}" if view.settings else ""
    return f"{plural(view.jobs, 'job')} since {day_words(view.since_ms)}{otherwise}"


def size_words(row: SizeRow) -> str:
    """``1 core``, ``2 to 4``, ``257 and more``."""
    if row.most is None:
        return f"{row.least} and more"
    return plural(row.least, "core") if row.least == row.most else f"{row.least} to {row.most}"


def share_words(line: ShareLine) -> str:
    """``33% is its target and 41% it had, for which its jobs get 5h 24m of the 12h of priority that no use at all gives``."""
    ahead, most = (format_duration(round(hours * 3600)) for hours in (line.ahead_h, line.most_ahead_h))
    told = f"{line.target:.0%} is its target and {line.used:.0%} it had"
    return f"{told}, for which its jobs get {ahead} of the {most} of priority that no use at all gives"


def advised_words(row: WasteRow, user: str) -> str:
    """Say what the advice would have saved of it, and for this user's own how to read that; empty where it would change nothing."""
    if row.advised_core_ms <= 0:
        return ""
    how = f" (lq advise {row.name})" if row.user == user else ""
    return f"about {format_core_hours(row.advised_core_ms)} less as advised{how}"


def change_words(found: Report) -> str:
    """Word the change of charges from the period before: ``8% less``; empty where nothing was charged then."""
    before = found.before.sums.charged_core_ms if found.before is not None else 0
    now = found.total.sums.charged_core_ms
    if not before:
        return ""
    return f"{abs(now / before - 1):.0%} {'more' if now >= before else 'less'}"


def outlasts(end: BudgetEnd, line: AccountLine, now_ms: int) -> bool:
    """True when a budget most likely lasts to the end of its term."""
    if line.budget is None or line.budget.term.end_ms >= FOR_EVER:
        return False
    return end.likely_days is None or now_ms + end.likely_days * DAY_MS >= line.budget.term.end_ms


def ends_word(end: BudgetEnd | None, line: AccountLine, now_ms: int) -> str:
    """When a budget ends, in a word or two: ``25 Apr``; ``enough`` to the end of its term; empty where nobody knows."""
    if end is None:
        return ""
    return "enough" if outlasts(end, line, now_ms) else end_day(end.likely_days, now_ms)


def end_words(end: BudgetEnd, line: AccountLine, now_ms: int) -> str:
    """``used as in the last 30 days (3,413 core-hours a day), it ends about 25 Apr; 8 times in 10 between 15 Apr and 9 May``."""
    rate = f"used as in the last 30 days ({format_core_hours(round(end.daily_core_ms))} core-hours a day)"
    if end.likely_days is None:
        return f"{rate}, it is enough for years"
    early = end_day(end.early_days, now_ms)
    if outlasts(end, line, now_ms) and line.budget is not None:
        last = line.budget.term.end_ms - DAY_MS
        risk = end.early_days is not None and now_ms + end.early_days * DAY_MS < last
        return f"{rate}, it is enough until its term ends on {day_words(last)}" + (
            f"; 1 time in 10 it ends before {early}" if risk else ""
        )
    range_ = f"8 times in 10 between {early} and {end_day(end.late_days, now_ms)}"
    if end.late_days is None:
        range_ = f"9 times in 10 not before {early}"
    return f"{rate}, it ends about {end_day(end.likely_days, now_ms)}; {range_}"
