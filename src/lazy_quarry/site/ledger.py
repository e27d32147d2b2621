"""The books of a site as its clients read them: reports of a period, and what goes on in it."""

from collections.abc import Callable, Mapping, Sequence

from lazy_quarry.core.ledger.burn import BudgetEnd, budget_end
from lazy_quarry.core.ledger.period import Period, parse_period
from lazy_quarry.core.ledger.report import KEYS, MOST_BY, OverTime, Report, Sums, parts_of, rows_of, together
from lazy_quarry.errors import BadValue
from lazy_quarry.site.present import Present
from lazy_quarry.store.rows import CELL_VALUES
from lazy_quarry.store.storage import PART, Wanted

Key = tuple[str, ...]
BURN = "last 30 days"
"""A budget is taken to go on being used as in this time."""
FILTERS = ("account", "user", "queue", "tier", "name")


class Ledger:
    """Answers about what was used. Jobs that run are counted up to now, in the books of their accounts, and not here."""

    def __init__(self, present: Present) -> None:
        self.present = present

    def report(
        self,
        period: str = "this month",
        by: Sequence[str] | None = None,
        where: Mapping[str, str] | None = None,
        waits: bool = True,
    ) -> Report:
        """A report; see :meth:`SiteClient.report`. Raises :class:`BadValue` for a period, key or filter that there isn't."""
        present, keys = self.present, tuple(by or ())
        only, span = self._chosen(keys, where), self.period(period)
        with present.lock:
            sums = self._sums(span, keys, only)
            waited = self._waits(span, keys, only) if waits else {}
            before = self._sums(span.moved(-1), (), only)
        earlier = together(before.values(), {}) if before else None
        total = together(sums.values(), waited)
        return Report(span, keys, rows_of(sums, waited, keys), total, earlier, only)

    def over_time(self, period: str, split: str, where: Mapping[str, str] | None = None) -> OverTime:
        """What was charged in each part of a period; see :meth:`SiteClient.over_time`."""
        only, span = self._chosen((split,), where), self.period(period)
        parts = parts_of(span)
        wanted = Wanted(
            span.begin_ms, span.end_ms, (PART, split), only, tuple(max(one.begin_ms, span.begin_ms) for one in parts)
        )
        with self.present.lock:
            rows = self.present.journal.storage.sums(wanted)
        found = dict[str, list[int]]()
        at = 2 + CELL_VALUES.index("charge_core_ms")
        for row in rows:
            found.setdefault(str(row[1]), [0] * len(parts))[int(row[0])] += int(row[at])
        keys = sorted(found, key=lambda key: (-sum(found[key]), key))
        return OverTime(span, split, parts, tuple(keys), tuple(tuple(found[key]) for key in keys))

    def budget_ends(self) -> dict[str, BudgetEnd]:
        """When budgets end; see :meth:`SiteClient.budget_ends`."""
        with self.present.lock:
            left = {line.account: line.left_core_ms for line in self.present.account_lines()}
            begin = self.present.journal.storage.first_day()
        over = self.over_time(BURN, "account")
        # Today isn't over, and days before the books' beginning tell nothing.
        past = [at for at, part in enumerate(over.parts) if at < len(over.parts) - 1 and part.end_ms > (begin or 0)]
        found = dict[str, BudgetEnd]()
        charged = dict(zip(over.keys, over.charged, strict=True))
        for account, amount in left.items():
            each = [charged[name] for name in self.present.site.under(account) if name in charged]
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
                dict.fromkeys(one for name in only["account"] for one in self.present.site.under(name))
            )
        return only

    def period(self, words: str) -> Period:
        """A period in plain words."""
        with self.present.lock:
            begin = self.present.journal.storage.first_day() if words.strip().lower() in ("all", "everything") else None
        return parse_period(words, self.present.now(), begin)

    def _sums(self, span: Period, by: tuple[str, ...], only: Mapping[str, tuple[str, ...]]) -> dict[Key, Sums]:
        wanted, named, count = *_wanted(span, by, only), len(by)
        rows = self.present.journal.storage.sums(wanted)
        found = {named(row[:count]): Sums(*(int(one or 0) for one in row[count:])) for row in rows}
        return {key: sums for key, sums in found.items() if sums != Sums()}

    def _waits(self, span: Period, by: tuple[str, ...], only: Mapping[str, tuple[str, ...]]) -> dict[Key, list[float]]:
        wanted, named, count = *_wanted(span, by, only), len(by)
        found = dict[Key, list[float]]()
        for row in self.present.journal.storage.waits(wanted):
            key = row[:count]
            known = found.get(key)
            if known is None:
                known = found[key] = []
            known.append(row[count] / 1000)
        return {named(key): waited for key, waited in found.items()}


def _wanted(
    span: Period, by: tuple[str, ...], only: Mapping[str, tuple[str, ...]]
) -> tuple[Wanted, Callable[[Key], Key]]:
    """What is read of the storage, and how its keys are named."""
    months = parse_period(f"{span.first:%Y-%m}", span.begin_ms).through(span.end_ms) if "month" in by else ()
    names = [f"{month.first:%Y-%m}" for month in months]
    columns = tuple(PART if key == "month" else key for key in by)
    wanted = Wanted(span.begin_ms, span.end_ms, columns, only, tuple(month.begin_ms for month in months))
    if "month" not in by:
        return wanted, lambda key: key
    at = by.index("month")
    return wanted, lambda key: (*key[:at], names[int(key[at])], *key[at + 1 :])
