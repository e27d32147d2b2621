"""The books of a site as its clients read them: reports of a period, and what goes on in it."""

from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence

from lazy_quarry.core.advice.next_time import next_time
from lazy_quarry.core.ledger.burn import BudgetEnd, budget_end
from lazy_quarry.core.ledger.job_record import JobRecord, record_of
from lazy_quarry.core.ledger.period import Period, parse_period, period_between
from lazy_quarry.core.ledger.recent_use import lightness, weight_at
from lazy_quarry.core.ledger.report import (
    KEYS,
    MOST_BY,
    BySize,
    OverTime,
    Report,
    Rhythm,
    ShareLine,
    Sums,
    Waste,
    WasteRow,
    parts_of,
)
from lazy_quarry.core.ledger.report_rows import Jobs, by_size, rhythm_of, rows_of, together
from lazy_quarry.core.units import HOUR_MS
from lazy_quarry.errors import BadValue
from lazy_quarry.site.alike_runs import MOST_RUNS, past_run
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.session import Session
from lazy_quarry.store.journal import EndedFilter
from lazy_quarry.store.storage import CELL_VALUES, PART, Wanted

Key = tuple[str, ...]
BURN = "last 30 days"
"""A budget is taken to go on being used as in this time."""
MOST_WASTED = 5
MOST_RECORDS = 2_000
FILTERS = ("account", "user", "queue", "tier", "name")


class Ledger:
    """Answers about what was used. Jobs that run are counted up to now, in the books of their accounts, and not here."""

    def __init__(self, session: Session) -> None:
        self.session = session

    def report(
        self,
        caller: Caller,
        period: str = "this month",
        by: Sequence[str] | None = None,
        where: Mapping[str, str] | None = None,
        waits: bool = True,
    ) -> Report:
        """A report; see :meth:`SiteClient.report`. Raises :class:`BadValue` for a period, key or filter that there isn't."""
        session, keys = self.session, tuple(by or ())
        only, span = self._chosen(keys, where), self.period(period)
        with session.lock:
            sums = self._sums(span, keys, only)
            before = self._sums(span.moved(-1), (), only)
            jobs = self._jobs(span, keys, only) if waits else Jobs()
        earlier = together(before.values(), Jobs()) if before else None
        total = together(sums.values(), jobs)
        return Report(span, keys, rows_of(sums, jobs, keys), total, earlier, only)

    def over_time(self, caller: Caller, period: str, split: str, where: Mapping[str, str] | None = None) -> OverTime:
        """Charges in each part of a period; see :meth:`SiteClient.over_time`."""
        if split not in FILTERS:
            raise BadValue(f'"{split}" is nothing to split by; there are {", ".join(FILTERS)}')
        only, span = self._chosen((split,), where), self.period(period)
        parts = parts_of(span)
        begins = tuple(one.begin_ms for one in parts)
        with self.session.lock:
            rows = self.session.journal.sums.rows(Wanted(span.begin_ms, span.end_ms, (PART, split), only, begins))
        found = defaultdict[str, list[int]](lambda: [0] * len(parts))
        at = 2 + CELL_VALUES.index("charge_core_ms")
        for row in rows:
            found[row[1]][row[0]] = row[at]
        keys = sorted(found, key=lambda key: (-sum(found[key]), key))
        return OverTime(span, split, parts, tuple(keys), tuple(tuple(found[key]) for key in keys))

    def waits(self, caller: Caller, period: str, where: Mapping[str, str] | None = None) -> BySize:
        """Waits of jobs, by their size; see :meth:`SiteClient.waits`."""
        only, span = self._chosen((), where), self.period(period)
        with self.session.lock:
            jobs = self._jobs(span, (), only)
        return by_size(span, jobs)

    def rhythm(self, caller: Caller, period: str, where: Mapping[str, str] | None = None) -> Rhythm:
        """Core-ms held by weekday and hour; see :meth:`SiteClient.rhythm`."""
        only, span = self._chosen((), where), self.period(period)
        session = self.session
        with session.lock:
            begin = session.journal.first_day()
            spans = session.journal.spans(Wanted(span.begin_ms, span.end_ms, (), only))
        if begin is not None and begin > span.begin_ms:  # before the books there is nothing, and no hour either
            span = period_between(min(begin, span.end_ms - 1), span.end_ms)
        return rhythm_of(span, spans, session.now(), session.zone)

    def shares(self, caller: Caller) -> tuple[ShareLine, ...]:
        """Who should have and had how much of the cluster of late; see :meth:`SiteClient.shares`."""
        session = self.session
        with session.lock:
            now, site, state = session.now(), session.site, session.engine.state
            use = session.engine.plans.recent_use(now)
            half_life, found = site.standing.half_life_h * HOUR_MS, list[ShareLine]()
            for one in site.accounts:
                target, used = use.of_account(one.name)
                days = dict[int, int]()
                for by_day in state.recent.get(one.name, {}).values():
                    for day, core_ms in by_day.items():
                        days[day] = days.get(day, 0) + core_ms
                told = tuple(
                    (day, core_ms, round(core_ms * weight_at(now, day, half_life)))
                    for day, core_ms in sorted(days.items())
                )
                most = site.standing.account_h
                found.append(ShareLine(one.name, target, used, most * lightness(target, used), most, told))
        return tuple(found)

    def waste(self, caller: Caller, period: str, where: Mapping[str, str] | None = None) -> Waste:
        """Requests that were not used, and what would help; see :meth:`SiteClient.waste`."""
        keys = ("name", "user")
        only, span = self._chosen(keys, where), self.period(period)
        with self.session.lock:
            sums = self._sums(span, keys, only)
            total = together(sums.values(), Jobs()).sums
            worst = sorted(sums.items(), key=lambda one: (_unused(one[1]), one[0]), reverse=True)[:MOST_WASTED]
            rows = [
                WasteRow(name, user, found, self._advised(span, name, user, found.asked_core_ms))
                for (name, user), found in worst
                if _unused(found) > 0
            ]
        return Waste(span, total, tuple(rows), only)

    def records(
        self, caller: Caller, period: str, where: Mapping[str, str] | None = None, after: tuple[int, int] | None = None
    ) -> list[JobRecord]:
        """Jobs and tasks that ended in a period, some at a time; see :meth:`SiteClient.records`."""
        only, span = self._chosen((), where), self.period(period)
        at, last = after or (span.begin_ms - 1, 2**62)
        found = list[JobRecord]()
        while not found:
            with self.session.lock:
                jobs = self.session.journal.ended_after(at, last, MOST_RECORDS)
            for job in jobs:
                at, last = job.ended_ms or at, job.number
                if at >= span.end_ms:
                    return found
                record = record_of(job)
                if job.request.array is None and all(getattr(record, key) in values for key, values in only.items()):
                    found.append(record)
            if not jobs:
                break
        return found

    def _advised(self, span: Period, name: str, user: str, asked_core_ms: int) -> int:
        """Core-ms that the runs of a name would not have asked for, had they asked for what they suggest together.

        It is worked out from the newest runs of the period, and taken to be the same part of what all of them asked for.
        """
        known = self.session.journal.ended(
            EndedFilter(user=user, name=name, since_ms=span.begin_ms, until_ms=span.end_ms, limit=MOST_RUNS)
        )
        runs = [run for job in known if job.request.array is None and (run := past_run(job))]
        found, asked = next_time(runs), sum(run.walltime_s * run.cores for run in runs)
        if found is None or found.walltime_s is None or not asked:
            return 0
        return max(0, round(asked_core_ms * found.saved_core_hours * 3600 / asked))

    def budget_ends(self, caller: Caller) -> dict[str, BudgetEnd]:
        """When budgets end; see :meth:`SiteClient.budget_ends`."""
        with self.session.lock:
            left = {line.account: line.left_core_ms for line in self.session.account_lines()}
            begin = self.session.journal.first_day()
        over = self.over_time(caller, BURN, "account")
        # Today isn't over, and days before the books' beginning tell nothing.
        past = [at for at, part in enumerate(over.parts) if at < len(over.parts) - 1 and part.end_ms > (begin or 0)]
        found = dict[str, BudgetEnd]()
        charged = dict(zip(over.keys, over.charged, strict=True))
        for account, amount in left.items():
            each = [charged[name] for name in self.session.site.under(account) if name in charged]
            end = budget_end(amount, [sum(days[at] for days in each) for at in past]) if amount is not None else None
            if end is not None:
                found[account] = end
        return found

    def _chosen(self, keys: tuple[str, ...], where: Mapping[str, str] | None) -> dict[str, tuple[str, ...]]:
        if wrong := next((key for key in keys if key not in KEYS), None):
            raise BadValue(f'"{wrong}" is nothing to report by; there are {", ".join(KEYS)}')
        if len(keys) > MOST_BY or len(set(keys)) < len(keys):
            raise BadValue(f"a report is by at most {MOST_BY} different keys")
        only = {name: tuple(value.split(",")) for name, value in (where or {}).items() if value}
        if wrong := next((name for name in only if name not in FILTERS), None):
            raise BadValue(f'"{wrong}" is nothing to choose by; there are {", ".join(FILTERS)}')
        if "account" in only:  # with all under them
            only["account"] = tuple(
                dict.fromkeys(one for name in only["account"] for one in self.session.site.under(name))
            )
        return only

    def period(self, words: str) -> Period:
        """A period in plain words."""
        with self.session.lock:
            begin = self.session.journal.first_day() if words.strip().lower() in ("all", "everything") else None
        return parse_period(words, self.session.now(), begin)

    def _sums(self, span: Period, by: tuple[str, ...], only: Mapping[str, tuple[str, ...]]) -> dict[Key, Sums]:
        wanted, named, count = *_wanted(span, by, only), len(by)
        rows = ((row[:count], row[count:]) for row in self.session.journal.sums.rows(wanted))
        return {named(key): Sums(*values) for key, values in rows if any(values)}

    def _jobs(self, span: Period, by: tuple[str, ...], only: Mapping[str, tuple[str, ...]]) -> Jobs:
        wanted, named = _wanted(span, by, only)
        found = Jobs(self.session.journal.waits(wanted))
        found.places = {named(key): places for key, places in found.places.items()}
        return found


def _unused(sums: Sums) -> int:
    return max(sums.asked_core_ms, sums.held_core_ms) - sums.used_core_ms


def _wanted(
    span: Period, by: tuple[str, ...], only: Mapping[str, tuple[str, ...]]
) -> tuple[Wanted, Callable[[Key], Key]]:
    """The sums to read from the storage, and the names of their keys."""
    months = parse_period(f"{span.first:%Y-%m}", span.begin_ms).through(span.end_ms) if "month" in by else ()
    names = [f"{month.first:%Y-%m}" for month in months]
    columns = tuple(PART if key == "month" else key for key in by)
    wanted = Wanted(span.begin_ms, span.end_ms, columns, only, tuple(month.begin_ms for month in months))
    if "month" not in by:
        return wanted, lambda key: key
    at = by.index("month")
    return wanted, lambda key: (*key[:at], names[int(key[at])], *key[at + 1 :])
