"""The run that Review looks at, and what of it: one value that its features share."""

from typing import Literal

from msgspec import Struct

from lazy_quarry.views.job_detail import JobDetail


class RunInSight(Struct):
    """The run that is read, its sheet, and where a task was opened from."""

    detail: JobDetail | None = None
    """Its detail; None before the first was read."""
    which: Literal["output", "errors"] = "output"
    """The stream that is read."""
    chosen: str = ""
    """The sheet that the person chose; empty: what fits the run."""
    alone: int | None = None
    """A job that is looked at though it is not the one under the cursor of the list."""
    array: int | None = None
    """The array that the task in sight was picked from."""

    @property
    def sheet(self) -> str:
        """The sheet in sight: the one chosen, where the run has such a thing."""
        tasks = self.detail is not None and bool(self.detail.view.rows)
        if self.chosen and (self.chosen != "tasks" or tasks):
            return self.chosen
        return "tasks" if tasks else "output"

    def shows(self, job: int) -> bool:
        """True while this job is looked at."""
        return self.detail is not None and self.detail.view.job == job
