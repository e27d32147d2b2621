"""Grants: core-hours that an account was given beside the budget that the site file names, or gave away."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from lazy_quarry.core.site import Site


@dataclass(frozen=True, slots=True)
class Grant:
    """So many core-ms more for an account from an instant on, or fewer when they are negative; by whom, and why."""

    at_ms: int
    core_ms: int
    by: str
    why: str


def budgets(site: Site, grants: Mapping[str, Iterable[Grant]]) -> dict[str, int]:
    """The core-ms of every account that has a budget: the site file's and what was granted."""
    return {
        one.name: one.budget_core_ms + sum(grant.core_ms for grant in grants.get(one.name, ()))
        for one in site.accounts
        if one.budget_core_hours is not None
    }
