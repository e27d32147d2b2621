"""Readings of accounts' charges when the terms of their budgets began, and the budgets' balances."""

from collections.abc import Iterator, Mapping

from lazy_quarry.core.engine.events import BudgetReached, Event, MetersRead
from lazy_quarry.core.engine.state import State
from lazy_quarry.core.job.rates import charge_of
from lazy_quarry.core.ledger.accounts import AccountLine, account_lines
from lazy_quarry.core.ledger.budgets import Budget, Meters, budgets, needed, unread
from lazy_quarry.core.site import Site


def charged_by(site: Site, state: State, at_ms: int) -> dict[str, int]:
    """Core-ms that each account had been charged at an instant since which no attempt has ended; what runs, as far as it had."""
    found = {name: tally.charged_core_ms for name, tally in state.tallies.items()}
    for job in state.running():
        if job.started_ms is not None and job.started_ms < at_ms:
            account = job.request.account
            found[account] = found.get(account, 0) + charge_of(site, job, at_ms - job.started_ms)
    return found


def meters_at(site: Site, state: State, at_ms: int) -> Meters:
    """The readings at the beginnings of all present terms; those that are not in the journal yet as they will be."""
    missing = unread(site, state.meters, at_ms)
    return state.meters if not missing else {**state.meters, **{one: charged_by(site, state, one) for one in missing}}


def budgets_at(site: Site, state: State, charged: Mapping[str, int], at_ms: int) -> dict[str, Budget]:
    """Work out all budgets' balances from the charges of accounts."""
    return budgets(site, state.grants, meters_at(site, state, at_ms), charged, at_ms)


def lines_of(site: Site, state: State, now_ms: int) -> tuple[AccountLine, ...]:
    """The books of all accounts."""
    return account_lines(site, state, state.running(), now_ms, lambda charged: budgets_at(site, state, charged, now_ms))


def turned(site: Site, state: State, at_ms: int) -> Iterator[Event]:
    """The readings of terms that have begun since the last event."""
    for begin in unread(site, state.meters, at_ms):
        charged = tuple(sorted(charged_by(site, state, begin).items()))
        yield MetersRead(at_ms, begin, charged, needed(site, at_ms))


def reached(site: Site, state: State, at_ms: int) -> Iterator[Event]:
    """The shares of budgets at which people are warned and that were reached. What runs is not charged before its end."""
    if not any(one.budget_core_hours is not None and one.warn_at for one in site.accounts):
        return
    charged = {name: tally.charged_core_ms for name, tally in state.tallies.items()}
    for name, budget in budgets_at(site, state, charged, at_ms).items():
        warn_at = site.account[name].warn_at
        percent = max((one for one in warn_at if budget.permille >= one * 10), default=0)
        if percent > state.warned.get(name, {}).get(budget.term.begin_ms, 0) and budget.used_core_ms > 0:
            yield BudgetReached(at_ms, name, percent, budget.term.begin_ms, budget.used_core_ms, budget.whole_core_ms)
