"""The accounts' books: what each was charged, and what it has left."""

from collections.abc import Callable, Iterable, Mapping
from typing import Protocol

from msgspec import Struct

from lazy_quarry.core.job.job import Job
from lazy_quarry.core.job.rates import charge_so_far
from lazy_quarry.core.ledger.budgets import Budget, Grant, MemberChange, members
from lazy_quarry.core.site import Account, Site


class AccountLine(Struct, frozen=True):
    """An account's books: core-ms charged to jobs that have ended, to those running, and what is left."""

    account: str
    charged_core_ms: int
    running_core_ms: int
    jobs: int
    failed: int
    grants: tuple[Grant, ...] = ()
    """Grants in the budget beside the site file's amount, oldest first."""
    adding_up: bool = False
    """True while earlier jobs are being added: what was charged and what is left isn't known yet."""
    budget: Budget | None = None
    """The balance of its budget in its present term; None without one."""
    running_under_core_ms: int = 0
    """Core-ms that running jobs may still be charged, with those of all accounts under it."""
    told: Account | None = None
    """Its entry in the site; None where it no longer has one."""
    members: tuple[str, ...] = ()
    """Who may charge it; empty for everyone."""
    member_changes: tuple[MemberChange, ...] = ()
    """Changes of its members beside the site file; oldest first."""

    @property
    def budget_core_ms(self) -> int | None:
        """All that may be charged in the present term, to it and those under it."""
        return None if self.budget is None else self.budget.whole_core_ms

    @property
    def left_core_ms(self) -> int | None:
        """Core-ms that may still be charged; None without a budget, or while that isn't known."""
        return None if self.budget is None or self.adding_up else self.budget.left_core_ms


class Tally(Struct, frozen=True):
    """Running sums of one account."""

    charged_core_ms: int = 0
    allocated_core_ms: int = 0
    jobs: int = 0
    failed: int = 0


def account_lines(
    site: Site,
    state: "Books",
    running_jobs: Iterable[Job],
    now_ms: int,
    budgets_of: Callable[[Mapping[str, int]], Mapping[str, Budget]],
) -> tuple[AccountLine, ...]:
    """One line for each account of the site, and for any other that was ever charged.

    ``budgets_of`` says how budgets stand if accounts have been charged so much.
    """
    running: dict[str, int] = {}
    for job in running_jobs:
        spent = charge_so_far(site, job, now_ms)
        running[job.request.account] = running.get(job.request.account, 0) + spent
    names = dict.fromkeys([account.name for account in site.accounts])
    names |= dict.fromkeys(state.tallies) | dict.fromkeys(running)
    charged = {name: state.tallies.get(name, Tally()).charged_core_ms + running.get(name, 0) for name in names}
    standing = budgets_of(charged)
    lines = []
    for name in names:
        tally, changes = state.tallies.get(name, Tally()), state.member_changes.get(name, ())
        known = site.account.get(name)
        lines.append(
            AccountLine(
                account=name,
                charged_core_ms=tally.charged_core_ms,
                running_core_ms=running.get(name, 0),
                jobs=tally.jobs,
                failed=tally.failed,
                grants=tuple(state.grants.get(name, ())),
                budget=standing.get(name),
                running_under_core_ms=sum(running.get(one, 0) for one in site.under(name)),
                told=known,
                members=members(known, changes) if known else (),
                member_changes=changes,
            )
        )
    return tuple(lines)


class Books(Protocol):
    """The parts of a site's state that the books are made of."""

    tallies: dict[str, Tally]
    grants: dict[str, tuple[Grant, ...]]
    member_changes: dict[str, tuple[MemberChange, ...]]
