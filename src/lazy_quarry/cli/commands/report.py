"""Commands about the books: reports of a period, and whether the books agree with the jobs."""

from __future__ import annotations

import os
from collections.abc import Callable
from datetime import tzinfo
from functools import partial
from getpass import getuser
from typing import TYPE_CHECKING, Any

import click

from lazy_quarry.cli.options import (
    Usage,
    client_of,
    draw_to,
    file_option,
    format_option,
    is_json,
    own_zone,
    print_json,
    print_lines,
    say,
    state_option,
)
from lazy_quarry.cli.output.report_text import (
    report_csv,
    report_json,
    report_lines,
    shares_json,
    shares_lines,
    sizes_json,
    sizes_lines,
    waste_json,
    waste_lines,
)

if TYPE_CHECKING:
    from lazy_quarry.core.ledger.report import Report
    from lazy_quarry.draw.values import Figure
    from lazy_quarry.link.site_client import SiteClient
    from lazy_quarry.store.proof import Proof


@click.command("report")
@click.option(
    "--period",
    metavar="WORDS",
    default="",
    help='"this month" (the default), "last month" (of --pdf and --to), "2026 Q3", "since 3 March", "all", …',
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
@click.option("--waste", is_flag=True, help="what was requested and not used, and where most is to be won")
@click.option("--sizes", is_flag=True, help="how long jobs waited, by how many cores they held")
@click.option(
    "--shares", is_flag=True, help="what each account should have of the cluster, had of late, and what follows"
)
@file_option("--csv", "the rows as CSV (RFC 4180)", "csv_file")
@file_option("--svg", "use over the period, split by the first key")
@file_option("--pdf", "all of it on pages to be sent to somebody")
@click.option("--anonymous", is_flag=True, help="with --pdf, --to, --swf or --parquet: leave other people's names out")
@click.option("--to", metavar="ADDRESS", default="", help="mail the same pages, as notices are mailed")
@click.option("--monthly", is_flag=True, help="with --to: print the line for cron that mails them each month")
@file_option("--usage-records", "the jobs as OGF Usage Records 2.0 (GFD.204), XML")
@file_option("--swf", "the jobs in the Standard Workload Format")
@file_option("--parquet", "the jobs as a table in Parquet (needs the extra parquet)")
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
    sizes: bool,
    shares: bool,
    csv_file: str,
    svg: str,
    pdf: str,
    anonymous: bool,
    to: str,
    monthly: bool,
    state: str,
    form: str,
    **formats: str,
) -> None:
    """Say what was charged in a period, and where it went: used, held idle, lost to failures. Days are days of UTC."""
    keys = [key.strip() for key in by.split(",") if key.strip()]
    where = {"account": account, "user": user, "queue": queue, "name": name}
    where = {key: value for key, value in where.items() if value}
    if period and (since or until):
        raise Usage("give --period, or --since and --until")
    usual = "last month" if pdf or to else "this month"
    words = period or (f"{since or '2000-01-01'} to {until or 'today'}" if since or until else usual)
    if monthly:
        from lazy_quarry.cli.commands.report_files import cron_line

        if not to or period or since or until:
            raise Usage("--monthly goes with --to ADDRESS, and is always of the last month")
        say(cron_line(where, to, anonymous, state or os.environ.get("LQ_STATE", "")))
        return
    client = client_of(state)
    if waste + sizes + shares > 1:
        raise Usage("ask for one of --waste, --sizes and --shares")
    if waste or sizes or shares:
        if csv_file or form == "csv":
            raise Usage("--csv is of the report's rows; --format json has these too")
        what = "waste" if waste else "sizes" if sizes else "shares"
        _say_other(client, what, words, where, form, (svg, pdf))
        return
    found = client.report(words, keys, where)
    if words == usual and not period:
        other = "last month" if usual == "this month" else "this month"
        so_far = " so far" if usual == "this month" else ""
        say(f'lazy-quarry: {found.period.name}{so_far}; --period "{other}" has the other', err=True)
    if not found.total.sums.jobs and not found.total.sums.held_core_ms:
        say(f"lazy-quarry: {_elsewhere(client, found, where)}", err=True)
    if form == "json":
        print_json(report_json(found))
    elif form == "csv":
        click.echo(report_csv(found), nl=False)
    else:
        print_lines(report_lines(found))
    if csv_file:
        from lazy_quarry.cli.files import write_text

        write_text(csv_file, report_csv(found))
    if svg:
        from lazy_quarry.draw.figures.books_figures import over_time_figure

        split = next((key for key in keys if key != "month"), "account")
        columns = client.over_time(words, split, where)
        board = client.board()
        figure = over_time_figure(columns, board.site.name, board.now_ms, own_zone())
        draw_to(figure, svg, err=form != "table")
    if pdf or to or any(formats.values()):
        from lazy_quarry.cli.commands.report_files import mail_pdf, write_formats, write_pdf

        if to:
            mail_pdf(client, words, where, to, anonymous)
        if pdf:
            write_pdf(client, words, where, pdf, anonymous, form != "table")
        if any(formats.values()):
            write_formats(client, words, where, formats, anonymous, form != "table")


def _elsewhere(client: SiteClient, found: Report, where: dict[str, str]) -> str:
    """Say what to ask for where a period has nothing in it."""
    rows = [row.key[0] for row in client.report("all", ["month"], where).rows if row.sums.jobs]
    if not rows:
        of = "of these " if where else ""
        return f"no job {of}has ended yet; lq jobs shows what waits and runs"
    more = " and before" if len(rows) > 3 else ""
    return (
        f'nothing ended {found.period.when}; there is something in {", ".join(rows[-3:])}{more}: --period "{rows[-1]}"'
    )


def _say_other(
    client: SiteClient, what: str, words: str, where: dict[str, str], form: str, files: tuple[str, str]
) -> None:
    """Waste, waits by size or shares, and their figures."""
    figure: Callable[[str, int, tzinfo], Figure]
    told: Any
    if what == "waste":
        waste = client.waste(words, where)
        told, lines = waste_json(waste), waste_lines(waste, getuser())
        figure = partial(_drawn, "waste_figure", waste)
    elif what == "sizes":
        sizes = client.waits(words, where)
        told, lines = sizes_json(sizes), sizes_lines(sizes)
        figure = partial(_drawn, "waits_figure", sizes)
    else:
        shares = client.shares()
        told, lines = shares_json(shares), shares_lines(shares)
        figure = partial(_drawn, "shares_figure", shares)
    if form == "json":
        print_json(told)
    else:
        print_lines(lines)
    if any(files):
        board = client.board()
        draw_to(figure(board.site.name, board.now_ms, own_zone()), *files, err=form != "table")


def _drawn(name: str, found: object, site: str, now_ms: int, zone: tzinfo) -> Figure:
    from lazy_quarry.draw.figures import reports_figures as of_reports

    made: Figure = getattr(of_reports, name)(found, site, now_ms, zone)
    return made


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
    from lazy_quarry.store.folder import chosen_site, state_folder
    from lazy_quarry.store.journal import Journal
    from lazy_quarry.store.proof import prove

    folder = state_folder(chosen_site(), state or None)
    if not (folder / "journal.db").exists():
        raise StateFolderError(f"{folder} holds no journal")
    proof = prove(Journal(folder, reading=True))
    if is_json(form):
        print_json(proof_json(proof))
    else:
        _say_proof(proof)
    context.exit(1 if proof.wrong else 0)


def proof_json(proof: Proof) -> dict[str, Any]:
    """The proof as JSON."""
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
