"""Mail that a header asks for: to whom, and when."""

from collections.abc import Iterator, Mapping

from msgspec import Struct

from lazy_quarry.core.job.phase import FAILING, Phase
from lazy_quarry.core.units import SECOND_MS, parse_duration


class Notify(Struct, frozen=True):
    """An address, and the words of its header: events, shares of the walltime (``75%``), time left (``20m left``)."""

    to: str
    on: tuple[str, ...]

    def timed(self, started_ms: int, walltime_s: int) -> Iterator[tuple[int, str]]:
        """The instants of an attempt at which mail is due, each with its word; none that the walltime has no room for."""
        for word in self.on:
            if word.endswith("%"):
                yield started_ms + walltime_s * SECOND_MS * int(word[:-1]) // 100, word
            elif word.endswith(" left"):
                after_s = walltime_s - parse_duration(word.removesuffix(" left"))
                if after_s > 0:
                    yield started_ms + after_s * SECOND_MS, word

    def at_end(self, phase: Phase, again: bool, counts: Mapping[str, int] | None = None) -> str:
        """The word for which the end of an attempt is mailed, empty for none; ``counts`` are an array's tasks by state.

        An end is mailed once, whatever number of words it meets. Who asks for *failed* is told of all that isn't done.
        """
        states = (
            {phase}
            if counts is None
            else {Phase(word) for word, count in counts.items() if count and word in set(Phase)}
        )
        met = ["again"] if again else []
        met += ["overtime"] if Phase.OVERTIME in states else []
        met += ["failed"] if not again and (phase in FAILING or states & set(FAILING)) else []
        met += ["done"] if phase is Phase.DONE and not again and not states & set(FAILING) else []
        return next((word for word in met if word in self.on), "")
