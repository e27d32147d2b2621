"""A study of a site's own past in lines, the same in the application and on the command line."""

from collections.abc import Iterator

from lazy_quarry.core.units import format_duration
from lazy_quarry.study.difference import LEAST_DAYS, difference
from lazy_quarry.study.studied import Studied
from lazy_quarry.views.study_view import StudyView
from lazy_quarry.wording.book_words import study_words

BY_ACCOUNT = "by account: wait, share"


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
    yield from _differences(view)
    names = sorted({name for row in view.rows for name, _ in row.accounts})
    wide = max([len(BY_ACCOUNT), *map(len, names)])
    yield ""
    yield f"{BY_ACCOUNT:<{wide}}" + "".join(f"{row.policy:>17}" for row in view.rows)
    for name in names:
        yield f"{name:<{wide}}" + "".join(_of_account(row, name) for row in view.rows)
    rehearsed = next((row for row in view.rows[1:] if row.policy == view.own), None)
    if rehearsed is not None and not view.settings:
        mean, half = (format_duration(round(one)) for one in (rehearsed.apart_mean_s, rehearsed.apart_median_s))
        yield ""
        if not round(rehearsed.apart_mean_s):
            yield f"How near that is: under {view.own}, the site's own, all jobs start when they did, to the second."
            return
        yield f"How near that is: under {view.own}, the site's own, a job starts on average {mean} from"
        most = f"at most {half} from it" if round(rehearsed.apart_median_s) else "in that very second"
        yield f"when it did, and half of them {most}. So far off may all of this be."


def compared_with(view: StudyView) -> Studied:
    """The row that others are held against: the site's own policy where it was studied too, else how it was."""
    return next((row for row in view.rows[1:] if row.policy == view.own), view.rows[0])


def _differences(view: StudyView) -> Iterator[str]:
    """For each other policy how much longer or shorter jobs wait, and whether chance may make that."""
    base = compared_with(view)
    found = [(row, told) for row in view.rows[1:] if row is not base and (told := difference(row, base)) is not None]
    if not found:
        return
    yield ""
    yield f"mean wait against {base.policy}, and between which it lies 19 times in 20, by days"
    for row, told in found:
        words = _apart(told.mean_s)
        if told.low_s is None or told.high_s is None:
            words += f": from fewer than {LEAST_DAYS} days, so that nothing is known of chance"
        else:
            words += f", between {_apart(told.low_s)} and {_apart(told.high_s)}"
            words += "" if told.clear else ": no clear difference"
        yield f"  {row.policy}: {words}"


def _apart(seconds: float) -> str:
    """``+10m``, ``−40m``, ``0s``."""
    whole = round(seconds)
    sign = "+" if whole > 0 else "\N{MINUS SIGN}" if whole < 0 else ""
    return f"{sign}{format_duration(abs(whole))}"


def _of_account(row: Studied, account: str) -> str:
    waits, shares = dict(row.accounts), dict(row.shares)
    wait = format_duration(round(waits[account])) if account in waits else "-"
    share = f"{shares[account]:.1%}" if account in shares else "-"
    return f"{wait:>10}{share:>7}"
