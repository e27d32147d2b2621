"""Commands about the site itself: what there is, its nodes, and the times for which they are kept free."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any, Literal

import click

from lazy_quarry.cli.options import (
    Usage,
    ask,
    client_of,
    file_option,
    format_option,
    is_json,
    own_zone,
    print_json,
    print_lines,
    print_outcomes,
    say,
    state_option,
)
from lazy_quarry.errors import QuarryError

if TYPE_CHECKING:
    from lazy_quarry.views.board import Board


@click.command("survey")
@state_option
@format_option
def survey_command(state: str, form: str) -> None:
    json_too = is_json(form)
    client = client_of(state)
    board = client.board()
    rooms = [room for queue in board.site.queues for room in client.room(queue.name)]
    if json_too:
        from lazy_quarry.wording.json_form import survey_json

        print_json(survey_json(board, rooms))
    else:
        from lazy_quarry.cli.output.site_text import survey_lines

        print_lines(survey_lines(board, rooms, own_zone()))


@click.command("node")
@click.argument("what", metavar="close|open|lost")
@click.argument("names", metavar="NODE...", nargs=-1, required=True)
@click.option("--reason", default="", help="why, as people will read it")
@click.option("--yes", is_flag=True, help="lost: don't ask")
@state_option
def node_command(what: str, names: tuple[str, ...], reason: str, yes: bool, state: str) -> None:
    """Close nodes (what runs there goes on), open them again, or say that they are lost with their jobs.

    Jobs on a node that is lost may run again elsewhere; so where there are any it asks, or needs --yes.
    """
    from lazy_quarry.core.units import parse_names

    acts: dict[str, Literal["close", "open", "lost"]] = {"close": "close", "open": "open", "lost": "lost"}
    if what not in acts:
        raise Usage(f'node {what}: there are "close", "open" and "lost"')
    every = [name for word in names for name in parse_names(word)]
    client = client_of(state)
    if what == "lost" and not yes:
        _ask_lost(client.board(), every)
    print_outcomes(client.nodes(every, acts[what], reason))


def _ask_lost(board: Board, names: list[str]) -> None:
    """Ask whether nodes are really lost, where jobs are on them. Raises :class:`Usage` where nobody can be asked."""
    from lazy_quarry.core.units import fold_names, plural

    jobs = dict.fromkeys(one.label for node in board.nodes if node.name in names for one in node.occupants)
    if not jobs:
        return
    labels = list(jobs)
    named = ", ".join(labels[:10]) + (" and others" if len(labels) > 10 else "")
    words = f"{plural(len(labels), 'job')} on {fold_names(names)}: {named}"
    otherwise = f"{words}. They end as lost, and may run again elsewhere; if that is meant, add --yes"
    ask("They end as lost, and may run again elsewhere. Is that meant?", otherwise, [f"{words}."])


@click.command("reserve")
@click.argument("name", metavar="NAME", required=False, default="")
@click.option("--nodes", default="", metavar="c01..c04", help="which; all where none are named")
@click.option("--begin", default="0s", metavar="T", help="2026-11-23T18:00, or a duration from now")
@click.option("--end", default="", metavar="T", help="an instant, or a duration after it begins")
@click.option("--user", "users", multiple=True, help="whose jobs may run there meanwhile; nobody's where none is named")
@click.option("--account", "accounts", multiple=True, help="whose jobs may run there meanwhile")
@click.option("--reason", default="reserved", help="why, as people will read it")
@click.option("--import", "calendar", default="", metavar="F.ics", help="take all of an iCalendar file")
@state_option
def reserve_command(
    name: str,
    nodes: str,
    begin: str,
    end: str,
    users: tuple[str, ...],
    accounts: tuple[str, ...],
    reason: str,
    calendar: str,
    state: str,
) -> None:
    """Reserve nodes for a time: for maintenance, or only for some users or accounts.

    A reservation of the same name is replaced.
    """
    from lazy_quarry.core.site import Window
    from lazy_quarry.core.units import parse_names

    client = client_of(state)
    board = client.board()
    every = tuple(one.name for one in board.nodes)
    if calendar:
        print_outcomes([client.reserve(window) for window in _calendar(calendar, every)])
        return
    if not name or not end:
        raise Usage("reserve what, until when? name it, and give --end")
    begins = _instant(begin, board.now_ms)
    window = Window(
        nodes=parse_names(nodes) if nodes else every,
        begins_ms=begins,
        ends_ms=_instant(end, begins),
        reason=reason,
        users=users,
        accounts=accounts,
        name=name,
    )
    print_outcomes([client.reserve(window)])


def _calendar(path: str, every: tuple[str, ...]) -> list[Any]:
    """The windows of an iCalendar file, ``-`` for standard input."""
    from lazy_quarry.core.formats.calendar import read_calendar
    from lazy_quarry.files import given

    try:
        text = sys.stdin.read() if path == "-" else given.read_by_command(path).decode()
    except (OSError, UnicodeDecodeError) as fault:
        raise QuarryError(f"{path} cannot be read: {getattr(fault, 'strerror', None) or 'it is not text'}") from None
    return read_calendar(text, every, own_zone())


def _instant(text: str, from_ms: int) -> int:
    """An instant, or a duration after another; without an offset it is in the zone of the person at the terminal."""
    from lazy_quarry.core.instants import parse_instant
    from lazy_quarry.core.units import parse_duration
    from lazy_quarry.errors import BadValue

    try:
        return from_ms + 1000 * (parse_duration(text) if text != "0s" else 0)
    except BadValue:
        pass
    try:
        return parse_instant(text, own_zone())
    except BadValue as fault:
        raise Usage(f"{fault}; or a duration, such as 2h") from None


@click.command("unreserve")
@click.argument("name", metavar="NAME")
@state_option
def unreserve_command(name: str, state: str) -> None:
    print_outcomes([client_of(state).unreserve(name)])


@click.command("reservations")
@file_option("--ics", "write them as iCalendar, - for standard output", metavar="F.ics")
@state_option
@format_option
def reservations_command(ics: str, state: str, form: str) -> None:
    from lazy_quarry.core.units import clock_time, fold_names

    json_too = is_json(form)
    board = client_of(state).board()
    windows = board.site.windows
    if ics:
        from lazy_quarry.core.formats.calendar import write_calendar
        from lazy_quarry.run.writable import write_pieces

        text = write_calendar(windows, board.now_ms)
        if ics == "-":
            say(text, nl=False)
        else:
            write_pieces(ics, [text])
        return
    if json_too:
        print_json([_window_json(window) for window in windows])
        return
    if not windows:
        say("none")
    for window in windows:
        begins, ends = (clock_time(at, board.now_ms, own_zone()) for at in (window.begins_ms, window.ends_ms))
        who = ", ".join([*window.users, *(f"account {name}" for name in window.accounts)])
        whose = f", only for {who}" if who else ", no jobs"
        name = window.name or "(of the site)"
        say(f"{name}: {begins} to {ends} on {fold_names(window.nodes)}{whose}: {window.reason}")


def _window_json(window: Any) -> dict[str, Any]:
    from lazy_quarry.core.units import format_instant

    return {
        "name": window.name or None,
        "nodes": list(window.nodes),
        "begins": format_instant(window.begins_ms),
        "ends": format_instant(window.ends_ms),
        "users": list(window.users),
        "accounts": list(window.accounts),
        "reason": window.reason,
    }
