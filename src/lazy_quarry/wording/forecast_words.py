"""Lines about how forecasts did on a past: the same for a trace and for a site's own past."""

from collections.abc import Iterator, Sequence

from lazy_quarry.core.units import format_duration, plural
from lazy_quarry.study.studied import ForecastMade


def forecast_lines(made: Sequence[ForecastMade]) -> Iterator[str]:
    """A line for each group of forecasts: share held, width, score, and how far the middle and the plan were off."""
    from lazy_quarry.study.forecast_groups import by_group

    groups = by_group(made)
    if not groups:
        yield "no range was told: nothing waited, or too few draws had a place for it"
        return
    wide = max(len(group.name) for group in groups)
    yield f"{'forecasts':<{wide}}{'jobs':>8}{'held':>8}{'range':>10}{'score':>10}{'off':>9}{'plan off':>10}"
    for one in groups:
        spans = [format_duration(round(value)) for value in (one.width_s, one.score_s, one.off_s, one.plan_off_s)]
        yield (
            f"{one.name:<{wide}}{one.forecasts:>8,}{one.held:>8.1%}{spans[0]:>10}{spans[1]:>10}{spans[2]:>9}{spans[3]:>10}"
        )
    yield ""
    yield f"Of {plural(groups[0].forecasts, 'job')} that had to wait: ranges are to hold 80 %. Range, off and plan off are medians:"
    yield "the width, and how far the middle and the plan's own start lay from what came. Score: width and ten times what"
    yield "lay outside, on average; less is better."
