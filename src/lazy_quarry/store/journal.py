"""The append-only record of everything that happened, and what is kept in the same transactions.

One writer. An event is on disk, synchronously, when :meth:`Journal.append` returns; when it raises, nothing of the call is
there. Beside the events stand the jobs that have not ended, as they were a few hundred events ago: so a journal opens without
replaying its past, and the engine never stands still to write all of its state.
"""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, nullcontext
from itertools import islice
from pathlib import Path
from typing import Any
from uuid import uuid4

import msgspec

from lazy_quarry.core.engine.events import Ended, Event
from lazy_quarry.core.engine.job_changes import job_after
from lazy_quarry.core.engine.state import State
from lazy_quarry.core.job.job import TASK_SPAN, Job, make_task
from lazy_quarry.core.ledger.budgets import FOR_EVER
from lazy_quarry.core.units import plural
from lazy_quarry.errors import DamagedJournal, StateFolderError
from lazy_quarry.store.checks import first_chain
from lazy_quarry.store.folder import make_folder
from lazy_quarry.store.head import Head
from lazy_quarry.store.journal_location import is_copy, place_of
from lazy_quarry.store.rows import (
    THINNED,
    Scalars,
    Texts,
    end_of,
    ended_is_whole,
    ended_row,
    event_of,
    event_row,
    is_whole,
    job_of,
    live_row,
    opened,
    parts_of,
    scalars_of,
    state_of,
    sum_cells,
)
from lazy_quarry.store.sqlite.sql_storage import FILE, SqlStorage
from lazy_quarry.store.sqlite.tables import VERSION
from lazy_quarry.store.storage import CELL_VALUES, Batch, Cell, EndedFilter, EndedRow, EventRow, Storage, Wanted
from lazy_quarry.store.sums_at_hand import SumsAtHand
from lazy_quarry.store.typed_json import decoder
from lazy_quarry.store.verify import Totals, copy_of, problems_of, verified_events

MOST_TASKS = 100_000
"""Tasks of one array that are read together."""
KEEP_EVERY = 500
"""Events after which the jobs that have changed are written as they are then; opening replays no more than these."""
FOLLOWED = 500
"""Events that are taken in together when another process writes them."""
CHECKED_BYTES = 2 * 2**20
"""A journal up to this size is checked whole whenever it is opened, in a fifth of a second; of a larger one what is read then."""


class Journal:
    """The journal of one state folder, or in memory when ``folder`` is None."""

    def __init__(self, folder: Path | None, storage: Storage | None = None, reading: bool = False) -> None:
        """Open or make the journal; for ``reading``, only open one that is there, beside an engine that goes on writing it.

        Raises :class:`StateFolderError` when the folder cannot be used, :class:`DamagedJournal` when what it holds is
        not what was written.
        """
        self.folder, self.reading = folder, reading
        try:
            self._open(folder, storage)
        except DamagedJournal as fault:
            raise _with_what_is_whole(fault, folder) from None

    def _open(self, folder: Path | None, storage: Storage | None) -> None:
        head = Head(folder) if folder is not None else None
        try:
            if folder is not None and not self.reading:
                make_folder(folder)
        except OSError as fault:
            raise StateFolderError(f"{folder} cannot be used: {fault.strerror}") from None
        self.storage: Storage = storage or SqlStorage(folder, head.number if head else 0, self.reading)
        self.sums = SumsAtHand(self.storage)
        self._texts, self._live_checks = Texts(), dict[int, bytes]()
        self._head = head
        known = self._known()
        self.identity = known["identity"]
        """The mark of this journal, which no other has."""
        self.epoch = _epoch_of(known)
        """The number of this start of an engine; nothing is taken from one of a lower number any more."""
        self.adopted = known.get("adopted", "")
        """``yes`` once a copied folder was made a site of its own, ``rescued`` once events were lost; until that is settled."""
        self.number, self.chain, self.kept_at = 0, first_chain(self.identity), 0
        self._totals, self._parts = Totals(), dict[str, str]()
        self.checked = False
        """True when all of it was read and compared at opening."""
        self._look()
        if not self.reading:
            # Nothing is written into a journal that is damaged; an engine before this one may have written until now.
            self._begin(known)
            if (last := self.storage.last_event()) is not None and last.number != self.number:
                self._look()
        self.storage.proven()

    # -- opening -----------------------------------------------------------------------------------

    def _look(self) -> None:
        """See how far it goes, and whether it is whole. Raises :class:`DamagedJournal`."""
        last = self.storage.last_event()
        if last is not None:
            self.number, self.chain = last.number, last.chain
        self._compare_head()
        self.checked = not self.reading and (not self.number or self.storage.size() <= CHECKED_BYTES)
        if self.folder is not None and self.number and self.checked:
            for problem in self.problems():
                raise DamagedJournal(self.folder, problem)

    def _known(self) -> dict[str, str]:
        """Read its own description, with an identity where it is new. Raises :class:`StateFolderError` for a copied folder's."""
        known = self.storage.meta()
        if self.reading:
            if "identity" not in known:
                raise DamagedJournal(self.folder, "it doesn't say which journal it is")
            return known
        if self.folder and is_copy(known, self.folder):
            raise StateFolderError(
                f"{self.folder} is a copy of {known['path']}; jobs that it records as running belong to the "
                f'original. To make it a site of its own: lazy-quarry adopt --state "{self.folder}"'
            )
        return known if "identity" in known else {**known, "identity": uuid4().hex}

    def _begin(self, known: dict[str, str]) -> None:
        """Take the next epoch, and note the form and the place of the journal."""
        place = place_of(self.folder) if self.folder else {}
        wanted = {"version": str(VERSION), "identity": self.identity, **place, "epoch": str(self.epoch + 1)}
        try:
            self.storage.begin_epoch(wanted)
        except StateFolderError:
            if any(known.get(key) != value for key, value in wanted.items() if key != "epoch"):
                raise
            return  # as on a full disk: it can be looked at, with the number of the engine before
        self.epoch += 1

    def lift_epoch(self, above: int) -> None:
        """Take a number above one that was seen elsewhere: the journal was put back to an earlier state.

        Raises :class:`StateFolderError`.
        """
        self.epoch = above + 1
        self.storage.begin_epoch({"epoch": str(self.epoch)})

    def _compare_head(self) -> None:
        """Compare with what was noted outside of the journal: events that were written last may be missing."""
        head = self._head
        if head is None or not head.number or self.adopted:
            return
        if head.identity != self.identity:
            raise DamagedJournal(
                self.folder,
                f"it is not the one that was here, which had {head.number:,} events (to go on with this one all the same: "
                f"lazy-quarry adopt)",
            )
        if head.number <= self.number:
            return
        missing = head.number - self.number
        raise DamagedJournal(
            self.folder,
            f"it ends with event {self.number:,}, and the {missing:,} that were written after it are missing (it may have "
            f"been put back to an earlier state; to go on from there, with all that may have run on hold: "
            f"lazy-quarry journal rescue --use)",
        )

    def settle_adoption(self) -> None:
        """Mark that the jobs which the copied folder recorded as live were handled."""
        self.storage.set_meta({"adopted": None})
        self.adopted = ""

    def close(self) -> None:
        """Close the files."""
        self.storage.close()
        if self._head is not None:
            self._head.close()

    def load(self) -> State:
        """The state: the jobs and sums that are kept, and the events after them."""
        with self.one_view() if self.reading else nullcontext():
            return self._load()

    def _load(self) -> State:
        try:
            state, after = self._kept_state()
            if self.reading:  # the engine may have written more since this was opened
                self.number = after
            for row in verified_events(self.storage, self.identity, after):
                state.apply(self.read_event(row))
                if self.reading:
                    self.number, self.chain = row.number, row.chain
        except (msgspec.MsgspecError, KeyError, ValueError, AssertionError) as fault:
            raise DamagedJournal(self.folder, str(fault) or type(fault).__name__) from None
        self.kept_at = after
        return state

    def _kept_state(self) -> tuple[State, int]:
        parts, rows = self.storage.parts(), self.storage.live()
        self._read_texts(key for row in rows for key in (row.script, row.environment))
        jobs = {row.job: job_of(row.body, self._texts[row.script], self._texts[row.environment]) for row in rows}
        self._live_checks = {row.job: row.own_check for row in rows}
        scalars = decoder(Scalars).decode(opened(parts["scalars"])) if "scalars" in parts else None
        if "totals" in parts:
            self._totals = decoder(Totals).decode(opened(parts["totals"]))
        self._parts = parts
        return state_of(jobs, parts, scalars), scalars.after if scalars else 0

    def read_event(self, row: EventRow) -> Event:
        """The event in a row, with its script and environment."""
        self._read_texts((row.script, row.environment))
        return event_of(row, self._texts)

    def _read_texts(self, keys: Iterable[int]) -> None:
        missing = self._texts.missing(keys)
        if missing:
            found = self.storage.texts(missing)
            self._texts.add(found)
            if lost := missing - set(found):
                raise ValueError(f"{len(lost)} of the scripts and environments are missing")

    # -- writing -----------------------------------------------------------------------------------

    def append(self, happened: Sequence[Event], state: State) -> None:
        """Write events, with the ended jobs and sums that follow from them, in one transaction.

        ``state`` is the state before them. Raises :class:`StateFolderError`, and then nothing was written.
        """
        if not happened:
            return
        self._still_there()
        batch, number, chain = Batch(), self.number, self.chain
        totals = copy_of(self._totals)
        for one in happened:
            number += 1
            row = event_row(number, one, chain, self._texts, batch.texts)
            chain = row.chain
            batch.events.append(row)
        ends = [one for one in happened if isinstance(one, Ended)]
        if ends:
            self._record_ends(batch, ends, state)
            self._add_up(batch, totals)
        checks = None
        if self.number - self.kept_at >= KEEP_EVERY:
            checks = self._keep(batch, state)
        try:
            self.storage.write(batch)
            self._still_there()
        except StateFolderError:
            self._texts.forget(batch.texts)
            raise
        self.number, self.chain, self._totals = number, chain, totals
        self.sums.take(batch.cells)
        if checks is not None:
            self.kept_at, self._live_checks = batch.events[0].number - 1, checks
            _changes(state.jobs).clear()
            _changes(state.recent).clear()
        if self._head is not None:
            self._head.note(self.identity, number)

    def _still_there(self) -> None:
        if problem := self.storage.changed_outside():
            raise StateFolderError(
                f"{problem} while the engine used it, so nothing more is taken in; put back the very file in {self.folder}, "
                f"or stop the engine and start it again: what was taken in before is lost with the file"
            )

    def _keep(self, batch: Batch, state: State) -> dict[int, bytes]:
        """Add what has changed of the state since it was kept last, as it is after the event that was taken in last."""
        checks = dict(self._live_checks)
        for number in sorted(_changes(state.jobs)):
            job = state.jobs.get(number)
            if job is None:
                if checks.pop(number, None) is not None:
                    batch.gone.append(number)
            else:
                row = live_row(job, self._texts, batch.texts)
                checks[number] = row.own_check
                batch.live.append(row)
        found = parts_of(state, _changes(state.recent))
        batch.parts |= {key: body for key, body in found.items() if self._parts.get(key) != body}
        batch.parts["scalars"] = scalars_of(state, self.number, checks)
        self._parts |= found
        return checks

    def _record_ends(self, batch: Batch, ends: Sequence[Ended], state: State) -> None:
        for job, end in _ended_jobs(ends, state):
            if job.request.array is None:
                batch.cells += sum_cells(job, end)
            if not end.again:
                batch.ended.append(ended_row(job_after(job, end), self._texts, batch.texts))

    def _add_up(self, batch: Batch, totals: Totals) -> None:
        totals.add(batch.ended, batch.cells)
        batch.parts["totals"] = totals.sealed()

    def thin(self, ended_before_ms: int, most: int = 2000) -> int:
        """Keep only the checksums of events of jobs that ended before an instant; returns of how many, ``most`` at most.

        The records of these jobs and all sums stay. Events that opening may need are left.
        """
        self._still_there()
        return self.storage.thin(ended_before_ms, self.kept_at, most)

    def append_past(self, happened: Iterable[Event]) -> None:
        """Write a whole history into an empty journal in one transaction: ends and sums included, and the state after it."""
        state, batch, totals = State(), Batch(), copy_of(self._totals)
        for one in happened:
            row = event_row(self.number + 1, one, self.chain, self._texts, batch.texts)
            self.number, self.chain = row.number, row.chain
            batch.events.append(row)
            if isinstance(one, Ended):
                self._record_ends(batch, [one], state)
            state.apply(one)
        self._add_up(batch, totals)
        self._live_checks = self._keep(batch, state)
        self.storage.write(batch)
        self._totals, self.kept_at = totals, self.number
        self.sums.take(batch.cells)

    def import_past(self, jobs: Iterable[Job]) -> None:
        """Add jobs that ended before this journal began: rows and sums, without events."""
        batch, totals = Batch(), copy_of(self._totals)
        for job in jobs:
            batch.ended.append(ended_row(job, self._texts, batch.texts))
            batch.cells += sum_cells(job, end_of(job))
        self._add_up(batch, totals)
        self.storage.write(batch)
        self._totals = totals
        self.sums.forget()

    # -- reading -----------------------------------------------------------------------------------

    def one_view(self) -> AbstractContextManager[None]:
        """Have this thread read all as it was at one instant, though the engine may go on writing."""
        return self.storage.one_view()

    def follow(self, state: State, hear: Callable[[int, list[Event]], None]) -> None:
        """Take in what another journal object, the engine's, has written since: ``hear`` gets events, the first with this number.

        ``state`` is the state before them; ``hear`` applies them to it.
        """
        while several := list(islice(self.storage.events(self.number), FOLLOWED)):
            happened = list[Event]()
            for row in several:
                if row.number != self.number + len(happened) + 1:
                    raise DamagedJournal(self.folder, f"event {self.number + len(happened) + 1:,} is missing")
                if row.kind == THINNED:
                    raise StateFolderError(f"event {row.number:,} was thinned before it was read")
                event = self.read_event(row)
                if isinstance(event, Ended):  # what it adds to the sums hangs on its job just before it
                    self._followed(happened, hear)
                    happened = []
                    self.sums.take(_cells_of_ends([event], state))
                happened.append(event)
            self._followed(happened, hear)
            self.chain = several[-1].chain
            _changes(state.jobs).clear()  # nothing of them is to be written here
            _changes(state.recent).clear()

    def _followed(self, happened: list[Event], hear: Callable[[int, list[Event]], None]) -> None:
        if happened:
            first, self.number = self.number + 1, self.number + len(happened)
            hear(first, happened)

    def ended(self, wanted: EndedFilter) -> list[Job]:
        """Ended jobs, newest first."""
        return self._jobs(self.storage.ended(wanted))

    def ended_job(self, number: int) -> Job | None:
        """One ended job."""
        row = self.storage.ended_job(number)
        return self._jobs([row])[0] if row else None

    def ended_jobs(self, numbers: Iterable[int]) -> dict[int, Job]:
        """Some ended jobs, by number."""
        return {job.number: job for job in self._jobs(self.storage.ended_jobs(numbers))}

    def ended_after(self, at_ms: int, job: int, limit: int) -> list[Job]:
        """Ended jobs and tasks in the order of their ends and numbers, from the one after these."""
        return self._jobs(self.storage.ended_after(at_ms, job, limit))

    def _jobs(self, rows: Sequence[EndedRow]) -> list[Job]:
        try:
            self._read_texts(key for row in rows for key in (row.script, row.environment))
            for row in rows:
                if not ended_is_whole(row):
                    raise ValueError(f"the record of job {row.job} is not as it was written")
            return [job_of(row.body, self._texts[row.script], self._texts[row.environment]) for row in rows]
        except (msgspec.MsgspecError, ValueError) as fault:
            raise DamagedJournal(self.folder, str(fault)) from None

    def waits(self, wanted: Wanted) -> list[tuple[Any, ...]]:
        """Waits of a period: keys, then all in ms, then all cores in thousandths, as texts with commas."""
        return self.storage.waits(wanted)

    def spans(self, wanted: Wanted) -> list[tuple[int, int, int]]:
        """Runs in a period: their beginnings, ends and core-ms."""
        return self.storage.spans(wanted)

    def first_day(self) -> int | None:
        """The first instant of the first day of which there are sums; None without any."""
        return self.storage.first_day()

    def all_cells(self) -> Iterator[Cell]:
        """All sums, in any order."""
        return self.storage.all_cells()

    def charged(self, since_ms: int) -> dict[str, int]:
        """Core-ms that each account was charged from a day on."""
        wanted = Wanted(since_ms, FOR_EVER, ("account",), {})
        return {row[0]: row[1 + CELL_VALUES.index("charge_core_ms")] for row in self.storage.sums(wanted)}

    def events_of(self, job: int) -> list[Event]:
        """All that happened to a job, in order."""
        return self._whole(self.storage.events_of(job))

    def events_of_kinds(self, kinds: Iterable[str]) -> list[Event]:
        """All events of these kinds, in order. It reads the whole journal."""
        return self._whole(self.storage.events_of_kinds(kinds))

    def _whole(self, rows: Sequence[EventRow]) -> list[Event]:
        try:
            for row in rows:
                if not is_whole(row):
                    raise ValueError(f"event {row.number:,} is not as it was written")
            return [self.read_event(row) for row in rows if row.kind != THINNED]
        except (msgspec.MsgspecError, ValueError, KeyError) as fault:
            raise DamagedJournal(self.folder, str(fault)) from None

    def events_after(self, number: int) -> Iterator[tuple[int, Event]]:
        """The events after one, each with its number."""
        for row in self.storage.events(number):
            if row.kind != THINNED:
                yield row.number, self.read_event(row)

    def problems(self) -> Iterator[str]:
        """Everything that is not as it was written, the first problem of each kind."""
        yield from problems_of(self.storage, self.identity)


def _with_what_is_whole(fault: DamagedJournal, folder: Path | None) -> DamagedJournal:
    """The same with how many events can still be read."""
    if folder is None or not (folder / FILE).exists() or (folder / FILE).stat().st_size > 32 * CHECKED_BYTES:
        return fault
    from lazy_quarry.store.sqlite.whole_events import whole_events  # not needed by a journal that is whole

    return DamagedJournal(folder, fault.what, f"{plural(len(whole_events(folder).events), 'event')} can still be read")


def _ended_jobs(ends: Sequence[Ended], state: State) -> Iterator[tuple[Job, Ended]]:
    """Each of these ends with its job as it was before it; ``state`` is the one before them all."""
    known = {end.job: state.jobs.get(end.job) for end in ends}
    for end in ends:
        job = known[end.job]
        if job is None:  # a task that is made by the same events
            job = make_task(state.jobs[end.job // TASK_SPAN], end.job % TASK_SPAN - 1)
        yield job, end
        known[end.job] = job_after(job, end)


def _cells_of_ends(ends: Sequence[Ended], state: State) -> list[Cell]:
    """Amounts that these ends add to the sums."""
    return [cell for job, end in _ended_jobs(ends, state) if job.request.array is None for cell in sum_cells(job, end)]


def _changes(table: Any) -> set[Any]:
    """Changed entries of a table of the state; of one that doesn't track changes, all."""
    changed: set[Any] | None = getattr(table, "changed", None)
    return set(table) if changed is None else changed


__all__ = ["MOST_TASKS", "EndedFilter", "Journal"]


def _epoch_of(known: Mapping[str, str]) -> int:
    found = known.get("epoch", "")
    return int(found) if found.isdecimal() else 0
