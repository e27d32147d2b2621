"""A runner's view of a node, however that is reached."""

from collections.abc import Callable, Container
from typing import NamedTuple, Protocol

from lazy_quarry.core.job.copying import Copying
from lazy_quarry.core.job.curve import Sample
from lazy_quarry.core.job.file_mark import FileMark
from lazy_quarry.core.job.host import Host
from lazy_quarry.core.job.inside import Inside
from lazy_quarry.core.job.job import Job, Use
from lazy_quarry.run.node.attempt import IntentTooLong
from lazy_quarry.run.node.file_service import FileService
from lazy_quarry.run.node.messages import Ask, FromEngine, Has, Notes, Over, Waits
from lazy_quarry.run.runner import HostState, OutputChunk


class LaidOut(NamedTuple):
    """It was written what a part of an attempt is to run, or not, for a reason."""

    name: str
    wrong: OSError | IntentTooLong | None


class LiveFiles(Protocol):
    """Use, parts and output of the attempts of a node."""

    def copying(self, job: Job) -> Copying | None:
        """A copy that is under way for a running job; None for none."""
        ...

    @property
    def service(self) -> FileService:
        """The node's file service; what is asked of it may take long."""
        ...

    def output(self, job: Job, path: str, from_byte: int, now_ms: int) -> OutputChunk:
        """A piece of one of a job's output files; this may take long."""
        ...

    def inside(self, job: Job, now_ms: int) -> Inside | None:
        """Parts and tasks that a running attempt has told of so far; None for nothing."""
        ...

    def samples(self, job: Job, now_ms: int) -> list[Sample]:
        """Measurements of a running attempt."""
        ...

    def run_ms(self, job: Job) -> int | None:
        """Time that its supervisor has run, by a clock that nobody can set; None where that is not known."""
        ...

    def live_of(self, name: str) -> tuple[Use, float] | None:
        """Use so far of a part of a running attempt, by its name, and the cores that it keeps busy; None when unknown."""
        ...


class AttemptFiles(LiveFiles, Protocol):
    """The files of a node's attempts: nobody else looks at them or removes them. Only for output another machine is waited for."""

    def gathered(self, name: str, ended_ms: int) -> bool:
        """True when what an attempt that is over has told is at hand, or can't be had; it is asked for by this."""
        ...

    def printed_at_end(self, name: str) -> tuple[FileMark, ...] | None:
        """Marks of the output of an attempt that is over, where it was brought back to this machine; None where it was made."""
        ...

    def bring_left(self, active: Container[str]) -> None:
        """Have brought back what is left of attempts that are over and not among ``active``."""
        ...

    def inside_at_end(self, name: str, ended_ms: int) -> Inside | None:
        """Read what an attempt that is over, by its name, had told of until then."""
        ...

    def samples_of(self, name: str) -> list[Sample]:
        """Measurements of an attempt, by its name."""
        ...

    def prepare(self, names: list[str]) -> frozenset[str]:
        """Make the folders of attempts that are about to be recorded as started; returns those that aren't there yet.

        Raises :class:`StateFolderError` when they can't be made, and nothing may start.
        """
        ...

    def lay_out(self, job: Job, part: int) -> bool:
        """Write what a part of an attempt is to run; False while that is being done, and then a :class:`LaidOut` is heard.

        Raises :class:`OSError` where it can't be written now, :class:`IntentTooLong` for what can never be started.
        """
        ...

    def is_laid_out(self, name: str) -> bool:
        """True when that is written, or being written."""
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
    def answers(self) -> bool:
        """True while somebody answers there, an agent or, where none is wanted, whoever would start one."""
        ...

    @property
    def refused(self) -> str:
        """Why there is none and can be none, as far as is known; else empty."""
        ...

    @property
    def superseded(self) -> bool:
        """True when another engine of this site has taken this one's place."""
        ...

    @property
    def quiet_since_ms(self) -> int | None:
        """Since when it has not answered (ms since 1970), where that is long enough to be told; None while it answers."""
        ...

    @property
    def lease_s(self) -> int | None:
        """Seconds after the last word of an engine when its attempts are stopped there; None: never."""
        ...

    @property
    def silent_s(self) -> float:
        """Seconds since it was heard last, by a clock that nobody can set."""
        ...

    @property
    def unlike(self) -> str:
        """Cores or memory that it has less of than the site says, in words; empty for none."""
        ...

    @property
    def ahead_ms(self) -> int:
        """Milliseconds that its clock is ahead of this machine's, as far as that is known."""
        ...

    @property
    def host(self) -> Host | None:
        """The machine, as a paper names it; None while nobody knows."""
        ...

    def sees(self, folder: str) -> bool | None:
        """True when it sees a folder of the engine's machine; None while that isn't known: it is asked by this."""
        ...

    def state(self) -> HostState | None:
        """Describe it for people; None for the engine's own machine."""
        ...

    def descriptors(self) -> list[int]:
        """Descriptors to wait on: when one of these can be read, there is something to hear."""
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

    def keep(self, wanted: bool) -> None:
        """Have the link looked after; ``wanted``: something runs or waits, so there should be one."""
        ...

    def leave(self) -> None:
        """There is nothing to do: let the agent leave."""
        ...

    def close(self) -> None:
        """The engine leaves; what runs there goes on."""
        ...

    def send(self, message: FromEngine) -> None:
        """Send a message, where there is a link; what was not sent is said again when there is one."""
        ...

    def heard(self) -> list[Ask | Over | Waits | Notes | Has | LaidOut]:
        """Messages that have come since the last time, and what was laid out."""
        ...

    def obstacle(self) -> str:
        """The obstacle to starts there, as far as that is seen without trying; empty for none."""
        ...

    def notices(self) -> list[str]:
        """Sentences about it that a person should know."""
        ...
