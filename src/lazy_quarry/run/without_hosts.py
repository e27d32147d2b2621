"""The answers about hosts of a runner that has none: one that rehearses, or one of a process that only reads."""

from lazy_quarry.core.job.job import Job
from lazy_quarry.run.runner import HostState


class WithoutHosts:
    """The questions about hosts; see :class:`~lazy_quarry.run.runner.Runner`."""

    def answering(self) -> dict[str, int | None]:
        """None is told of: the nodes always answer, or the journal has that."""
        return {}

    def sees(self, folder: str) -> dict[str, bool]:
        """Nobody looks."""
        return {}

    def hosts(self) -> list[HostState]:
        """There is none."""
        return []

    def lapsed(self, job: Job) -> str:
        """There are no leases."""
        return ""

    def unlike(self) -> dict[str, str]:
        """The nodes are what the site says."""
        return {}
