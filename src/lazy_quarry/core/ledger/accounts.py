"""The accounts' books: what each was charged, and what it has left."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from types import MappingProxyType

from lazy_quarry.core.job.job import Job
from lazy_quarry.core.job.rates import charge_so_far
from lazy_quarry.core.ledger.grants import Grant, budgets
from lazy_quarry.core.site import Site


@dataclass(frozen=True, slots=True)
class AccountLine:
    """An account's books: core-ms charged to jobs that have ended, to those running, and what is left."""

    account: str
    charged_core_ms: int
    running_core_ms: int
    budget_core_ms: int | None
    jobs: int
    failed: int
    grants: tuple[Grant, ...] = ()
    """What is in the budget beside the site file's, oldest first."""
    adding_up: bool = False
    """True while earlier jobs are being added: what was charged and what is left isn't known yet."""

    @property
    def left_core_ms(self) -> int | None:
        """What may still be charged; None without a budget, or while that isn't known."""
        if self.budget_core_ms is None or self.adding_up:
            return None
        return self.budget_core_ms - self.charged_core_ms - self.running_core_ms


@dataclass(frozen=True, slots=True)
class Tally:
    """Running sums of one account."""

    charged_core_ms: int = 0
    allocated_core_ms: int = 0
    jobs: int = 0
    failed: int = 0


def account_lines(
    site: Site,
    tallies: dict[str, Tally],
    running_jobs: Iterable[Job],
    now_ms: int,
    grants: Mapping[str, Iterable[Grant]] = MappingProxyType({}),
) -> tuple[AccountLine, ...]:
    """One line for each account of the site, and for any other that was ever charged."""
    running: dict[str, int] = {}
    for job in running_jobs:
        spent = charge_so_far(site, job, now_ms)
        running[job.request.account] = running.get(job.request.account, 0) + spent
    names = dict.fromkeys([account.name for account in site.accounts])
    names |= dict.fromkeys(tallies) | dict.fromkeys(running)
    lines, granted = [], budgets(site, grants)
    for name in names:
        tally = tallies.get(name, Tally())
        lines.append(
            AccountLine(
                name,
                tally.charged_core_ms,
                running.get(name, 0),
                granted.get(name),
                tally.jobs,
                tally.failed,
                tuple(grants.get(name, ())),
            )
        )
    return tuple(lines)
