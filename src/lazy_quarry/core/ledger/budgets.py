"""Budgets: the terms for which accounts have them, what was granted beside them, and how they stand.

A term is a month, quarter or year of UTC, a span between fixed dates, or all time. What was charged before a term began is known
from a reading of the meters: what all accounts had been charged, running jobs included, at that instant. So nothing of a term is
counted in another, also not of a job that runs through its edge.
"""

from collections.abc import Iterable, Iterator, Mapping
from datetime import UTC, datetime
from functools import lru_cache

from msgspec import Struct

from lazy_quarry.core.ledger.period import period_of
from lazy_quarry.core.site import Account, Site
from lazy_quarry.core.units import DAY_MS
from lazy_quarry.core.values import replace

Meters = Mapping[int, Mapping[str, int]]
"""Core-ms that each account had been charged, by the instants at which terms began."""
FOR_EVER = 2**61


class Grant(Struct, frozen=True):
    """Core-ms given to an account from an instant on, or taken from it when they are negative; by whom, and why."""

    at_ms: int
    core_ms: int
    by: str
    why: str


class MemberChange(Struct, frozen=True):
    """Somebody may charge an account from an instant on, or may no longer; by whom."""

    at_ms: int
    user: str
    added: bool
    by: str


class Term(Struct, frozen=True):
    """From when to when a budget is for; 0 and :data:`FOR_EVER` where nothing says so. ``periods``: so many budgets it has."""

    begin_ms: int = 0
    end_ms: int = FOR_EVER
    periods: int = 1


class Budget(Struct, frozen=True):
    """The balance of an account's budget in its term: its amount, and the charges to it and all accounts under it."""

    term: Term
    core_ms: int
    granted_core_ms: int
    used_core_ms: int

    @property
    def whole_core_ms(self) -> int:
        """All that may be charged in this term."""
        return self.core_ms + self.granted_core_ms

    @property
    def left_core_ms(self) -> int:
        """Core-ms that may still be charged; less than nothing where tiers that give way went on after its end."""
        return self.whole_core_ms - self.used_core_ms

    @property
    def permille(self) -> int:
        """Its used share, in thousandths."""
        return 1000 if self.whole_core_ms <= 0 else self.used_core_ms * 1000 // self.whole_core_ms


def term_of(account: Account, now_ms: int) -> Term:
    """The term of an account's budget at an instant. Before its first day and after its last it has no budget: 0 periods."""
    return _term(
        account.budget_each, account.budget_begins_ms, account.budget_ends_ms, account.carries_over, now_ms // DAY_MS
    )


@lru_cache(maxsize=1000)
def _term(each: str, begins_ms: int | None, ends_ms: int | None, carries_over: bool, day: int) -> Term:
    now_ms, first, last = day * DAY_MS, begins_ms or 0, FOR_EVER if ends_ms is None else ends_ms
    if now_ms < first:
        return Term(0, first, 0)
    if now_ms >= last:
        return Term(last, FOR_EVER, 0)
    if not each:
        return Term(first, last)
    period = period_of(each, now_ms)
    if carries_over and begins_ms is not None:
        through = period_of(each, begins_ms).through(period.end_ms)
        return Term(first, min(period.end_ms, last), len(through))
    return Term(max(first, period.begin_ms), min(period.end_ms, last))


def budgets(
    site: Site, grants: Mapping[str, Iterable[Grant]], meters: Meters, charged: Mapping[str, int], now_ms: int
) -> dict[str, Budget]:
    """Work out the balance of every budget. ``charged`` is all that each account was ever charged."""
    found = {}
    for one in site.accounts:
        if one.budget_core_hours is None:
            continue
        term = term_of(one, now_ms)
        # A term that began a moment ago may not have been read yet: then nothing of it is used.
        before = meters.get(term.begin_ms, charged) if term.begin_ms else {}
        used = sum(charged.get(name, 0) - before.get(name, 0) for name in site.under(one.name))
        granted = sum(grant.core_ms for grant in grants.get(one.name, ()) if grant.at_ms >= term.begin_ms)
        found[one.name] = Budget(term, term.periods * one.budget_core_ms, granted, used)
    return found


def unread(site: Site, meters: Meters, now_ms: int) -> tuple[int, ...]:
    """The beginnings of present terms at which the meters have not been read, the earliest first."""
    return tuple(sorted({begin for begin in _begins(site, now_ms) if begin not in meters}))


def needed(site: Site, now_ms: int) -> tuple[int, ...]:
    """The beginnings of all present terms: readings of others are of no more use."""
    return tuple(sorted({*_begins(site, now_ms)}))


def next_turn_ms(site: Site, now_ms: int) -> int:
    """When the next term of a budget begins or ends; :data:`FOR_EVER` for never."""
    terms = (term_of(one, now_ms) for one in site.accounts if one.budget_core_hours is not None)
    return min((term.end_ms for term in terms), default=FOR_EVER)


def _begins(site: Site, now_ms: int) -> Iterator[int]:
    for one in site.accounts:
        if one.budget_core_hours is not None and (begin := term_of(one, now_ms).begin_ms):
            yield begin


def members(account: Account, changes: Iterable[MemberChange]) -> tuple[str, ...]:
    """Who may charge an account: those of the site file, with what was changed since; empty for everyone."""
    found = dict.fromkeys(account.users)
    for one in changes:
        if one.added:
            found[one.user] = None
        else:
            found.pop(one.user, None)
    return tuple(found)


def with_members(site: Site, changes: Mapping[str, Iterable[MemberChange]]) -> Site:
    """The site with those who may charge its accounts now."""
    if not changes:
        return site
    accounts = (replace(one, users=members(one, changes.get(one.name, ()))) for one in site.accounts)
    return replace(site, accounts=tuple(accounts))


def day_of(at_ms: int) -> str:
    """The day of an instant (ISO 8601)."""
    return datetime.fromtimestamp(at_ms / 1000, UTC).date().isoformat()
