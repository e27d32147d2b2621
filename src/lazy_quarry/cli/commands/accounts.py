"""The command about accounts: what each has left, and what it is granted."""

from collections.abc import Iterator, Mapping
from datetime import tzinfo
from typing import TYPE_CHECKING, Any

import click

from lazy_quarry.cli.options import (
    Usage,
    client_of,
    file_option,
    format_option,
    is_json,
    own_zone,
    print_json,
    print_lines,
    print_outcomes,
    state_option,
)
from lazy_quarry.core.header.nearest import nearest
from lazy_quarry.core.units import core_hours

if TYPE_CHECKING:
    from lazy_quarry.core.ledger.accounts import AccountLine
    from lazy_quarry.core.ledger.burn import BudgetEnd
    from lazy_quarry.link.site_client import SiteClient

_FORMS = {
    "list": ("", 0),
    "show": ("ACCOUNT", 1),
    "grant": ("ACCOUNT CORE-HOURS --why WHY", 2),
    "move": ("FROM TO CORE-HOURS --why WHY", 3),
    "members": ("ACCOUNT [--add USER] [--remove USER]", 1),
}


@click.command("account", context_settings={"ignore_unknown_options": True})  # -100 is a number
@click.argument("what", metavar="list|show|grant|move|members", required=False, default="list")
@click.argument("words", metavar="[ACCOUNT] [CORE-HOURS]", nargs=-1)
@click.option("--why", default="", help="what a grant is for, as it stands in the books")
@click.option("--add", multiple=True, metavar="USER", help="with members: let this user charge it")
@click.option("--remove", multiple=True, metavar="USER", help="with members: this user may charge it no longer")
@file_option("--ics", "with list or show: when budgets and their terms end, as iCalendar", metavar="F.ics")
@state_option
@format_option
def account_command(
    what: str,
    words: tuple[str, ...],
    why: str,
    add: tuple[str, ...],
    remove: tuple[str, ...],
    ics: str,
    state: str,
    form: str,
) -> None:
    """List accounts with what they have left, show one, grant or move core-hours (-100 takes them back), or tell the members.

    A grant comes on top of the budget that the site file names, in its present term. Operators grant; who answers for an account
    may move its core-hours and change its members.
    """
    if what not in _FORMS:
        raise Usage(f'account {what}: there are "list", "show", "grant", "move" and "members"')
    said, count = _FORMS[what]
    if len(words) != count:
        raise Usage(f"it is: account {what} {said}".rstrip())
    client, json_too = client_of(state), is_json(form)
    if what in ("grant", "move"):
        print_outcomes([_granted(client, words, why)])
        return
    if add or remove:
        if what != "members":
            raise Usage("--add and --remove belong to: account members ACCOUNT")
        print_outcomes(client.members(words[0], list(add), list(remove)))
        return
    board = client.board()
    lines = [line for line in board.accounts if what == "list" or line.account == words[0]]
    if not lines and what in ("show", "members"):
        raise Usage(f'there is no account "{words[0]}"{nearest(words[0], [line.account for line in board.accounts])}')
    if what == "members":
        if json_too:
            print_json({"name": lines[0].account, "everyone": not lines[0].members, "members": list(lines[0].members)})
        else:
            print_lines(lines[0].members or ["everyone"])
        return
    ends = client.budget_ends()
    if ics:
        _write_ends(ics, board.site.name, lines, ends, board.now_ms)
    elif json_too:
        print_json([account_json(line, ends.get(line.account), board.now_ms) for line in lines])
    elif what == "list":
        print_lines(list_lines(lines, ends, board.now_ms))
    else:
        print_lines(show_lines(lines[0], ends.get(lines[0].account), board.now_ms, own_zone()))


def _write_ends(path: str, site: str, lines: "list[AccountLine]", ends: "Mapping[str, BudgetEnd]", now_ms: int) -> None:
    """Write when budgets end by the last 30 days, and when their terms do."""
    from lazy_quarry.core.formats.calendar import BudgetDay, budget_calendar
    from lazy_quarry.core.ledger.budgets import FOR_EVER
    from lazy_quarry.core.units import DAY_MS
    from lazy_quarry.run.writable import write_pieces
    from lazy_quarry.wording.book_words import end_words, outlasts

    found = list[BudgetDay]()
    for line in lines:
        term = str(line.budget.term.begin_ms) if line.budget is not None else ""
        end = ends.get(line.account)
        if end is not None and end.likely_days is not None and not outlasts(end, line, now_ms):
            at = now_ms + round(end.likely_days * DAY_MS)
            what, key = f"The budget of {line.account} ends", (site, "used-up", line.account, term)
            found.append(BudgetDay(key, what, at, at + DAY_MS, end_words(end, line, now_ms)))
        if line.budget is not None and line.budget.term.end_ms < FOR_EVER:
            last = line.budget.term.end_ms - DAY_MS
            what, key = f"The term of {line.account}'s budget ends", (site, "term", line.account, term)
            found.append(BudgetDay(key, what, last, last + DAY_MS, "what is left lapses or is carried over"))
    write_pieces(path, [budget_calendar(found, now_ms)])


def _granted(client: "SiteClient", words: tuple[str, ...], why: str) -> Any:
    if not why.strip():
        raise Usage("say why, with --why: it stands in the books")
    try:
        core_ms = round(float(words[-1].replace(",", "")) * 3_600_000)
    except (ValueError, OverflowError):
        raise Usage(f'"{words[-1]}" is no number of core-hours') from None
    if len(words) == 3:
        return client.move(words[0], words[1], core_ms, why)
    return client.grant(words[0], core_ms, why)


def list_lines(lines: "list[AccountLine]", ends: "Mapping[str, BudgetEnd]", now_ms: int) -> Iterator[str]:
    """A line for each account under headings, those under another one indented beneath it."""
    from lazy_quarry.core.units import format_core_hours
    from lazy_quarry.wording.book_words import as_tree, ends_word, term_words

    tree = as_tree(lines)
    width = max([len("account"), *(2 * depth + len(line.account) for depth, line in tree)])
    yield (
        f"{'account':<{width}}  {'charged':>11}  {'running':>9}  {'budget':>11}  {'used':>11}  {'left':>11}  {'jobs':>7}  "
        f"{'failed':>6}  {'ends':<11}  term"
    )
    for depth, line in tree:
        used = None if line.budget is None else line.budget.used_core_ms
        budget, used_, left = (
            "-" if value is None else format_core_hours(value)
            for value in (line.budget_core_ms, used, line.left_core_ms)
        )
        charged, running = format_core_hours(line.charged_core_ms), format_core_hours(line.running_core_ms)
        end = ends_word(ends.get(line.account), line, now_ms) or "-"
        yield (
            f"{'  ' * depth + line.account:<{width}}  {charged:>11}  {running:>9}  {budget:>11}  {used_:>11}  {left:>11}  "
            f"{line.jobs:>7,}  {line.failed:>6,}  {end:<11}  {term_words(line) or '-'}"
        )


def show_lines(line: "AccountLine", end: "BudgetEnd | None", now_ms: int, zone: tzinfo) -> Iterator[str]:
    """An account's books, who may charge it and answers for it, and what it was granted."""
    from lazy_quarry.core.units import clock_time, format_core_hours, plural
    from lazy_quarry.wording.book_words import at_end_words, end_words, term_words

    told = line.told
    under = f", under {told.parent}" if told and told.parent else ""
    yield f"{line.account}{under}: {plural(line.jobs, 'job')} have ended, {line.failed:,} of them failed"
    charged, running = format_core_hours(line.charged_core_ms), format_core_hours(line.running_core_ms)
    yield f"charged  {charged} core-hours, and {running} by jobs that run"
    if line.budget is None:
        yield "budget   none: it may use what it wants"
    else:
        granted = line.budget.granted_core_ms
        more = f", of them {format_core_hours(granted)} granted" if granted else ""
        term = f", {term_words(line)}" if term_words(line) else ""
        yield f"budget   {format_core_hours(line.budget.whole_core_ms)} core-hours{more}{term}"
    if line.budget is not None and line.left_core_ms is not None:
        yield f"used     {format_core_hours(line.budget.used_core_ms)} core-hours of it, with all accounts under it"
        yield f"left     {format_core_hours(line.left_core_ms)} core-hours; {at_end_words(line)}"
    if end is not None:
        yield f"ends     {end_words(end, line, now_ms)}"
    yield f"members  {', '.join(line.members) or 'everyone'}"
    if told and told.leads:
        yield f"answers  {', '.join(told.leads)}"
    entries = [(one.at_ms, f"{format_core_hours(one.core_ms):>11}  by {one.by}: {one.why}") for one in line.grants] + [
        (one.at_ms, f"{'member' if one.added else 'no member':>11}  {one.user}, by {one.by}")
        for one in line.member_changes
    ]
    for at, words in sorted(entries, reverse=True):
        yield f"{clock_time(at, now_ms, zone)}  {words}"


def account_json(line: "AccountLine", end: "BudgetEnd | None", now_ms: int) -> dict[str, Any]:
    """An account as JSON; when its term begins and ends, and its budget, are days (ISO 8601), or null."""
    from lazy_quarry.core.units import DAY_MS, format_instant

    def hours(core_ms: int | None) -> float | None:
        return None if core_ms is None else core_hours(core_ms)

    def day(days: float | None) -> str | None:
        return None if days is None else format_instant(now_ms + round(days * DAY_MS))[:10]

    def date(at_ms: int | None) -> str | None:
        return None if at_ms is None or not 0 < at_ms < 2**60 else format_instant(at_ms)[:10]

    budget, told = line.budget, line.told
    return {
        "name": line.account,
        "parent": (told.parent or None) if told else None,
        "charged_core_hours": hours(line.charged_core_ms),
        "running_core_hours": hours(line.running_core_ms),
        "budget_core_hours": hours(line.budget_core_ms),
        "used_core_hours": hours(budget.used_core_ms) if budget else None,
        "left_core_hours": hours(line.left_core_ms),
        "term_begins": date(budget.term.begin_ms) if budget else None,
        "term_ends": date(budget.term.end_ms - DAY_MS) if budget else None,
        "at_end": told.at_end if told and budget else None,
        "members": list(line.members),
        "leads": list(told.leads) if told else [],
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
        "member_changes": [
            {"at": format_instant(one.at_ms), "user": one.user, "added": one.added, "by": one.by}
            for one in line.member_changes
        ],
    }
