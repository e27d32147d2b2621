"""The command about accounts: what each has left, and what it is granted."""

from collections.abc import Iterator, Mapping
from datetime import tzinfo
from typing import TYPE_CHECKING, Any

import click

from lazy_quarry.cli.options import (
    Usage,
    client_of,
    format_option,
    is_json,
    own_zone,
    print_json,
    print_lines,
    print_outcomes,
    state_option,
)

if TYPE_CHECKING:
    from lazy_quarry.core.ledger.accounts import AccountLine
    from lazy_quarry.core.ledger.burn import BudgetEnd
    from lazy_quarry.link.site_client import SiteClient

_FORMS = {
    "list": ("", 0),
    "show": ("ACCOUNT", 1),
    "grant": ("ACCOUNT CORE-HOURS --why WHY", 2),
    "move": ("FROM TO CORE-HOURS --why WHY", 3),
}


@click.command("account", context_settings={"ignore_unknown_options": True})  # -100 is a number
@click.argument("what", metavar="list|show|grant|move", required=False, default="list")
@click.argument("words", metavar="[ACCOUNT] [CORE-HOURS]", nargs=-1)
@click.option("--why", default="", help="what a grant is for, as it stands in the books")
@state_option
@format_option
def account_command(what: str, words: tuple[str, ...], why: str, state: str, form: str) -> None:
    """List accounts with what they have left, show one, grant core-hours to it (-100 takes them back), or move them.

    A grant comes on top of the budget that the site file names.
    """
    if what not in _FORMS:
        raise Usage(f'account {what}: there are "list", "show", "grant" and "move"')
    said, count = _FORMS[what]
    if len(words) != count:
        raise Usage(f"it is: account {what} {said}".rstrip())
    client, json_too = client_of(state), is_json(form)
    if what in ("grant", "move"):
        print_outcomes([_granted(client, words, why)])
        return
    board = client.board()
    lines = [line for line in board.accounts if what == "list" or line.account == words[0]]
    if not lines and what == "show":
        raise Usage(f'there is no account "{words[0]}"')
    ends = client.budget_ends()
    if json_too:
        print_json([account_json(line, ends.get(line.account), board.now_ms) for line in lines])
    elif what == "list":
        print_lines(list_lines(lines, ends, board.now_ms))
    else:
        print_lines(show_lines(lines[0], ends.get(lines[0].account), board.now_ms, own_zone()))


def _granted(client: "SiteClient", words: tuple[str, ...], why: str) -> Any:
    if not why.strip():
        raise Usage("say why, with --why: it stands in the books")
    try:
        core_ms = round(float(words[-1].replace(",", "")) * 3_600_000)
    except (ValueError, OverflowError):
        raise Usage(f'"{words[-1]}" is no number of core-hours') from None
    return client.grant(words[-2], core_ms, why, words[0] if len(words) == 3 else "")


def list_lines(lines: "list[AccountLine]", ends: "Mapping[str, BudgetEnd]", now_ms: int) -> Iterator[str]:
    """A line for each account under headings."""
    from lazy_quarry.core.units import format_core_hours
    from lazy_quarry.site.book_words import end_day

    width = max([len("account"), *(len(line.account) for line in lines)])
    yield f"{'account':<{width}}  {'charged':>11}  {'running':>9}  {'budget':>11}  {'left':>11}  {'jobs':>7}  {'failed':>6}  ends"
    for line in lines:
        budget, left = (
            "-" if value is None else format_core_hours(value) for value in (line.budget_core_ms, line.left_core_ms)
        )
        charged, running = format_core_hours(line.charged_core_ms), format_core_hours(line.running_core_ms)
        yield (
            f"{line.account:<{width}}  {charged:>11}  {running:>9}  {budget:>11}  {left:>11}  {line.jobs:>7,}  "
            f"{line.failed:>6,}  {end_day(ends[line.account].likely_days, now_ms) if line.account in ends else '-'}"
        )


def show_lines(line: "AccountLine", end: "BudgetEnd | None", now_ms: int, zone: tzinfo) -> Iterator[str]:
    """An account's books, and what it was granted."""
    from lazy_quarry.core.units import clock_time, format_core_hours, plural
    from lazy_quarry.site.book_words import end_words

    yield f"{line.account}: {plural(line.jobs, 'job')} have ended, {line.failed:,} of them failed"
    charged, running = format_core_hours(line.charged_core_ms), format_core_hours(line.running_core_ms)
    yield f"charged  {charged} core-hours, and {running} by jobs that run"
    if line.budget_core_ms is None:
        yield "budget   none: it may use what it wants"
    else:
        granted = sum(grant.core_ms for grant in line.grants)
        more = f", of them {format_core_hours(granted)} granted" if line.grants else ""
        yield f"budget   {format_core_hours(line.budget_core_ms)} core-hours{more}"
    if line.left_core_ms is not None:
        yield f"left     {format_core_hours(line.left_core_ms)} core-hours"
    if end is not None:
        yield f"ends     {end_words(end, now_ms)}"
    for grant in reversed(line.grants):
        yield f"{clock_time(grant.at_ms, now_ms, zone)}  {format_core_hours(grant.core_ms):>11}  by {grant.by}: {grant.why}"


def account_json(line: "AccountLine", end: "BudgetEnd | None", now_ms: int) -> dict[str, Any]:
    """An account as JSON; when its budget ends are days (ISO 8601), or null."""
    from lazy_quarry.core.units import DAY_MS, format_instant

    def hours(core_ms: int | None) -> float | None:
        return None if core_ms is None else round(core_ms / 3_600_000, 6)

    def day(days: float | None) -> str | None:
        return None if days is None else format_instant(now_ms + round(days * DAY_MS))[:10]

    return {
        "name": line.account,
        "charged_core_hours": hours(line.charged_core_ms),
        "running_core_hours": hours(line.running_core_ms),
        "budget_core_hours": hours(line.budget_core_ms),
        "left_core_hours": hours(line.left_core_ms),
        "jobs": line.jobs,
        "failed": line.failed,
        "daily_core_hours": hours(round(end.daily_core_ms)) if end else None,
        "ends_early": day(end.early_days if end else None),
        "ends": day(end.likely_days if end else None),
        "ends_late": day(end.late_days if end else None),
        "grants": [
            {"at": format_instant(one.at_ms), "core_hours": hours(one.core_ms), "by": one.by, "why": one.why}
            for one in line.grants
        ],
    }
