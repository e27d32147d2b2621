"""What a site charges for what is held: cores × milliseconds × the tier's factor in thousandths, rounded down."""

from lazy_quarry.core.site import Site
from lazy_quarry.core.units import SECOND_MS


def charge(site: Site, tier: str, held: int) -> int:
    """Core-ms charged for so many allocated, at the tier's factor."""
    known = site.tier.get(tier)
    return held * (known.charge_permille if known else 1000) // 1000


def greatest_charge(site: Site, tier: str, cores: int, walltime_s: int, tasks: int = 1) -> int:
    """Core-ms charged at most: all of the walltime, for all tasks."""
    return tasks * charge(site, tier, cores * walltime_s * SECOND_MS)
