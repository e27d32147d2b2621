"""The files of jobs on this machine: what their supervisors wrote, what they printed, what they made."""

import json
import os
import shutil
import time
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path

from lazy_quarry.core.job.curve import Sample
from lazy_quarry.core.job.inside import Inside
from lazy_quarry.core.job.job import Job, Use
from lazy_quarry.core.job.node_use import NodeUse
from lazy_quarry.errors import StateFolderError
from lazy_quarry.files import given, ours
from lazy_quarry.run.file_kinds import FileFound, file_found
from lazy_quarry.run.inside_files import InsideFiles, at_its_end
from lazy_quarry.run.intent import attempt_name, intent_of
from lazy_quarry.run.made_files import MadeFiles, made_files, remove_made
from lazy_quarry.run.node.attempt import own_folder, read_claim, write_intent
from lazy_quarry.run.node.process import TICKS, boottime
from lazy_quarry.run.runner import OutputChunk
from lazy_quarry.run.writable import tried, unusable

LOOKING_S = 60.0
"""Looking through all that is in a folder may take so long."""
CHUNK = 256 * 1024
"""Most bytes of output read in one go."""


class LocalFiles:
    """The files of this machine's jobs; ``spool`` is the folder of their attempts."""

    def __init__(self, spool: Path) -> None:
        self.spool = spool
        self._inside = InsideFiles()

    def live(self, job: Job, now_ms: int) -> tuple[Use, float] | None:
        """What the supervisor wrote last: use so far, cores busy."""
        return self.live_of(attempt_name(job))

    def live_of(self, name: str) -> tuple[Use, float] | None:
        """The same of a part of an attempt by its name."""
        found = ours.glance_json(self.spool / name / "live.json")
        if found is None:
            return None
        return Use(found["cpu_ms"], found["peak_mib"], found["read"], found["written"]), found["busy"]

    def parts(self, job: Job, now_ms: int) -> tuple[NodeUse, ...]:
        """What the supervisors of an attempt on several nodes wrote last, as far as they write here."""
        if len(job.allocations) < 2:
            return ()
        known = [(one.node, self.live_of(attempt_name(job, part))) for part, one in enumerate(job.allocations)]
        return tuple(NodeUse(node, live[0]) for node, live in known if live is not None)

    def run_ms(self, job: Job) -> int | None:
        """Time that its supervisor has run, by a clock that nobody can set; None where that is not known."""
        try:
            claim = read_claim(self.spool / attempt_name(job))
            lives = claim is not None and claim.alive()
        except OSError:
            return None
        return round(1000 * (boottime() - claim.ticks / TICKS)) if claim is not None and lives else None

    def inside(self, job: Job, now_ms: int) -> Inside | None:
        """What it has written into its attempt's folder."""
        return self._inside.read(own_folder(self.spool / attempt_name(job)))

    def inside_at_end(self, name: str, ended_ms: int) -> Inside | None:
        """What an attempt that is over, by its name, had told until then."""
        return at_its_end(self._inside.read(own_folder(self.spool / name), over=True), ended_ms)

    def samples(self, job: Job, now_ms: int) -> list[tuple[int, float, int]]:
        """What its supervisor measured; for a long run, fewer samples."""
        return self.samples_of(attempt_name(job))

    def samples_of(self, name: str) -> list[Sample]:
        """The same of an attempt by its name."""
        found = ours.glance_json(self.spool / name / "live.json")
        with suppress(ValueError, TypeError, AttributeError):  # written by a program of another version
            return [(int(at), float(busy), int(mib)) for at, busy, mib in (found or {}).get("samples", ())]
        return []

    def output(self, job: Job, path: str, from_byte: int, now_ms: int) -> OutputChunk:
        """A piece of a file of the job's."""
        try:
            return given.in_time(lambda: _piece(job, path, from_byte), path)
        except FileNotFoundError:
            words = "it has not printed anything yet" if job.started_ms is None else f"{path} is not there any more"
            return OutputChunk(path, "", from_byte, 0, words)
        except OSError as fault:
            return OutputChunk(path, "", from_byte, 0, f"{path} cannot be read: {fault.strerror}")

    def look_at(self, paths: list[str]) -> list[FileFound]:
        """Look at them."""
        try:
            return given.in_time(lambda: [file_found(path) for path in paths], paths[0] if paths else "")
        except TimeoutError as fault:
            return [FileFound(path, problem=f"not readable: {fault.strerror}") for path in paths]

    def made(self, folder: str, since_ms: int, until_ms: int | None) -> MadeFiles:
        """Look for them."""
        try:
            return given.in_time(lambda: made_files(folder, since_ms, until_ms), folder, LOOKING_S)
        except TimeoutError as fault:
            return MadeFiles(folder, problem=f"cannot be looked through: {fault.strerror}")

    def remove(self, folder: str, paths: list[str], since_ms: int) -> tuple[int, list[str]]:
        """Remove them."""
        try:
            return given.in_time(lambda: remove_made(folder, paths, since_ms), folder, LOOKING_S)
        except TimeoutError as fault:
            return 0, [f"{folder}: {fault.strerror}; look there what is gone"]

    def unusable(self, folder: str, written: dict[str, str], input_path: str) -> dict[str, str]:
        """Why a job could not start in its folder, write its files or read its input: by header key, what is wrong."""
        try:
            return given.in_time(lambda: unusable(folder, written, input_path, tried), folder)
        except TimeoutError as fault:
            return {"directory": f"{folder} cannot be used: {fault.strerror}"}


def _piece(job: Job, path: str, from_byte: int) -> OutputChunk:
    """A piece of a file of the job's, from a byte on. Raises :class:`OSError`."""
    fd = given.opened(path, os.O_RDONLY | os.O_NONBLOCK)
    try:
        there = os.fstat(fd)
        if not _as_left(job, path, there):
            return OutputChunk(path, "", from_byte, 0, f"{path} was changed since {job.label} ended", changed=True)
        begin = max(0, there.st_size + from_byte) if from_byte < 0 else from_byte
        raw = given.read_range(fd, CHUNK, begin)
    finally:
        os.close(fd)
    return OutputChunk(path, raw.decode(errors="replace"), begin + len(raw), there.st_size)


def _as_left(job: Job, path: str, there: os.stat_result) -> bool:
    """Whether one of the files that a job printed into is as it left it, as far as that is known."""
    which = "output" if path == job.paths.output else "errors"
    mark = next((one for one in job.printed if one.which == which), None)
    return not job.phase.final or mark is None or mark.same(there.st_ino, there.st_size, there.st_mtime_ns)


class LocalAttempts(LocalFiles):
    """The same for the engine, which also lays attempts out and removes them.

    ``folder`` is the state folder, core k of the plan the k-th of ``processors``, ``journal`` the identity of the journal.
    """

    def __init__(self, folder: Path, processors: Sequence[int], journal: str) -> None:
        super().__init__(folder / "spool")
        self.folder, self.processors, self.journal = folder, processors, journal

    def prepare(self, names: list[str]) -> None:
        """Make the folders of attempts. Raises :class:`StateFolderError`."""
        try:
            for name in names:
                (self.spool / name).mkdir(mode=0o700, exist_ok=True)
        except OSError as fault:
            raise StateFolderError(f"nothing can start: {self.spool} cannot be written ({fault.strerror})") from None

    def lay_out(self, job: Job, part: int) -> None:
        """Write what a part of an attempt is to run. Raises :class:`OSError` and :class:`IntentTooLong`."""
        intent = intent_of(job, self.folder, self.processors, self.journal, part)
        write_intent(self.spool / attempt_name(job, part), intent, job.origin.script)

    def is_laid_out(self, name: str) -> bool:
        """Whether that is written."""
        return (self.spool / name / "intent.json").exists()

    def write_stop(self, name: str, cause: str) -> None:
        """Write that an attempt should end. Raises :class:`OSError`."""
        ours.write_whole(self.spool / name / "stop", json.dumps({"cause": cause}))

    def remove_attempt(self, name: str) -> None:
        """Remove its folder."""
        shutil.rmtree(self.spool / name, ignore_errors=True)

    def sweep(self, running: set[str], kept_s: int) -> None:
        """Remove what attempts have left that ended so long ago."""
        for folder in self.spool.iterdir():
            # A supervisor that is alive keeps its folder, whatever the journal says: it still writes there.
            if folder.is_dir() and folder.name not in running and time.time() - folder.stat().st_mtime >= kept_s:
                with suppress(OSError):  # where that can't be told now, it stays until the next start
                    claim = read_claim(folder)
                    if claim is None or not claim.alive():
                        shutil.rmtree(folder, ignore_errors=True)
