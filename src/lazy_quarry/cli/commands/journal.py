"""Commands about the journal of a state folder: check it, save what is whole of it, see what takes how much room."""

from __future__ import annotations

import json
from pathlib import Path

import click

from lazy_quarry.cli.options import Usage, format_option, is_json, say, state_option
from lazy_quarry.errors import DamagedJournal, StateFolderError


@click.command("journal")
@click.argument("what", metavar="check|rescue|size")
@click.option("--use", is_flag=True, help="with rescue: put the new journal in the place of the old one, which is kept")
@state_option
@format_option
@click.pass_context
def journal_command(context: click.Context, what: str, use: bool, state: str, form: str) -> None:
    from lazy_quarry.store.folder import chosen_site, state_folder

    folder = state_folder(chosen_site(), state or None)
    if what not in ("check", "rescue", "size"):
        raise Usage(f'journal {what}: there are "check", "rescue" and "size"')
    if not (folder / "journal.db").exists():
        raise StateFolderError(f"{folder} holds no journal")
    if what == "size":
        _size(folder, is_json(form))
    elif what == "check":
        context.exit(_check(folder))
    else:
        _rescue(folder, use)


def _check(folder: Path) -> int:
    from lazy_quarry.core.units import plural
    from lazy_quarry.store.journal import Journal

    try:
        journal = Journal(folder, reading=True)
        problems = list(journal.problems())
        state = journal.load()
    except DamagedJournal as fault:
        say(str(fault))
        return 1
    for problem in problems:
        say(problem)
    if problems:
        say(f"save what is whole with: lazy-quarry journal rescue --state {folder}")
        return 1
    say(f"{folder}: {journal.number:,} events are as they were written; {plural(len(state.jobs), 'job')} not ended")
    return 0


def _rescue(folder: Path, use: bool) -> None:
    from lazy_quarry.run.node.registry import begun
    from lazy_quarry.store.folder import FolderLock
    from lazy_quarry.store.rescue import RESCUED, rescue, use_rescued

    try:
        lock = FolderLock(folder, "", wait=False)
    except BlockingIOError:
        words = f"the engine of {folder} is running, so its journal could be read; see lazy-quarry journal check"
        raise StateFolderError(words) from None
    try:
        found = rescue(folder, begun(folder / "spool"))
        say(found.words)
        if use:
            say(f"the new journal is in its place; the old one is in {use_rescued(folder)}")
        else:
            say(f"the new journal is in {folder / RESCUED}; to put it in the place of the old one: add --use")
    finally:
        lock.release()


def _size(folder: Path, as_json: bool) -> None:
    from lazy_quarry.core.units import format_bytes
    from lazy_quarry.store.sqlite.sizes import sizes

    found = sizes(folder)
    if as_json:
        say(json.dumps([{"what": one.what, "bytes": one.bytes, "count": one.count} for one in found]))
        return
    for one in found:
        if one.bytes:
            say(f"{format_bytes(one.bytes):>10}  {one.what}" + (f" ({one.count:,})" if one.count else ""))
