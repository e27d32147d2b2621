"""Sees that the clock was set, by a clock that nobody can set, so that the limits of what runs go with it."""

from collections.abc import Callable
from contextlib import suppress

from lazy_quarry.core.engine.commands import StepClock
from lazy_quarry.core.units import MINUTE_MS, SECOND_MS
from lazy_quarry.errors import StateFolderError
from lazy_quarry.site.session import Session

FORWARD_MS, BACK_MS = 2 * SECOND_MS, MINUTE_MS
"""Steps from these on are recorded. While journal time stands still after a step back, there is one each minute."""
MOST_COMPARED = 20


class ClockWatch:
    """Compares the journal's time with ``steady_ms``; ``run_ms`` is how long a running job has run, None where nobody knows."""

    def __init__(self, session: Session, steady_ms: Callable[[], int], run_ms: Callable[[int], int | None]) -> None:
        self.session, self._steady_ms, self._run_ms = session, steady_ms, run_ms
        with session.lock:
            self._seen = session.now(), steady_ms()
            with suppress(StateFolderError):
                self._record(self._while_away())

    def look(self) -> None:
        """Record a step since the last one. Raises :class:`StateFolderError` when that cannot be written; then it is seen again."""
        with self.session.lock:
            now, steady = self.session.now(), self._steady_ms()
            by_ms = (now - self._seen[0]) - (steady - self._seen[1])
            if self._record(by_ms):
                self._seen = now, steady

    def _record(self, by_ms: int) -> bool:
        if -BACK_MS < by_ms < FORWARD_MS:
            return False
        session = self.session
        session.commit(session.engine.decide(StepClock(session.now(), by_ms)))
        return True

    def _while_away(self) -> int:
        """The step of the clock while nobody looked, by what runs since then; the least that any of it tells."""
        now, told = self.session.now(), list[int]()
        for job in self.session.engine.state.running()[:MOST_COMPARED]:
            ran = self._run_ms(job.number) if job.request.array is None else None
            if ran is not None and job.started_ms is not None:
                told.append((now - job.started_ms) - ran)
        return min(told, key=abs, default=0)
