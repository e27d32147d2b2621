"""Commands about the books: reports of a period, and whether the books agree with the jobs."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import click

from lazy_quarry.cli.options import (
    Usage,
    client_of,
    draw_to,
    format_option,
    is_json,
    own_zone,
    print_json,
    print_lines,
    say,
    state_option,
)

if TYPE_CHECKING:
    from lazy_quarry.core.ledger.report import Report, ReportRow
    from lazy_quarry.store.books import Proof

FIGURES = (
    "charged_core_hours",
    "used_core_hours",
    "idle_core_hours",
    "lost_core_hours",
    "jobs",
    "failed",
    "wait_median_s",
    "wait_p95_s",
)
MOST_WASTED = 5


@click.command("report")
@click.option(
    "--period", metavar="WORDS", default="", help='"last month" (the default), "2026 Q3", "since 3 March", "all", …'
)
@click.option("--since", metavar="DAY", default="", help="from this day on")
@click.option("--until", metavar="DAY", default="", help="up to this day")
@click.option(
    "--by", metavar="KEY[,KEY]", default="account", show_default=True, help="account, user, queue, tier, name or month"
)
@click.option("--account", "account", metavar="A", default="", help="of this account alone; several by commas")
@click.option("--user", "user", metavar="U", default="", help="of this user alone")
@click.option("--queue", "queue", metavar="Q", default="", help="of this queue alone")
@click.option("--name", "name", metavar="N", default="", help="of jobs of this name alone")
@click.option("--waste", is_flag=True, help="what was held and not used, and the names that lose most")
@click.option("--csv", "csv_file", metavar="F", type=click.Path(dir_okay=False), help="the rows as CSV (RFC 4180)")
@click.option(
    "--svg",
    metavar="F",
    type=click.Path(dir_okay=False),
    default="",
    help="use over the period, split by the first key",
)
@click.option("--pdf", metavar="F", type=click.Path(dir_okay=False), default="", help="the same as PDF")
@state_option
@click.option("--format", "form", type=click.Choice(["table", "json", "csv"]), default="table", show_default=True)
def report_command(
    period: str,
    since: str,
    until: str,
    by: str,
    account: str,
    user: str,
    queue: str,
    name: str,
    waste: bool,
    csv_file: str | None,
    svg: str,
    pdf: str,
    state: str,
    form: str,
) -> None:
    """Say what was charged in a period, and where it went: used, held idle, lost to failures. Days are days of UTC."""
    keys = ["name"] if waste else [key.strip() for key in by.split(",") if key.strip()]
    where = {"account": account, "user": user, "queue": queue, "name": name}
    if period and (since or until):
        raise Usage("give --period, or --since and --until")
    words = period or (f"{since or '2000-01-01'} to {until or 'today'}" if since or until else "last month")
    client = client_of(state)
    found = client.report(words, keys, {key: value for key, value in where.items() if value})
    if form == "json":
        print_json(report_json(found))
    elif form == "csv":
        click.echo(report_csv(found), nl=False)
    elif waste:
        print_lines(waste_lines(found))
    else:
        print_lines(report_lines(found))
    if csv_file:
        from lazy_quarry.cli.files import write_text

        write_text(csv_file, report_csv(found))
    if svg or pdf:
        from lazy_quarry.draw.of_books import over_time_figure

        split = next((key for key in keys if key != "month"), "account")
        columns = client.over_time(words, split, {key: value for key, value in where.items() if value})
        board = client.board()
        figure = over_time_figure(columns, board.site.name, board.now_ms, own_zone())
        draw_to(figure, svg, pdf, err=form != "table")


def row_json(row: ReportRow) -> dict[str, Any]:
    """A row; times in seconds, core-hours of hours."""
    hour, sums = 3_600_000, row.sums
    return {
        "key": row.key[0] if len(row.key) == 1 else list(row.key) or None,
        "charged_core_hours": round(sums.charged_core_ms / hour, 6),
        "used_core_hours": round(sums.used_core_ms / hour, 6),
        "idle_core_hours": round(sums.idle_core_ms / hour, 6),
        "lost_core_hours": round(sums.lost_core_ms / hour, 6),
        "held_core_hours": round(sums.held_core_ms / hour, 6),
        "jobs": sums.jobs,
        "failed": sums.failed,
        "wait_median_s": row.wait_median_s,
        "wait_p95_s": row.wait_p95_s,
    }


def report_json(found: Report) -> dict[str, Any]:
    """A report: its period, rows, all together, and the period before."""
    from lazy_quarry.core.units import format_instant

    span = found.period
    return {
        "period": {"name": span.name, "begins": format_instant(span.begin_ms), "ends": format_instant(span.end_ms)},
        "by": list(found.by),
        "rows": [row_json(row) for row in found.rows],
        "total": row_json(found.total),
        "before": row_json(found.before) if found.before else None,
    }


def report_csv(found: Report) -> str:
    """The rows as CSV (RFC 4180), a column for each key."""
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow([*found.by, *FIGURES])
    for row in found.rows:
        told = row_json(row)
        writer.writerow([*row.key, *("" if told[name] is None else told[name] for name in FIGURES)])
    return text.getvalue()


def report_lines(found: Report) -> Iterator[str]:
    """A report as a table."""
    from lazy_quarry.core.units import plural
    from lazy_quarry.site.book_words import change_words

    span = found.period
    chosen = ", ".join(f"{name} {' or '.join(values)}" for name, values in found.where.items())
    yield f"{span.name}{f' ({span.span})' if span.name != span.span else ''}{f', {chosen}' if chosen else ''}: core-hours"
    keys = [" / ".join(row.key) for row in found.rows]
    heading = " / ".join(found.by)
    width = max([len(heading), len("together"), *map(len, keys)])
    names = ("charged", "used", "idle", "lost", "jobs", "failed", "waited", "95 %")
    widths = (11, 11, 11, 11, 8, 7, 9, 9)
    yield f"{heading:<{width}}" + "".join(f"{name:>{wide}}" for name, wide in zip(names, widths, strict=True))
    for name, row in [*zip(keys, found.rows, strict=True), ("together", found.total)]:
        yield f"{name:<{width}}" + "".join(f"{value:>{wide}}" for value, wide in zip(_cells(row), widths, strict=True))
    more = change_words(found) if found.total.sums.charged_core_ms else ""
    if more and found.before is not None:
        yield f"{more} than in {span.moved(-1).name}, in which {plural(found.before.sums.jobs, 'job')} ended"


def _cells(row: ReportRow) -> list[str]:
    from lazy_quarry.core.units import format_core_hours, format_duration

    sums = row.sums
    waits = ["-" if one is None else format_duration(one, 1) for one in (row.wait_median_s, row.wait_p95_s)]
    hours = (sums.charged_core_ms, sums.used_core_ms, sums.idle_core_ms, sums.lost_core_ms)
    return [*(format_core_hours(one) for one in hours), f"{sums.jobs:,}", f"{sums.failed:,}", *waits]


def waste_lines(found: Report) -> Iterator[str]:
    """What was held and not used, and where there is most to win."""
    from lazy_quarry.core.units import format_core_hours, plural

    sums = found.total.sums
    held = max(1, sums.held_core_ms)
    yield f"{found.period.name}: {format_core_hours(sums.held_core_ms)} core-hours were held by {plural(sums.jobs, 'job')}"
    for word, amount in (("used", sums.used_core_ms), ("idle", sums.idle_core_ms), ("lost", sums.lost_core_ms)):
        yield f"  {word:<6}{format_core_hours(amount):>12}  {amount / held:>5.0%}"
    worst = sorted(found.rows, key=lambda row: -(row.sums.idle_core_ms + row.sums.lost_core_ms))[:MOST_WASTED]
    if not worst:
        return
    yield "most is to be won with"
    width = max(len(row.key[0]) for row in worst)
    for row in worst:
        idle, lost = format_core_hours(row.sums.idle_core_ms), format_core_hours(row.sums.lost_core_ms)
        failed = f", {row.sums.failed:,} of {plural(row.sums.jobs, 'job')} not done" if row.sums.failed else ""
        yield f"  {row.key[0]:<{width}}  {idle:>10} idle  {lost:>10} lost{failed}   (lq advise {row.key[0]})"


@click.command("ledger")
@click.option("--verify", is_flag=True, help="recompute all sums from the jobs, and compare them to the millisecond")
@state_option
@format_option
@click.pass_context
def ledger_command(context: click.Context, verify: bool, state: str, form: str) -> None:
    """Prove the books: exit 0 when every sum is what the jobs come to, 1 when one is not."""
    if not verify:
        raise Usage("ledger --verify proves the books; lq report reads them, lq account says what is left")
    from lazy_quarry.errors import StateFolderError
    from lazy_quarry.store.books import prove
    from lazy_quarry.store.folder import state_folder
    from lazy_quarry.store.journal import Journal

    folder = state_folder("machine", state or None)
    if not (folder / "journal.db").exists():
        raise StateFolderError(f"{folder} holds no journal")
    journal = Journal(folder)
    with journal.storage.one_view():  # the engine may go on writing
        proof = prove(journal, journal.load().jobs.values())
    if is_json(form):
        print_json(proof_json(proof))
    else:
        _say_proof(proof)
    context.exit(1 if proof.wrong else 0)


def proof_json(proof: Proof) -> dict[str, Any]:
    """What was proved."""
    return {
        "agree": not proof.wrong,
        "jobs": proof.jobs,
        "sums": proof.sums,
        "charged_core_ms": proof.charged_core_ms,
        "wrong": list(proof.wrong),
        "unknown": proof.unknown,
    }


def _say_proof(proof: Proof) -> None:
    from lazy_quarry.core.units import format_core_hours, plural

    charged = format_core_hours(proof.charged_core_ms)
    for words in proof.wrong:
        say(words)
    if proof.wrong:
        say("the books do not agree with the jobs")
        return
    of = f"{plural(proof.sums, 'sum')} of {plural(proof.jobs, 'job')} and tasks"
    said = f"the books agree: {of}, {charged} core-hours, to the millisecond"
    if proof.unknown:
        said = (
            f"{plural(proof.unknown, 'job')} had several attempts whose events are no longer kept (keep.events), so sums were not "
            f"compared; all else agrees"
        )
    say(said)
