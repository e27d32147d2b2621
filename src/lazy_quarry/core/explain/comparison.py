"""Two waiting jobs compared, in a sentence."""

from lazy_quarry.core.job.job import Job
from lazy_quarry.core.plan.standing_parts import StandingParts
from lazy_quarry.core.units import format_duration


def hours_words(hours: float) -> str:
    """``2h 10m``, without a sign."""
    return format_duration(round(abs(hours) * 3600)) if abs(hours) >= 1 / 60 else "less than a minute"


def compared(first: Job, ahead: StandingParts, second: Job, behind: StandingParts) -> str:
    """Two jobs in a sentence: how far the first is ahead, which part of its standing does most, and which part is against it.

    ``first`` may be ahead with a lower standing: then its user has put it there.
    """
    if behind.gives_way and not ahead.gives_way:
        return f"{first.label} is ahead: jobs of tier {second.request.tier} give way to all others."
    gap = ahead.total - behind.total
    if gap < 0 and first.user == second.user:
        return f"{first.label} {first.request.name} was put before it by {first.user}."
    parts = {name: value - other for (name, value), (_, other) in zip(ahead.named(), behind.named(), strict=True)}
    best = max(parts, key=lambda name: parts[name])
    worst = min(parts, key=lambda name: parts[name])
    told = f"{first.label} is {hours_words(gap)} ahead"
    if parts[best] >= 1 / 60:
        told += f": {_part_words(best, parts[best], first, second)} (+{hours_words(parts[best])})"
    if parts[worst] <= -1 / 6:
        told += f", though {_part_words(worst, parts[worst], first, second)} (−{hours_words(parts[worst])})"
    return f"{told}."


def _part_words(part: str, hours: float, first: Job, second: Job) -> str:
    more = hours > 0
    match part:
        case "waited":
            return f"it came {hours_words(hours)} {'sooner' if more else 'later'}"
        case "account":
            return f"{first.request.account} has used {'less' if more else 'more'} of its part lately than {second.request.account}"
        case "user":
            used = f"{first.user} has used {'less' if more else 'more'} of"
            if first.user == second.user:
                return f"{used} {first.request.account} lately than of {second.request.account}"
            if first.request.account != second.request.account:
                return f"{used} {first.request.account} lately than {second.user} of {second.request.account}"
            return f"{used} {first.request.account} lately than {second.user}"
        case "tier":
            return f"tier {first.request.tier} {'stands above' if more else 'stands below'} {second.request.tier}"
    return f"it is {'larger' if more else 'smaller'}"
