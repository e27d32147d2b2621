"""What is behind a verdict: what a job printed last that sounds wrong, and the files that it was to leave."""

from dataclasses import dataclass

from lazy_quarry.core.job.job import Job, Phase
from lazy_quarry.core.paths import fill_in, within
from lazy_quarry.run.file_kinds import FileFound
from lazy_quarry.run.runner import Runner

TAIL = -48 * 1024
"""So much of the end of what was printed is looked through."""
MOST_FILES = 20


@dataclass(frozen=True, slots=True)
class Evidence:
    """The last lines that tell of errors, and the files that it promised or staged out as they are now."""

    errors: tuple[str, ...] = ()
    files: tuple[FileFound, ...] = ()

    @property
    def wrong_files(self) -> tuple[FileFound, ...]:
        """Those that are not there, empty, or not whole."""
        return tuple(one for one in self.files if one.problem)


def evidence_of(runner: Runner, job: Job, now_ms: int) -> Evidence | None:
    """Gather it for a job that has ended; None for an array, whose tasks each have their own, and for one that never ran."""
    if not job.phase.final or job.request.array is not None or job.started_ms is None:
        return None
    from lazy_quarry.core.advice.error_lines import error_lines  # its patterns are for who looks at output only

    told: list[str] = []
    for path in dict.fromkeys((job.paths.errors, job.paths.output)):
        chunk = runner.output(job, path, TAIL, now_ms)
        lines = chunk.text.split("\n")
        lines = [line for line in lines if not line.startswith("-- ")]  # the summary that is asked for
        told += [line.strip()[:300] for _, line in error_lines(lines)]
    words = job.paths.words
    wanted = [*job.request.expect, *job.request.stage.out]
    paths = [
        within(job.paths.folder, fill_in(path, words)) for path in wanted if not any(sign in path for sign in "*?[")
    ]
    return Evidence(tuple(dict.fromkeys(told))[-3:], tuple(runner.files(paths[:MOST_FILES])))


def is_silent(job_phase: Phase, evidence: Evidence | None) -> bool:
    """Whether a job ended as if all were well, and something says that it is not."""
    return job_phase is Phase.DONE and evidence is not None and bool(evidence.errors or evidence.wrong_files)
