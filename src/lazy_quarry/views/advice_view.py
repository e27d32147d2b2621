"""Advice on the next request of a name, as people see it."""

from msgspec import Struct


class ShorterAsk(Struct, frozen=True, kw_only=True):
    """A walltime or memory that is enough for most runs, where a few need far more than all others.

    ``setting`` is what the header key says then, ``count`` of ``runs`` would have had enough. ``costs`` tells what becomes of the
    others; ``starts_ms`` when a job with it would start now, None where the plan says nothing.
    """

    key: str
    setting: str
    count: int
    runs: int
    costs: str
    starts_ms: int | None = None


class Advised(Struct, frozen=True, kw_only=True):
    """Advice for one name. Walltimes in seconds; memory in MiB for each core; ``job`` is the newest run, whose request it was.

    What is None stays as it is. ``settings`` are the header keys that it comes to.
    """

    name: str
    job: int
    runs: int
    requested_s: int
    requested_mib: int
    cores: int
    walltime_s: int | None
    memory_mib: int | None
    busy: float
    saved_core_hours: float
    starts_ms: int | None
    """When it would start now as it was, and with the advice."""
    starts_then_ms: int | None
    reason: str
    settings: tuple[tuple[str, str], ...]
    promise: float | None
    """The share of further runs that may need more; None where that can't be promised."""
    doubt: str
    """Why nothing is promised; empty where it is."""
    shorter: tuple[ShorterAsk, ...] = ()

    @property
    def start_ms(self) -> int | None:
        """When it would start now with what is advised, be that as it was; None where the plan says nothing."""
        return self.starts_ms if self.starts_then_ms is None else self.starts_then_ms

    @property
    def sooner_s(self) -> int | None:
        """Seconds by which it would start sooner; None where the plan says nothing."""
        if self.starts_ms is None or self.starts_then_ms is None:
            return None
        return max(0, self.starts_ms - self.starts_then_ms) // 1000
