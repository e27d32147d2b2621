"""Comparing what a journal holds with its checksums."""

from collections.abc import Iterable, Iterator

import msgspec

from lazy_quarry.store.checks import MASK, as_number, cells_sum, first_chain, next_chain, row_check
from lazy_quarry.store.codec import text_key
from lazy_quarry.store.rows import Scalars, ended_is_whole, is_whole, opened, sealed
from lazy_quarry.store.storage import Cell, EndedRow, EventRow, Storage
from lazy_quarry.store.typed_json import decoder


class Totals(msgspec.Struct):
    """The totals that the tables which follow from the events must add up to."""

    ended: int = 0
    ended_sum: int = 0
    cells_sum: int = 0

    def add(self, ended: Iterable[EndedRow], cells: Iterable[Cell]) -> None:
        """Count rows of ended jobs, and what is added to the sums."""
        for row in ended:
            self.ended += 1
            self.ended_sum = (self.ended_sum + as_number(row.own_check)) & MASK
        self.cells_sum = (self.cells_sum + cells_sum((cell.key, cell.values) for cell in cells)) & MASK

    def sealed(self) -> str:
        """The part of the journal that keeps them."""
        return sealed(msgspec.json.encode(self).decode())


def copy_of(totals: Totals) -> Totals:
    """A copy that changes apart from this one."""
    return Totals(totals.ended, totals.ended_sum, totals.cells_sum)


def verified_events(storage: Storage, identity: str, after: int) -> Iterator[EventRow]:
    """The events after a number, each compared with its checksums; raises :class:`ValueError` at the first fault."""
    number, chain = after, first_chain(identity) if after == 0 else None
    for row in storage.events(max(0, after - 1)):
        if row.number <= after:
            chain = row.chain
            continue
        number += 1
        if row.number != number:
            raise ValueError(f"event {number:,} is missing")
        if not is_whole(row):
            raise ValueError(f"event {number:,} is not as it was written")
        if chain is None or next_chain(chain, row.own_check) != row.chain:
            raise ValueError(f"event {number:,} does not follow the one before it")
        chain = row.chain
        yield row


def problems_of(storage: Storage, identity: str) -> Iterator[str]:
    """Everything in a storage that is not as it was written, the first problem of each kind."""
    with storage.one_view():
        yield from list(_problems(storage, identity))


def _problems(storage: Storage, identity: str) -> Iterator[str]:
    if problem := storage.structure_problem():
        yield problem
        return
    try:
        yield from _first_fault_of_events(storage, identity)
        yield from _first_fault_of_tables(storage)
    except (msgspec.MsgspecError, KeyError, ValueError, AssertionError, TypeError) as fault:
        yield str(fault) or type(fault).__name__


def _first_fault_of_events(storage: Storage, identity: str) -> Iterator[str]:
    needed: set[int] = set()
    try:
        for row in verified_events(storage, identity, 0):
            needed |= {row.script, row.environment}
    except ValueError as fault:
        yield str(fault)
        return
    found = {key for key, body in storage.all_texts() if text_key(body) == key}
    if lost := needed - found - {0}:
        yield f"{len(lost)} of the scripts and environments are missing or changed"


def _first_fault_of_tables(storage: Storage) -> Iterator[str]:
    live = storage.live()
    for row in live:
        if row_check(*row[:4]) != row.own_check:
            yield f"the record of job {row.job} is not as it was written"
            return
    parts = storage.parts()
    scalars = decoder(Scalars).decode(opened(parts["scalars"])) if "scalars" in parts else None
    checks = [as_number(row.own_check) for row in live]
    if scalars and (scalars.jobs, scalars.jobs_sum) != (len(checks), sum(checks) & MASK):
        yield "records of jobs that have not ended are missing"
        return
    for body in parts.values():
        opened(body)
    totals = decoder(Totals).decode(opened(parts["totals"])) if "totals" in parts else Totals()
    count, total = 0, 0
    for one in storage.all_ended():
        if not ended_is_whole(one):
            yield f"the record of job {one.job} is not as it was written"
            return
        count, total = count + 1, total + as_number(one.own_check)
    if (count, total & MASK) != (totals.ended, totals.ended_sum):
        yield "records of jobs that have ended are missing"
    if cells_sum((cell.key, cell.values) for cell in storage.all_cells()) != totals.cells_sum:
        yield "the sums by day are not as they were written"
