"""The evidence behind a verdict: last lines that sound wrong, and the files that a job was to leave."""

from lazy_quarry.core.job.job import Job
from lazy_quarry.core.paths import fill_in, within
from lazy_quarry.run.runner import JobFiles
from lazy_quarry.views.job_detail import Evidence

TAIL = -48 * 1024
"""Bytes of the end of an output that are looked through."""
MOST_FILES = 20


def evidence_of(files: JobFiles, job: Job, now_ms: int) -> Evidence | None:
    """Gather it for a job that has ended; None for an array, whose tasks each have their own, and for one that never ran."""
    if not job.phase.final or job.request.array is not None or job.started_ms is None:
        return None
    from lazy_quarry.core.advice.error_lines import error_lines  # its patterns are for who looks at output only

    told: list[str] = []
    for path in dict.fromkeys((job.paths.errors, job.paths.output)):
        chunk = files.output(job, path, TAIL, now_ms)
        lines = chunk.text.split("\n")
        lines = [line for line in lines if not line.startswith("-- ")]  # the summary that is asked for
        told += [line.strip()[:300] for _, line in error_lines(lines)]
    words = job.paths.words
    wanted = [*job.request.expect, *job.request.stage.out]
    paths = [
        within(job.paths.folder, fill_in(path, words)) for path in wanted if not any(sign in path for sign in "*?[")
    ]
    return Evidence(tuple(dict.fromkeys(told))[-3:], tuple(files.look_at(paths[:MOST_FILES])))
