"""Waiting and running times of a job, over all of its attempts."""

from msgspec import Struct

from lazy_quarry.core.values import replace


class JobTimes(Struct, frozen=True):
    """Durations in ms.

    How long an attempt held its nodes is said by its supervisor's clock, which nobody can set; waits are differences of instants.
    """

    first_start_ms: int | None = None
    """Instant of the first start of any attempt; of an array, of any task."""
    waited_ms: int = 0
    """Time in the state *waiting*, up to its last change: not blocked, on hold or before ``not-before``."""
    waiting_since_ms: int | None = None
    """Instant from which it has been waiting since then; None while it does not wait."""
    first_wait_ms: int | None = None
    """For an array: time that it had waited when its first task started."""
    held_ms: int = 0
    """Sum over the attempts that have ended."""
    last_held_ms: int = 0
    """The last attempt that has ended."""
    cpu_ms: int = 0
    """CPU time of all attempts that have ended."""

    @classmethod
    def of_one_attempt(cls, submitted_ms: int, started_ms: int, held_ms: int, cpu_ms: int) -> "JobTimes":
        """The times of a job that waited from its submission and ran once."""
        waited = max(0, started_ms - submitted_ms)
        return cls(started_ms, waited, held_ms=held_ms, last_held_ms=held_ms, cpu_ms=cpu_ms)

    def waited_by(self, at_ms: int) -> int:
        """Time that it has waited by an instant."""
        since = self.waiting_since_ms
        return self.waited_ms + (0 if since is None else max(0, at_ms - since))

    def turned(self, at_ms: int, waits_from_ms: int | None) -> "JobTimes":
        """The times after a change of state; ``waits_from_ms`` is when it begins to wait, None when it does not."""
        return replace(self, waited_ms=self.waited_by(at_ms), waiting_since_ms=waits_from_ms)

    def started(self, at_ms: int) -> "JobTimes":
        """The times after a start: only the first one counts."""
        return self if self.first_start_ms is not None else replace(self, first_start_ms=at_ms)

    def ended(self, held_ms: int, cpu_ms: int) -> "JobTimes":
        """The times after the end of an attempt that held its nodes and computed so long."""
        return replace(self, held_ms=self.held_ms + held_ms, last_held_ms=held_ms, cpu_ms=self.cpu_ms + cpu_ms)
