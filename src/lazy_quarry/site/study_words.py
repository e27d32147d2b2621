"""A study of a site's own past in lines, the same in the application and on the command line."""

from collections.abc import Iterator

from lazy_quarry.core.units import format_duration
from lazy_quarry.site.book_words import study_words
from lazy_quarry.site.study_view import StudyView
from lazy_quarry.study.studied import Studied


def study_lines(view: StudyView) -> Iterator[str]:
    """A line for how it was and for each policy, and how far a rehearsal is from what was."""
    yield study_words(view)
    if not view.jobs:
        return
    width = max(10, *(len(row.policy) for row in view.rows))
    yield f"{'':<{width}}{'wait mean':>12}{'half':>9}{'95 %':>9}{'slowdown':>10}{'in use':>8}{'never':>7}"
    for row in view.rows:
        waits = (format_duration(round(one)) for one in (row.wait_mean_s, row.wait_median_s, row.wait_p95_s))
        mean, half, most = waits
        yield (
            f"{row.policy:<{width}}{mean:>12}{half:>9}{most:>9}{row.slowdown_mean:>10.2f}{row.use:>8.1%}"
            f"{row.refused or '·':>7}"
        )
    names = sorted({name for row in view.rows for name, _ in row.accounts})
    wide = max([8, *map(len, names)])
    for told, cells in (("mean wait by account", _waits), ("share of what was used", _shares)):
        yield f"  {told:<{max(wide, 22)}}" + "".join(f"{row.policy:>14}" for row in view.rows)
        for name in names:
            yield f"  {name:<{max(wide, 22)}}" + "".join(f"{cells(row, name):>14}" for row in view.rows)
    rehearsed = next((row for row in view.rows[1:] if row.policy == view.own), None)
    if rehearsed is not None and not view.settings:
        mean, half = (format_duration(round(one)) for one in (rehearsed.apart_mean_s, rehearsed.apart_median_s))
        own = f"rehearsed under its own policy, {view.own},"
        yield f"{own} jobs start on average {mean} from when they did, half of them at most {half}"


def _waits(row: Studied, account: str) -> str:
    known = dict(row.accounts)
    return format_duration(round(known[account])) if account in known else "-"


def _shares(row: Studied, account: str) -> str:
    known = dict(row.shares)
    return f"{known[account]:.1%}" if account in known else "-"
