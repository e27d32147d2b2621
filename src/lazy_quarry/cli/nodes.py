"""Commands about the site itself: its nodes, and the times for which they are kept free."""

import sys
from pathlib import Path
from typing import Annotated, Any

import typer

from lazy_quarry.cli.main import FormatOption, StateOption, Usage, _as_json, _client, _json, _tell, _zone, app
from lazy_quarry.errors import QuarryError


@app.command()
def node(
    what: Annotated[str, typer.Argument(metavar="close|open|lost", help="no more jobs; jobs again; it has gone")],
    names: Annotated[list[str], typer.Argument(metavar="NODE...", help="names, or c01..c04")],
    reason: Annotated[str, typer.Option(help="why, as people will read it")] = "",
    state: StateOption = "",
) -> None:
    """Close nodes (what runs there goes on), open them again, or tell that they have gone with their jobs."""
    from lazy_quarry.core.units import parse_names

    if what not in ("close", "open", "lost"):
        raise Usage(f'node {what}: there are "close", "open" and "lost"')
    every = [name for word in names for name in parse_names(word)]
    _tell(_client(state).nodes(every, what, reason))


@app.command()
def reserve(
    name: Annotated[str, typer.Argument(metavar="NAME", help="what to call it; one of the same name is replaced")] = "",
    nodes: Annotated[str, typer.Option(metavar="c01..c04", help="which; all where none are named")] = "",
    begin: Annotated[str, typer.Option(metavar="T", help="2026-11-23T18:00, or a duration from now")] = "0s",
    end: Annotated[str, typer.Option(metavar="T", help="an instant, or a duration after it begins")] = "",
    user: Annotated[
        list[str], typer.Option(help="whose jobs may run there meanwhile; nobody's where none is named")
    ] = [],  # noqa: B006
    account: Annotated[list[str], typer.Option(help="whose jobs may run there meanwhile")] = [],  # noqa: B006
    reason: Annotated[str, typer.Option(help="why, as people will read it")] = "reserved",
    calendar: Annotated[str, typer.Option("--import", metavar="F.ics", help="take all of an iCalendar file")] = "",
    state: StateOption = "",
) -> None:
    """Keep nodes free of jobs for a time: for maintenance, or for some users or accounts alone."""
    from lazy_quarry.core.site import Window

    client = _client(state)
    every = tuple(one.name for one in client.board().nodes)
    if calendar:
        from lazy_quarry.core.formats.calendar import read_calendar

        try:
            text = sys.stdin.read() if calendar == "-" else Path(calendar).read_text(encoding="utf-8")
        except (OSError, UnicodeDecodeError) as fault:
            raise QuarryError(
                f"{calendar} cannot be read: {getattr(fault, 'strerror', None) or 'it is not text'}"
            ) from None
        _tell([client.reserve(window) for window in read_calendar(text, every)])
        return
    if not name or not end:
        raise Usage("reserve what, until when? name it, and give --end")
    from lazy_quarry.core.units import parse_names

    begins = _moment(begin, client.board().now_ms)
    wanted = parse_names(nodes) if nodes else every
    window = Window(wanted, begins, _moment(end, begins), reason, tuple(user), tuple(account), name)
    _tell([client.reserve(window)])


def _moment(text: str, from_ms: int) -> int:
    """An instant, or a duration after another; a time without offset is local."""
    from datetime import datetime

    from lazy_quarry.core.units import parse_duration
    from lazy_quarry.errors import BadValue

    try:
        return from_ms + 1000 * (parse_duration(text) if text != "0s" else 0)
    except BadValue:
        pass
    try:
        return round(datetime.fromisoformat(text).astimezone().timestamp() * 1000)
    except ValueError:
        raise Usage(f'"{text}" is neither an instant, such as 2026-11-23T18:00, nor a duration, such as 2h') from None


@app.command()
def unreserve(
    name: Annotated[str, typer.Argument(metavar="NAME")],
    state: StateOption = "",
) -> None:
    """Take a reservation back."""
    _tell([_client(state).unreserve(name)])


@app.command()
def reservations(
    ics: Annotated[str, typer.Option(metavar="F.ics", help="write them as iCalendar, - for standard output")] = "",
    state: StateOption = "",
    format_: FormatOption = "text",
) -> None:
    """List the times for which nodes are kept free."""
    from lazy_quarry.core.units import clock_time, fold_names

    json_too = _as_json(format_)
    board = _client(state).board()
    if ics:
        from lazy_quarry.cli.actions import write_pieces
        from lazy_quarry.core.formats.calendar import write_calendar

        text = write_calendar(board.windows, board.now_ms)
        if ics == "-":
            typer.echo(text, nl=False)
            return
        write_pieces(ics, [text])
        return
    if json_too:
        _json([_window_json(window) for window in board.windows])
        return
    if not board.windows:
        typer.echo("none")
    for window in board.windows:
        begins, ends = (clock_time(at, board.now_ms, _zone()) for at in (window.begins_ms, window.ends_ms))
        who = ", ".join([*window.users, *(f"account {name}" for name in window.accounts)])
        whose = f", only for {who}" if who else ", no jobs"
        name = window.name or "(of the site)"
        typer.echo(f"{name}: {begins} to {ends} on {fold_names(window.nodes)}{whose}: {window.reason}")


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
