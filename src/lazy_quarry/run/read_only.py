"""The runner of a process that only reads: it has the files of jobs, and runs nothing."""

from typing import NoReturn

from lazy_quarry.core.engine.commands import Finish
from lazy_quarry.core.job.job import Job
from lazy_quarry.errors import Refused
from lazy_quarry.run.runner import Attempt, JobFiles
from lazy_quarry.run.without_hosts import WithoutHosts


class OnlyFiles(WithoutHosts):
    """A runner of which only the files are there. ``words`` is why nothing can start now, as the engine's own runner sees it."""

    def __init__(self, files: JobFiles) -> None:
        self.files, self.words = files, ""

    def obstacle(self) -> str:
        """The obstacle that the engine named last."""
        return self.words

    def notices(self) -> list[str]:
        """The engine's are its own."""
        return []

    def mark(self) -> NoReturn:
        """Refused, as all that would run or change something."""
        raise Refused("this process only reads")

    def closed(self) -> NoReturn:
        """Refused."""
        self.mark()

    def prepare(self, attempts: list[Attempt]) -> NoReturn:
        """Refused."""
        self.mark()

    def start(self, jobs: list[Job]) -> NoReturn:
        """Refused."""
        self.mark()

    def stop(self, job: Job, cause: str) -> NoReturn:
        """Refused."""
        self.mark()

    def reports(self, now_ms: int) -> list[Finish]:
        """There are none."""
        return []

    def settled(self, report: Finish) -> NoReturn:
        """Refused."""
        self.mark()
