"""The report of a period as a document: a summary in sentences, figures, tables, and how it was worked out."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import UTC, tzinfo
from typing import TYPE_CHECKING

from msgspec import Struct

from lazy_quarry.core.ledger.left import PAST
from lazy_quarry.core.ledger.report import ReportRow
from lazy_quarry.core.units import day_words, format_core_hours, format_duration, plural
from lazy_quarry.core.values import replace
from lazy_quarry.draw.figures.books_figures import burn_down_figure, over_time_figure
from lazy_quarry.draw.figures.reports_figures import rhythm_figure, waits_figure, waste_figure
from lazy_quarry.draw.pages.printed import Block, Drawn, Heading, Paragraph, Printed, Table
from lazy_quarry.draw.values import Figure
from lazy_quarry.errors import QuarryError
from lazy_quarry.wording.book_words import (
    at_end_words,
    change_words,
    end_words,
    share_words,
    size_words,
    term_words,
    waits_words,
)

if TYPE_CHECKING:
    from lazy_quarry.core.ledger.accounts import AccountLine
    from lazy_quarry.core.ledger.burn import BudgetEnd
    from lazy_quarry.core.ledger.report import BySize, OverTime, Report, Rhythm, ShareLine, Waste
    from lazy_quarry.link.site_client import SiteClient

MOST_ROWS = 18
METHOD = (
    "Core-hours are charged for what jobs hold: on each node the larger of the shares of its cores, memory "
    "and GPUs, times the node's size, with the factors that the site has for queues, traits and tiers. Used "
    "is the CPU time of attempts that came to something; idle is what these held beside; lost is all that "
    "attempts held which failed, were stopped at a limit, or whose node was lost. The three add up to what "
    "was held.",
    "Days are days of UTC. A job that ran over the edge of the period is divided there. A job counts as ended "
    "on the day on which it ended; an array waited until its first task started. Half of the jobs waited no "
    "longer than the median, 19 in 20 no longer than the value beside it.",
    "When a budget ends follows from what was charged in the last 30 days; the range holds 8 times in 10 if "
    "weeks go on to differ as they did. What would have been requested as advised follows from the runs "
    "themselves: bounds that one run in fifty passes.",
    "All sums can be recomputed from the journal of every start and end: lq ledger --verify.",
)


class Answers(Struct, frozen=True):
    """The answers of a site about a period."""

    site: str
    user: str
    now_ms: int
    where: Mapping[str, str]
    whole: Report
    """By name."""
    people: Report
    over: OverTime
    waits: BySize
    rhythm: Rhythm
    waste: Waste
    line: AccountLine | None = None
    """One account: its books, its late charges, its end, its share."""
    past: OverTime | None = None
    end: BudgetEnd | None = None
    share: ShareLine | None = None


def read_answers(client: SiteClient, period: str, where: Mapping[str, str]) -> Answers:
    """Ask a site for all that the report of a period tells. Raises :class:`QuarryError`."""
    chosen, board = dict(where), client.board()
    account = where.get("account", "")
    line = next((one for one in board.accounts if one.account == account), None)
    whole = client.report(period, ["name"], chosen)
    words = f"{whole.period.first} to {whole.period.last}"
    found = Answers(
        site=board.site.name,
        user=board.person.user,
        now_ms=board.now_ms,
        where=where,
        whole=whole,
        people=client.report(words, ["user" if account else "account"], chosen),
        over=client.over_time(words, "name" if where.get("user") else "user" if account else "account", chosen),
        waits=client.waits(words, chosen),
        rhythm=client.rhythm(words, chosen),
        waste=client.waste(words, chosen),
    )
    if line is None:
        return found
    return replace(
        found,
        line=line,
        past=client.over_time(PAST, "account", {"account": account}),
        end=client.budget_ends().get(account),
        share=next((one for one in client.shares() if one.account == account), None),
    )


def printed_report(found: Answers, zone: tzinfo = UTC, anonymous: bool = False) -> Printed:
    """The document. With ``anonymous`` other people's names are left out."""
    span, names = found.whole.period, _Names(found, anonymous)
    about = " and ".join(value for key, value in found.where.items() if key in ("account", "user", "queue", "name"))
    title = f"{names.told(about) if about else found.site}, {span.name}"
    made = day_words(found.now_ms, zone, form="%B %Y")
    blocks: list[Block] = [Paragraph(words) for words in _summary(found, names)]
    blocks += _drawn(lambda: over_time_figure(names.over(found.over), "", found.now_ms, zone))
    if found.line is not None and found.past is not None:
        line, past = found.line, found.past
        blocks += _drawn(lambda: burn_down_figure(line, past, found.end, "", found.now_ms, zone))
    blocks += [Heading("By person" if found.people.by[0] == "user" else "By account")]
    blocks.append(_table(found.people, names, found.people.by[0]))
    blocks += [Heading("By name"), _table(found.whole, names, "name")]
    blocks += [Heading("Waits and use"), *_drawn(lambda: waits_figure(found.waits, "", found.now_ms, zone))]
    if found.waits.rows:
        blocks.append(_sizes(found.waits))
    blocks += _drawn(lambda: rhythm_figure(found.rhythm, "", found.now_ms, zone))
    if found.waste.rows:
        blocks += [Heading("Requested and not used"), *(Paragraph(words) for words in _waste_words(found))]
        blocks += _drawn(lambda: waste_figure(found.waste, "", found.now_ms, zone))
        blocks.append(_waste(found.waste, names))
    blocks += [Heading("How it was worked out"), *(Paragraph(words) for words in METHOD)]
    subtitle = f"{span.span}. Cluster {found.site}, made {made} for {found.user}."
    return Printed(title, subtitle, tuple(blocks), f"{title} · cluster {found.site} · made by Lazy Quarry {made}")


class _Names:
    """People's names, or numbers in their place."""

    def __init__(self, found: Answers, anonymous: bool) -> None:
        self.known: dict[str, str] = {}
        if anonymous:
            rows = found.people.rows if found.people.by == ("user",) else ()
            users = [row.key[0] for row in rows] + [row.user for row in found.waste.rows]
            users += list(found.over.keys) if found.over.split == "user" else []
            others = [user for user in dict.fromkeys(users) if user != found.user]
            self.known = {user: f"person {number}" for number, user in enumerate(others, 1)}

    def told(self, name: str) -> str:
        return self.known.get(name, name)

    def over(self, found: OverTime) -> OverTime:
        return replace(found, keys=tuple(map(self.told, found.keys))) if found.split == "user" else found


def _summary(found: Answers, names: _Names) -> list[str]:
    total, span = found.whole.total, found.whole.period
    sums, more = total.sums, change_words(found.whole)
    if not sums.held_core_ms:
        return [f"Nothing was charged {span.when}."]
    when = f"{span.when[:1].upper()}{span.when[1:]}"
    charged = f"{when} {format_core_hours(sums.charged_core_ms)} core-hours were charged for {plural(sums.jobs, 'job')}"
    if more:
        charged += f", {more} than {span.moved(-1).when}"
    held = sums.used_core_ms + sums.idle_core_ms + sums.lost_core_ms
    went = ", ".join(
        f"{amount / max(1, held):.0%} was {word}"
        for word, amount in (("used", sums.used_core_ms), ("held idle", sums.idle_core_ms), ("lost", sums.lost_core_ms))
    )
    words = [f"{charged}. Of {format_core_hours(sums.held_core_ms)} core-hours that they held {went}."]
    if total.wait_median_s is not None and total.wait_p95_s is not None:
        waits = waits_words(total.wait_median_s, total.wait_p95_s)
        waited = "Nobody waited." if waits == "nobody waited" else f"They waited: {waits}."
        failed = (
            f" {sums.failed:,} of the jobs did not come to a good end." if sums.failed else " All came to a good end."
        )
        words.append(waited + failed)
    first = next(iter(found.people.rows), None)
    if first is not None and len(found.people.rows) > 1:
        part = first.sums.charged_core_ms / max(1, sums.charged_core_ms)
        words[-1] += f" Most was charged to {names.told(first.key[0])}, {part:.0%} of all."
    if found.line is not None and found.line.budget is not None and found.line.left_core_ms is not None:
        line, term = found.line, term_words(found.line)
        left = (
            f"{format_core_hours(found.line.left_core_ms)} of {format_core_hours(line.budget_core_ms or 0)} core-hours"
        )
        ends = f" {_capital(end_words(found.end, line, found.now_ms))}." if found.end is not None else ""
        words.append(f"Of the budget{f' ({term})' if term else ''} {left} are left; {at_end_words(line)}.{ends}")
    if found.share is not None and found.share.target > 0:
        words.append(f"Of all recent use {share_words(found.share)}.")
    return words


def _waste_words(found: Answers) -> list[str]:
    total = found.waste.total
    saved = sum(row.advised_core_ms for row in found.waste.rows)
    asked = max(1, total.asked_core_ms)
    words = (
        f"Jobs requested {format_core_hours(total.asked_core_ms)} core-hours, their cores for all of their walltime, and used "
        f"{total.used_core_ms / asked:.0%} of that. Asking for less lets jobs start sooner, one's own and other people's."
    )
    if saved:
        words += f" Had these names requested what their runs suggest, it would have been about {format_core_hours(saved)} less."
    return [words]


def _table(found: Report, names: _Names, by: str) -> Table:
    rows = [_row(names.told(row.key[0]) if by == "user" else row.key[0], row) for row in found.rows[:MOST_ROWS]]
    if rest := found.rows[MOST_ROWS:]:
        sums = rest[0].sums
        for row in rest[1:]:
            sums = sums + row.sums
        rows.append(_row(plural(len(rest), "other"), ReportRow((), sums)))
    rows.append(_row("together", found.total))
    head = (by, "charged", "used", "idle", "lost", "jobs", "not done", "waited", "95 %")
    return Table(head, tuple(rows), sums=1)


def _row(name: str, row: ReportRow) -> tuple[str, ...]:
    sums = row.sums
    waits = ("–" if one is None else format_duration(one, 1) for one in (row.wait_median_s, row.wait_p95_s))
    hours = (sums.charged_core_ms, sums.used_core_ms, sums.idle_core_ms, sums.lost_core_ms)
    return (name, *(format_core_hours(one) for one in hours), f"{sums.jobs:,}", f"{sums.failed:,}", *waits)


def _sizes(found: BySize) -> Table:
    rows = (
        (size_words(row), f"{row.jobs:,}", format_duration(row.wait_median_s, 1), format_duration(row.wait_p95_s, 1))
        for row in found.rows
    )
    return Table(("cores held", "jobs", "half waited at most", "19 in 20 at most"), tuple(rows))


def _waste(found: Waste, names: _Names) -> Table:
    rows = (
        (
            row.name,
            names.told(row.user),
            *(
                format_core_hours(amount)
                for amount in (
                    row.sums.asked_core_ms,
                    row.sums.used_core_ms,
                    row.sums.idle_core_ms,
                    row.sums.lost_core_ms,
                )
            ),
            format_core_hours(row.advised_core_ms) if row.advised_core_ms else "–",
        )
        for row in found.rows
    )
    return Table(("name", "person", "requested", "used", "idle", "lost", "less as advised"), tuple(rows), left=2)


def _drawn(make: Callable[[], Figure]) -> list[Block]:
    """A figure, where there is something to draw."""
    try:
        figure = make()
    except QuarryError:
        return []
    return [Drawn(replace(figure, source=""))]


def _capital(words: str) -> str:
    return words[:1].upper() + words[1:]
