"""What a site's present says of the starts of its jobs: by the plan, by draws, and as it is told after a correction."""

from collections.abc import Collection, Iterator, Mapping

from lazy_quarry.core.advice.forecast_calibration import Group, Hindsight, Waits
from lazy_quarry.core.advice.forward_draws import Course, DrawnTimes, Pause, Present, course_of, ranges_of
from lazy_quarry.core.advice.planned_starts import PlannedStarts
from lazy_quarry.core.advice.run_times import RunTimes

DRAWS = 10
SEED = 11


class Outlook:
    """The plan of a present, and draws from it; these are added one by one."""

    def __init__(self, present: Present, times: RunTimes) -> None:
        self.present, self.at_ms = present, present.at_ms
        self.planned = PlannedStarts(present)
        self.told = {job.number: job for job in self.planned.told()}
        """The jobs of which a range can be told, by number."""
        self.courses = list[Course]()
        self._times = DrawnTimes(times, present.at_ms, SEED, DRAWS)

    def draw(self, jobs: Collection[int], pause: Pause = lambda: None, *, to_end: bool = False) -> None:
        """Add a draw, followed until these jobs have started, or ``to_end`` until they are over."""
        self.courses.append(course_of(self.present, self._times, len(self.courses), jobs, pause, to_end=to_end))

    def drawn(self, jobs: Collection[int]) -> dict[int, Waits]:
        """The ranges of these by the draws so far, of each that starts in at least half of them."""
        return ranges_of(self.courses, self.planned.starts, jobs, self.at_ms)

    def shown(self, calibration: Hindsight, group: Group, drawn: Mapping[int, Waits]) -> Iterator[tuple[int, Waits]]:
        """The ranges of jobs of a group as they are to be told: corrected by how earlier ones did, without what is impossible."""
        by_plan = [self.planned.wait_s(job) for job in drawn]
        corrected = calibration.corrected(group, self.at_ms, drawn.values(), by_plan)
        for job, waits in zip(drawn, corrected, strict=True):
            yield job, waits.no_sooner((self.planned.soonest[job] - self.at_ms) / 1000)
