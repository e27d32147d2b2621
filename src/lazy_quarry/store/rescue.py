"""Saving what is whole of a damaged journal: every event whose checksum is right goes into a new one."""

import shutil
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from uuid import uuid4

import msgspec
from msgspec import Struct

from lazy_quarry.core.engine.events import BroughtForward, Ended, Event, Held, Submitted, TaskMade
from lazy_quarry.core.engine.in_doubt import in_doubt
from lazy_quarry.core.engine.state import State
from lazy_quarry.core.engine.task_numbers import label_of
from lazy_quarry.core.job.job import Job
from lazy_quarry.core.job.phase import left_undone
from lazy_quarry.core.units import plural
from lazy_quarry.errors import StateFolderError
from lazy_quarry.store.head import Head
from lazy_quarry.store.journal import Journal
from lazy_quarry.store.journal_location import is_copy, moved_in
from lazy_quarry.store.rows import THINNED, Texts, event_of, job_of
from lazy_quarry.store.sqlite.sql_storage import FILE, SqlStorage
from lazy_quarry.store.sqlite.whole_events import Found, whole_events
from lazy_quarry.store.storage import EventRow

RESCUED = "rescued"
"""The folder, in the state folder, of the new journal until somebody puts it in the place of the old one."""
BATCH, MOST_TOLD = 200, 30
_BESIDE = (f"{FILE}-wal", f"{FILE}-shm", f"{FILE}-wal.saved", "journal.head")


class Rescue(Struct, frozen=True):
    """The outcome of a rescue: what was saved, and what was not. Numbers are those of events in the old journal."""

    whole: int
    missing: tuple[tuple[int, int], ...]
    """Ranges of numbers, ends included, of events that can't be read any more, as far as the newest that is known of."""
    unfit: tuple[int, ...]
    """Events that are whole and that nothing could be made of, since one that they follow is missing."""
    jobs: tuple[int, ...]
    """Jobs that missing or unfit events may have been about: those that can be told."""
    held: tuple[tuple[str, str], ...] = ()
    """Jobs that are held from now on, until somebody releases them, and by what."""
    lost: tuple[str, ...] = ()
    """Jobs that are lost, since they ran from the folder that this one is a copy of."""

    @property
    def words(self) -> str:
        """Say what was saved and what was not, in a sentence each."""
        said = [f"{plural(self.whole, 'event')} were whole"]
        if self.missing:
            said.append(f"missing are {', '.join(_range(*one) for one in self.missing)}")
        if self.unfit:
            said.append(f"left out are {', '.join(map(str, self.unfit))}, which followed a missing one")
        if self.jobs:
            said.append(f"jobs that this is known to touch: {', '.join(map(str, self.jobs))}")
        if self.lost:
            said.append(f"lost are {_listed(self.lost)}, which ran from the folder that this one is a copy of")
        for by in dict.fromkeys(by for _, by in self.held):
            said.append(f"held are {_listed([job for job, why in self.held if why == by])}, by {by}")
        if self.held:
            said.append("lq release JOB lets one go, once you know that it has not run")
        return "; ".join(said)


def _listed(jobs: Sequence[str]) -> str:
    more = f" and {len(jobs) - MOST_TOLD} more" if len(jobs) > MOST_TOLD else ""
    return f"{'jobs' if len(jobs) > 1 else 'job'} {', '.join(jobs[:MOST_TOLD])}{more}"


def _range(first: int, last: int) -> str:
    return str(first) if first == last else f"{first} to {last}"


def rescue(folder: Path, ran: Mapping[int, int] | None = None) -> Rescue:
    """Make a new journal, in a folder of its own beside the old one, from all events that are whole.

    Where events are missing, or the folder is a copy, what has not started is held in the new one. ``ran``: by job, the newest
    attempt that is known to have been begun by what lies beside the journal. The old one is left as it is. Raises
    :class:`StateFolderError` when there is nothing to be saved.
    """
    there = whole_events(folder)
    found, texts = there.events, there.texts
    if not found:
        raise StateFolderError(f"no event of the journal in {folder} is whole; restore {FILE} from a backup")
    new = folder / RESCUED
    shutil.rmtree(new, ignore_errors=True)
    new.mkdir(mode=0o700)
    head = Head(folder)
    newest = max(max(found), head.number if head.identity == there.identity else 0)
    missing = tuple(_ranges(number for number in range(1, newest + 1) if number not in found))
    storage = SqlStorage(new)
    storage.set_meta({"identity": there.identity or uuid4().hex})
    journal = Journal(new, storage)
    unfit: list[EventRow] = []
    written, ahead, batch = State(), State(), list[Event]()
    for _, row in sorted(found.items()):
        if row.kind == THINNED:
            continue
        event = _fitting(row, texts, ahead)
        if event is None:
            unfit.append(row)
            continue
        if isinstance(event, Ended) or len(batch) >= BATCH:
            _write(journal, batch, written)
            batch = []
        batch.append(event)
        ahead.apply(event)
    _write(journal, batch, written)
    _add_records(journal, there, written)
    copied = is_copy(there.meta, folder) or there.meta.get("adopted") == "yes"
    doubt = bool(missing or unfit or copied or there.meta.get("adopted"))
    events = in_doubt(written, written.at_ms, copied, ran or {}) if doubt else []
    held = tuple((label_of(written, event.job), event.by.name) for event in events if isinstance(event, Held))
    lost = tuple(label_of(written, event.job) for event in events if isinstance(event, Ended))
    _write(journal, events, written)
    journal.close()
    jobs = tuple(sorted({row.job for row in unfit if row.job}))
    return Rescue(len(found), missing, tuple(row.number for row in unfit), jobs, held, lost)


def _add_records(journal: Journal, there: Found, state: State) -> None:
    """Add what the records of ended jobs say beside the events: the ends that are missing, and jobs whose events are."""
    jobs: list[Job] = []
    tallies: dict[str, tuple[int, int, int, int]] = {}
    rows = [row for row in there.ended.values() if not there.texts.missing((row.script, row.environment))]
    # Tasks come before their arrays, which are closed by them.
    for row in sorted(rows, key=lambda row: (row.ended_ms, -row.job)):
        number = row.job
        job = job_of(row.body, there.texts[row.script], there.texts[row.environment])
        if number in state.jobs:
            _write(journal, [_end_of(job, state.jobs[number])], state)
        elif journal.ended_job(number) is None:
            jobs.append(job)
            if job.request.array is None:
                charged, held, count, failed = tallies.get(job.request.account, (0, 0, 0, 0))
                failed += left_undone(job.phase, job.planned)
                sums = charged + job.charge_core_ms, held + job.allocated_core_ms, count + 1, failed
                tallies[job.request.account] = sums
    if jobs:
        journal.import_past(jobs)
        at = state.at_ms
        _write(journal, [BroughtForward(at, account, *sums) for account, sums in tallies.items()], state)


def _end_of(record: Job, live: Job) -> Ended:
    """The end that a record tells of a job which, by the events that are left, has not ended."""
    return Ended(
        at_ms=record.ended_ms or 0,
        job=record.number,
        attempt=record.attempt,
        phase=record.phase,
        exit=record.exit,
        signal=record.signal,
        reason=record.reason,
        use=record.use,
        allocated_core_ms=max(0, record.allocated_core_ms - live.allocated_core_ms),
        charge_core_ms=max(0, record.charge_core_ms - live.charge_core_ms),
        held_ms=max(0, record.times.held_ms - live.times.held_ms),
        planned=record.planned,
    )


def _write(journal: Journal, batch: list[Event], state: State) -> None:
    journal.append(batch, state)
    for event in batch:
        state.apply(event)


def _fitting(row: EventRow, texts: Texts, state: State) -> Event | None:
    """The event of a row, if what it is about is there."""
    try:
        event = event_of(row, texts)
    except (KeyError, ValueError, msgspec.MsgspecError):
        return None
    if isinstance(event, Submitted):
        return event
    if isinstance(event, TaskMade):
        parent = state.jobs.get(event.parent)
        return event if parent is not None and parent.request.array is not None else None
    job = getattr(event, "job", None)
    return event if job is None or job in state.jobs else None


def _ranges(numbers: Iterable[int]) -> Iterable[tuple[int, int]]:
    first = last = 0
    for number in numbers:
        if first and number == last + 1:
            last = number
            continue
        if first:
            yield first, last
        first = last = number
    if first:
        yield first, last


def use_rescued(folder: Path) -> Path:
    """Put the rescued journal in the place of the damaged one; returns the folder where that is kept."""
    new = folder / RESCUED
    if not (new / FILE).exists():
        raise StateFolderError(f"{folder} holds no rescued journal; make one with: lazy-quarry journal rescue")
    copied = is_copy(whole_events(folder).meta, folder)
    number = 1
    while (old := folder / f"damaged-{number}").exists():
        number += 1
    old.mkdir(mode=0o700)
    for name in (FILE, *_BESIDE):
        if (folder / name).exists():
            (folder / name).rename(old / name)
    for name in (FILE, *_BESIDE):
        if (new / name).exists():
            (new / name).rename(folder / name)
    shutil.rmtree(new, ignore_errors=True)
    moved_in(folder, copied)
    return old
