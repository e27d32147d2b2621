"""Runs from which something is learned for another: those of the same script or commands, else of the same name and place."""

from collections.abc import Iterable

from msgspec import Struct

from lazy_quarry.core.advice.next_time import RunToLearnFrom
from lazy_quarry.core.job.job import Job, Phase
from lazy_quarry.site.session import Session
from lazy_quarry.store.codec import text_key
from lazy_quarry.store.journal import EndedFilter

MOST_RUNS = 200
"""Newest runs that are looked at."""
MOST_ASKED = 1000
"""Number of questions whose answers are kept: each letter that is typed in a draft makes another script."""


def commands_of(script: str) -> str:
    """The lines of a script that do something: no comments, and so no header, and no empty lines."""
    lines = (line.strip() for line in script.splitlines())
    return "\n".join(line for line in lines if line and not line.startswith("#"))


def past_run(job: Job) -> RunToLearnFrom | None:
    """A run to learn from; None for one that says nothing of what it needs: it failed, was cancelled, lost, or never ran."""
    if job.phase not in (Phase.DONE, Phase.OVERTIME, Phase.OVERMEMORY) or job.started_ms is None or not job.allocations:
        return None
    took, cores = max(1.0, job.attempt_ms(0) / 1000), max(1, job.cores_allocated)
    return RunToLearnFrom(
        took,
        job.use.memory_peak_mib / cores,
        cores,
        job.use.cpu_ms / 1000 / took,
        job.request.walltime_s,
        sum(one.memory_mib for one in job.allocations) / cores,
        late=job.phase is Phase.OVERTIME,
        full=job.phase is Phase.OVERMEMORY,
        parameters=job.request.parameters,
        began_ms=job.started_ms,
        submission=job.parent or 0,
    )


class Kind(Struct, frozen=True):
    """The property in which runs are alike: what they do, or their name and place.

    The place is the folder where it starts and, for a part of a chain, the chain's name.
    """

    name: str
    commands: str
    places: frozenset[str]

    def like(self, other: "Kind") -> bool:
        """True when one says something of the other: a name alone does not."""
        same_work = bool(self.commands) and self.commands == other.commands
        return same_work or (self.name == other.name and not self.places.isdisjoint(other.places))

    def source(self, others: Iterable["Kind"]) -> str:
        """Word which runs these are: ``solve with the same commands``, ``solve in /work/flow``."""
        others = list(others)
        if all(one.commands == self.commands for one in others):
            same = all(one.name == self.name for one in others)
            return f"{self.name}{'' if same else ' and other names'} with the same commands"
        where = min(self.places & frozenset.union(*(one.places for one in others)), default="")
        return f"{self.name} in {where}" if where else self.name


class AlikeRuns:
    """Finds a user's runs that are alike to a job or a draft, newest first."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self._known: tuple[int, int, dict[EndedFilter, list[tuple[Job, Kind]]]] = (-1, -1, {})
        """Candidates by what they were asked for, as long as nothing ends."""

    def kind_of(self, job: Job) -> Kind:
        """The kind of a job or task."""
        script = job.origin.script
        if job.parent is not None and not script:  # it is kept once, with the array
            script = self.session.find(job.parent).origin.script
        return self.kind(job.request.name, script, job.paths.folder, self._chain_of(job.parent or job.number))

    @staticmethod
    def kind(name: str, script: str, folder: str, chain: str = "") -> Kind:
        """The kind of what would run so."""
        places = {folder, *([f"the chain {chain}"] if chain else [])} - {""}
        return Kind(name, commands_of(script), frozenset(places))

    def of(self, kind: Kind, user: str, script: str = "") -> list[tuple[Job, Kind]]:
        """Runs that have ended, no arrays, with their kinds; ``script`` also finds those of the very script under other names."""
        named = self._ended(EndedFilter(user=user, name=kind.name, limit=MOST_RUNS))
        found = {job.number: (job, other) for job, other in named if kind.like(other)}
        if kind.commands and (key := text_key(script)):
            for job, other in self._ended(EndedFilter(user=user, script=key, limit=MOST_RUNS)):
                found.setdefault(job.number, (job, other))
        newest = sorted(found.values(), key=lambda one: (one[0].ended_ms or 0, one[0].number), reverse=True)
        return newest[:MOST_RUNS]

    def like_job(self, job: Job) -> list[tuple[Job, Kind]]:
        """Runs alike to a job."""
        return self.of(self.kind_of(job), job.user, job.origin.script)

    def _ended(self, wanted: EndedFilter) -> list[tuple[Job, Kind]]:
        session = self.session
        if self._known[:2] != (session.ends, session.past):
            self._known = session.ends, session.past, {}
        known = self._known[2]
        if wanted not in known:
            if len(known) >= MOST_ASKED:
                known.clear()
            scripts = dict[int, Kind]()
            found = list[tuple[Job, Kind]]()
            for job in session.journal.ended(wanted):
                if job.request.array is None:
                    kind = scripts.get(job.parent) if job.parent is not None else None
                    kind = kind or self.kind_of(job)
                    if job.parent is not None:
                        scripts[job.parent] = kind
                    found.append((job, kind))
            known[wanted] = found
        return known[wanted]

    def _chain_of(self, number: int) -> str:
        for record in self.session.engine.state.chains.values():
            if any(part.job == number for part in record.parts):
                return record.name
        return ""
