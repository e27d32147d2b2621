"""Rehearsal sites of one's own: from a site file, a workload trace, or both."""

import getpass
import time
from collections.abc import Iterator
from io import TextIOWrapper
from pathlib import Path

from lazy_quarry.core.engine.commands import Command
from lazy_quarry.core.site import Site
from lazy_quarry.demo.history import FromHistory, history_site
from lazy_quarry.demo.virtual_clock import OnVirtualClock
from lazy_quarry.errors import BadValue, QuarryError
from lazy_quarry.files import given
from lazy_quarry.site.site_file.site_file import SiteFileError, read_text, site_of
from lazy_quarry.study.swf import read_history

MOST_BYTES = 2**30
_BARE = Site("rehearsal", "rehearsal", (), (), (), (), "", "")


def own_rehearsal(trace: str, file: str, seed: int) -> tuple[OnVirtualClock, str]:
    """A rehearsal site and what it is called. Raises :class:`QuarryError` with what is wrong in which file."""
    described = rehearsal_site(Path(file)) if file else None
    if not trace:
        assert described is not None
        nothing: Iterator[Command] = iter(())
        begins, user = round(time.time()) * 1000, getpass.getuser()
        from lazy_quarry.store.journal import Journal

        return OnVirtualClock(described, Journal(None), user, begins, seed, nothing), described.name
    path = Path(trace)
    try:
        if path.stat().st_size > MOST_BYTES:
            raise BadValue(f"{trace} is larger than 1 GiB")
        with TextIOWrapper(given.opened_by_command(path), encoding="utf-8", errors="replace") as lines:
            history = read_history(lines, trace)
    except OSError as fault:
        raise QuarryError(f"{trace} cannot be read: {fault.strerror}") from None
    name = described.name if described is not None else path.stem
    return FromHistory(history, history_site(history, name, described), seed), name


def rehearsal_site(path: Path) -> Site:
    """The site of a site file that describes its nodes and queues. Raises :class:`SiteFileError` saying what is wrong where."""
    try:
        text = read_text(path)
    except FileNotFoundError:
        raise SiteFileError(f"{path} is not there") from None
    found = site_of(_BARE, text, str(path))
    if not found.nodes:
        raise SiteFileError(f"{path} describes no nodes; a rehearsal site needs [[nodes]] and [[queues]]")
    return found
