"""A chain as values: its jobs with their scripts, what is asked for each, and what each waits for."""

from msgspec import Struct

MOST_JOBS = 5_000


class ChainJob(Struct, frozen=True):
    """A job of a chain. ``shared``, ``own`` and ``told`` are ``KEY=VALUE`` texts that are set beside the script's header:
    those for all jobs, its own, and what the chain says of it, its name and the parameters.

    ``after`` are (other, condition): another job of the chain by its name, or one submitted earlier by its number.
    """

    name: str
    script: str
    path: str
    shared: tuple[str, ...] = ()
    own: tuple[str, ...] = ()
    told: tuple[str, ...] = ()
    arguments: tuple[str, ...] = ()
    after: tuple[tuple[str, str], ...] = ()
    line: int = 1

    @property
    def overrides(self) -> tuple[str, ...]:
        """All of them, the later ones over the earlier ones."""
        return (*self.shared, *self.own, *self.told)

    @property
    def inside(self) -> tuple[tuple[str, str], ...]:
        """The jobs within the chain that it waits for."""
        return tuple(one for one in self.after if not one[0].isdecimal())


class Chain(Struct, frozen=True):
    """A chain: jobs in an order in which each comes after those that it waits for."""

    name: str
    jobs: tuple[ChainJob, ...]
    parameters: tuple[tuple[str, str], ...] = ()

    def job(self, name: str) -> ChainJob:
        """One of them by its name; raises :class:`KeyError` for none."""
        for one in self.jobs:
            if one.name == name:
                return one
        raise KeyError(name)
