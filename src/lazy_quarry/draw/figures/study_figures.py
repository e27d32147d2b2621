"""The figure of a study: how long jobs waited as it was, and under each policy."""

from datetime import UTC, tzinfo

from lazy_quarry.core.units import plural
from lazy_quarry.draw.figures.runs_figures import duration_scale
from lazy_quarry.draw.time_scale import source_words
from lazy_quarry.draw.values import Curve, Figure, Plot, Plots, Scale
from lazy_quarry.errors import QuarryError
from lazy_quarry.views.study_view import StudyView
from lazy_quarry.wording.book_words import study_words


def study_figure(view: StudyView, site: str, now_ms: int, zone: tzinfo = UTC) -> Figure:
    """Mean and 95th percentile of the waits, and cores in use. Raises :class:`QuarryError` where nothing was studied."""
    if not view.jobs or len(view.rows) < 2:
        raise QuarryError("there is nothing to draw: no job of this time has run")
    places = [float(place) for place in range(len(view.rows))]
    ticks = tuple((at, row.policy) for at, row in zip(places, view.rows, strict=True))
    most = max(row.wait_p95_s for row in view.rows)
    late = tuple((at, row.wait_p95_s) for at, row in zip(places, view.rows, strict=True))
    mean = tuple((at, row.wait_mean_s) for at, row in zip(places, view.rows, strict=True))
    slow = tuple((at, row.slowdown_mean) for at, row in zip(places, view.rows, strict=True))
    top = max(row.slowdown_mean for row in view.rows)
    y = duration_scale(max(60.0, 1.08 * most), "waited", 5)
    step = max(0.5, round(top / 4, 1))
    marks = tuple((at * step, f"{at * step:g}") for at in range(int(top / step) + 2))
    return Figure(
        name="study",
        title="Its own past, rehearsed",
        panel=Plots(
            Scale(-0.6, len(view.rows) - 0.4, "", ticks),
            (
                Plot(y, (Curve(late, "expected", "bars"), Curve(mean, "mine", "bars"))),
                Plot(Scale(0.0, marks[-1][0], "mean bounded slowdown", marks), (Curve(slow, "others", "bars"),)),
            ),
        ),
        source=source_words(site, now_ms, zone),
        note=f"{study_words(view)}; {plural(view.rows[0].jobs, 'job')} ran",
        legend=(("mine", "mean wait"), ("expected", "19 in 20 waited no longer"), ("others", "slowdown")),
    )
