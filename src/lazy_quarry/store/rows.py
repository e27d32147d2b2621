"""Events, jobs and the state as rows of the journal's tables, and back."""

from collections.abc import Iterable, Mapping
from typing import Any

import msgspec

from lazy_quarry.core.engine.events import Ended, Event
from lazy_quarry.core.engine.state import State
from lazy_quarry.core.job.chain_record import ChainRecord
from lazy_quarry.core.job.job import Job, Phase
from lazy_quarry.core.job.phase import FAILING, left_undone
from lazy_quarry.core.ledger.accounts import Tally
from lazy_quarry.core.ledger.budgets import Grant, MemberChange
from lazy_quarry.core.ledger.charges import by_day
from lazy_quarry.core.site import Window
from lazy_quarry.store.checks import MASK, as_number, next_chain, row_check, text_check
from lazy_quarry.store.codec import decode, encode, from_json, lean, text_key, to_json, whole
from lazy_quarry.store.storage import Cell, EndedRow, EventRow, LiveRow

_PART_KINDS: dict[str, Any] = {
    "closures": dict[str, str],
    "closed_ms": dict[str, int],
    "quiet": dict[str, int],
    "tallies": dict[str, Tally],
    "orders": dict[str, tuple[int, ...]],
    "reserved": dict[str, Window],
    "grants": dict[str, tuple[Grant, ...]],
    "meters": dict[int, dict[str, int]],
    "warned": dict[str, dict[int, int]],
    "member_changes": dict[str, tuple[MemberChange, ...]],
    "chains": dict[int, ChainRecord],
}
_OF_ACCOUNT = dict[str, dict[int, int]]
THINNED = "thinned"
"""The kind of an event of which only the checksums are left: its job ended so long ago that the site keeps no more."""
RECENT = "recent:"
"""Recent use is kept in a part for each account."""


class Texts:
    """The texts that rows refer to: those seen lately stay at hand."""

    MOST = 2_000

    def __init__(self) -> None:
        self._known: dict[int, str] = {0: ""}

    def keep(self, text: str, new: dict[int, str]) -> int:
        """The key of a text, which is put among ``new`` unless it was there lately."""
        key = text_key(text)
        if key not in self._known:
            if len(self._known) > self.MOST:
                self._known = {0: ""}
            self._known[key] = new[key] = text
        return key

    def forget(self, keys: Iterable[int]) -> None:
        """These could not be written after all."""
        for key in keys:
            self._known.pop(key, None)

    def missing(self, keys: Iterable[int]) -> set[int]:
        """Texts of these that are not at hand."""
        return {key for key in keys if key not in self._known}

    def add(self, found: Mapping[int, str]) -> None:
        """Take in texts that were read."""
        self._known |= found

    def __getitem__(self, key: int) -> str:
        return self._known[key]


# -- events ---------------------------------------------------------------------------------------


def event_row(number: int, event: Event, chain: bytes, texts: Texts, new: dict[int, str]) -> EventRow:
    """An event as it is kept, after the one with this chained checksum."""
    short, script, environment = lean(event)
    kind, body = encode(short)
    own = texts.keep(script, new) if script else 0
    given = texts.keep(environment, new) if environment else 0
    job = getattr(event, "job", None)
    check = event_check(number, event.at_ms, kind, job, body, own, given)
    return EventRow(number, event.at_ms, kind, job, body, own, given, check, next_chain(chain, check))


def event_check(number: int, at_ms: int, kind: str, job: int | None, body: str, script: int, environment: int) -> bytes:
    """The checksum of an event's own row."""
    return text_check(f"{number}\x1f{at_ms}\x1f{kind}\x1f{job}\x1f{script}\x1f{environment}\x1f{body}")


def is_whole(row: EventRow) -> bool:
    """True when an event's row is as it was written."""
    return row.kind == THINNED or event_check(*row[:7]) == row.own_check


def event_of(row: EventRow, texts: Texts) -> Event:
    """The event of a row, whose texts are at hand."""
    event: Event = whole(decode(row.kind, row.body), texts[row.script], texts[row.environment])
    return event


# -- jobs -----------------------------------------------------------------------------------------


def live_row(job: Job, texts: Texts, new: dict[int, str]) -> LiveRow:
    """A job that has not ended, as it is kept."""
    short, script, environment = lean(job)
    values = job.number, to_json(short), texts.keep(script, new), texts.keep(environment, new)
    return LiveRow(*values, row_check(*values))


def ended_row(job: Job, texts: Texts, new: dict[int, str]) -> EndedRow:
    """A job in the form of the table of ended jobs."""
    short, script, environment = lean(job)
    return checked_row(
        EndedRow(
            job=job.number,
            user=job.user,
            account=job.request.account,
            queue=job.queue or job.request.queues[0],
            tier=job.request.tier,
            name=job.request.name,
            phase=job.phase.value,
            submitted_ms=job.submitted_ms,
            started_ms=job.started_ms,
            ended_ms=job.ended_ms or 0,
            allocated_core_ms=job.allocated_core_ms,
            charge_core_ms=job.charge_core_ms,
            cpu_ms=job.cpu_ms(),
            first_start_ms=job.times.first_start_ms,
            waited_ms=job.waited_ms(job.ended_ms or 0),
            cores=job.cores_allocated or job.task_cores,
            again_of=job.origin.again_of if job.parent is None else 0,
            body=to_json(short),
            script=texts.keep(script, new),
            environment=texts.keep(environment, new),
            own_check=b"",
        )
    )


def checked_row(row: EndedRow) -> EndedRow:
    """The row of an ended job with its own checksum."""
    return row._replace(own_check=row_check(*row[:-1]))


def ended_is_whole(row: EndedRow) -> bool:
    """True when the row of an ended job is as it was written."""
    return row_check(*row[:-1]) == row.own_check


def job_of(body: str, script: str, environment: str) -> Job:
    """The job of a row."""
    job: Job = whole(from_json(Job, body), script, environment)
    return job


def sum_cells(job: Job, end: Ended) -> list[Cell]:
    """Amounts that one end adds to the sums, by UTC day; the job itself counts on its last day."""
    begin = job.started_ms if job.started_ms is not None else end.at_ms
    held = by_day(begin, end.at_ms, end.allocated_core_ms)
    charged = by_day(begin, end.at_ms, end.charge_core_ms)
    ran = job.started_ms is not None  # an end between two attempts has the use of the last one, which is counted
    used = by_day(begin, end.at_ms, end.use.cpu_ms if ran else 0)
    asked = by_day(begin, end.at_ms, job.cores_allocated * job.request.walltime_s * 1000 if ran else 0)
    # What went on from a state that it had kept lost nothing; any other attempt that failed, or came back, did.
    lost = end.phase in FAILING and not (end.again and job.request.again_at_overtime and end.phase is Phase.OVERTIME)
    lost = lost or (end.again and end.phase not in FAILING and end.phase is not Phase.DONE)
    cells = list[Cell]()
    for number, ((day, held_part), (_, charged_part), (_, used_part), (_, asked_part)) in enumerate(
        zip(held, charged, used, asked, strict=True)
    ):
        last = number == len(held) - 1 and not end.again
        cells.append(
            Cell(
                day_ms=day,
                account=job.request.account,
                user=job.user,
                queue=job.queue or job.request.queues[0],
                tier=job.request.tier,
                name=job.request.name,
                jobs=int(last),
                failed=int(last and left_undone(end.phase, end.planned)),
                allocated_core_ms=held_part,
                charge_core_ms=charged_part,
                cpu_ms=used_part,
                lost_core_ms=held_part if lost else 0,
                lost_cpu_ms=used_part if lost else 0,
                asked_core_ms=asked_part,
            )
        )
    return cells


def end_of(job: Job) -> Ended:
    """The end of a job that ended before the journal began."""
    return Ended(
        job.ended_ms or 0,
        job.number,
        job.attempt,
        job.phase,
        planned=job.planned,
        use=job.use,
        allocated_core_ms=job.allocated_core_ms,
        charge_core_ms=job.charge_core_ms,
        held_ms=job.times.held_ms,
    )


# -- the rest of the state ------------------------------------------------------------------------


class Scalars(msgspec.Struct, frozen=True):
    """The single values of a state, after so many events, with what its live jobs add up to."""

    after: int
    at_ms: int
    next_number: int
    clock_held_ms: int
    jobs: int
    jobs_sum: int


def scalars_of(state: State, after: int, checks: Mapping[int, bytes]) -> str:
    """The single values of a state after so many events; ``checks`` are the checksums of its live jobs."""
    total = sum(as_number(check) for check in checks.values())
    found = Scalars(after, state.at_ms, state.next_number, state.clock_held_ms, len(checks), total & MASK)
    return sealed(msgspec.json.encode(found).decode())


def parts_of(state: State, accounts: Iterable[str]) -> dict[str, str]:
    """The small tables of a state, and the recent use of some accounts."""
    found = {name: sealed(to_json(getattr(state, name))) for name in _PART_KINDS}
    for account in accounts:
        found[RECENT + account] = sealed(to_json(state.recent.get(account, {})))
    return found


def sealed(body: str) -> str:
    """A part with its checksum before it."""
    return f"{row_check(body).hex()} {body}"


def opened(part: str) -> str:
    """The opposite of :func:`sealed`. Raises :class:`ValueError` when it is not as it was written."""
    check, _, body = part.partition(" ")
    if row_check(body).hex() != check:
        raise ValueError("a part of the state is not as it was written")
    return body


def state_of(jobs: dict[int, Job], parts: Mapping[str, str], scalars: Scalars | None) -> State:
    """The state that rows add up to."""
    found: dict[str, Any] = {
        name: from_json(kind, opened(parts[name])) for name, kind in _PART_KINDS.items() if name in parts
    }
    found["recent"] = {
        key.removeprefix(RECENT): from_json(_OF_ACCOUNT, opened(body))
        for key, body in sorted(parts.items())
        if key.startswith(RECENT)
    }
    if scalars is not None:
        found |= {name: getattr(scalars, name) for name in ("at_ms", "next_number", "clock_held_ms")}
    found["next_chain"] = max(found.get("chains", ()), default=0) + 1
    return State.kept(jobs, **found)
