"""The part of a site's client that reading runs needs."""

from typing import Literal, Protocol

from lazy_quarry.run.runner import OutputChunk
from lazy_quarry.views.job_detail import JobDetail


class RunReader(Protocol):
    """A client, as far as it tells of runs and of what they printed."""

    def detail(self, number: int) -> JobDetail:
        """One job with record, script and verdict."""
        ...

    def output(self, number: int, which: Literal["output", "errors"], from_byte: int = 0) -> OutputChunk:
        """A piece of what a job printed; a negative ``from_byte`` counts from the end."""
        ...
