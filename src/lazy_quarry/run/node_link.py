"""A runner's view of a node, however that is reached."""

from collections.abc import Callable
from typing import Protocol

from lazy_quarry.core.job.curve import Sample
from lazy_quarry.core.job.inside import Inside
from lazy_quarry.core.job.job import Job, Use
from lazy_quarry.run.node.messages import Ask, FromEngine, Notes, Over, Waits
from lazy_quarry.run.runner import JobFiles


class AttemptFiles(JobFiles, Protocol):
    """The files of a node's attempts and jobs: nobody else looks at them, reads or removes them."""

    def run_ms(self, job: Job) -> int | None:
        """Time that its supervisor has run, by a clock that nobody can set; None where that is not known."""
        ...

    def inside_at_end(self, name: str, ended_ms: int) -> Inside | None:
        """Read what an attempt that is over, by its name, had told of until then."""
        ...

    def live_of(self, name: str) -> tuple[Use, float] | None:
        """Use so far of a part of a running attempt, by its name, and the cores that it keeps busy; None when unknown."""
        ...

    def samples_of(self, name: str) -> list[Sample]:
        """Measurements of an attempt, by its name."""
        ...

    def prepare(self, names: list[str]) -> None:
        """Make the folders of attempts that are about to be recorded as started. Raises :class:`StateFolderError`."""
        ...

    def lay_out(self, job: Job, part: int) -> None:
        """Write what a part of an attempt is to run.

        Raises :class:`OSError` where that can't be written now, :class:`IntentTooLong` for what can never be started.
        """
        ...

    def is_laid_out(self, name: str) -> bool:
        """True when that is written."""
        ...

    def write_stop(self, name: str, cause: str) -> None:
        """Write that an attempt should end, for its supervisor to find. Raises :class:`OSError`."""
        ...

    def remove_attempt(self, name: str) -> None:
        """Remove the folder of one that was settled."""
        ...

    def sweep(self, running: set[str], kept_s: int) -> None:
        """Remove what attempts have left that ended so long ago."""
        ...


class NodeLink(Protocol):
    """A node: messages to and from its agent, and its files."""

    @property
    def files(self) -> AttemptFiles:
        """Its files."""
        ...

    @property
    def epoch(self) -> int:
        """The number of this start of an engine, for the messages."""
        ...

    @property
    def connected(self) -> bool:
        """True while there is a link."""
        ...

    @property
    def refused(self) -> str:
        """Why there is none and can be none, as far as is known; else empty."""
        ...

    @property
    def superseded(self) -> bool:
        """True when another engine of this site has taken this one's place."""
        ...

    def fileno(self) -> int | None:
        """A descriptor to wait on; None while there is no link."""
        ...

    def greeting(self, then: Callable[[], None]) -> None:
        """Have this done whenever an agent has taken up this engine, to say all that it should know."""
        ...

    def connect(self) -> None:
        """Reach the node's agent, or start one."""
        ...

    def connect_again(self) -> None:
        """The same, unless it was tried a moment ago."""
        ...

    def reap(self) -> None:
        """Notice an agent that has ended."""
        ...

    def leave(self) -> None:
        """There is nothing to do: let the agent leave."""
        ...

    def send(self, message: FromEngine) -> None:
        """Send a message, where there is a link; what was not sent is said again when there is one."""
        ...

    def heard(self) -> list[Ask | Over | Waits | Notes]:
        """Messages that have come since the last time."""
        ...

    def obstacle(self) -> str:
        """The obstacle to starts there, as far as that is seen without trying; empty for none."""
        ...

    def notices(self) -> list[str]:
        """Sentences about it that a person should know."""
        ...
