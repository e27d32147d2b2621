"""The files of a node's jobs as the engine and its readers see them: what the node's file service tells, as values of the core."""

from collections.abc import Callable, Container
from contextlib import suppress
from functools import partial
from typing import Any

from lazy_quarry.core.job.copying import Copying
from lazy_quarry.core.job.curve import Sample
from lazy_quarry.core.job.inside import Inside
from lazy_quarry.core.job.job import Job, Use
from lazy_quarry.core.job.node_use import NodeUse
from lazy_quarry.errors import StateFolderError
from lazy_quarry.run.inside_files import InsideFiles, at_its_end
from lazy_quarry.run.intent import Ground, attempt_name, intent_of
from lazy_quarry.run.node.attempt import intent_text
from lazy_quarry.run.node.file_kinds import FileFound
from lazy_quarry.run.node.file_service import FileService, Piece
from lazy_quarry.run.node.made_files import MadeFiles
from lazy_quarry.run.runner import OutputChunk


class NodeFiles:
    """The files of the jobs of one node; see :class:`~lazy_quarry.run.runner.JobFiles`."""

    def __init__(self, service: FileService) -> None:
        self.service = service
        self._inside = InsideFiles()

    def live(self, job: Job, now_ms: int) -> tuple[Use, float] | None:
        """Use so far and cores busy, as the supervisor wrote last."""
        return self.live_of(attempt_name(job))

    def live_of(self, name: str) -> tuple[Use, float] | None:
        """The same of a part of an attempt by its name."""
        found = self._live(name)
        with suppress(KeyError, TypeError):  # written by a program of another version
            use = Use(found["cpu_ms"], found["peak_mib"], found["read"], found["written"], found.get("scratch", 0))
            return use, found["busy"]
        return None

    def _live(self, name: str) -> dict[str, Any]:
        with suppress(OSError):
            found = self.service.live(name)
            return found if isinstance(found, dict) else {}
        return {}

    def parts(self, job: Job, now_ms: int) -> tuple[NodeUse, ...]:
        """Use by node, as the supervisors of an attempt on several nodes wrote last, as far as they write here."""
        return parts_of(job, lambda part: self.live_of(attempt_name(job, part)))

    def run_ms(self, job: Job) -> int | None:
        """Time that its supervisor has run, by a clock that nobody can set; None where that is not known."""
        with suppress(OSError):
            return self.service.ran_ms(attempt_name(job))
        return None

    def inside(self, job: Job, now_ms: int) -> Inside | None:
        """Read the parts and tasks that it told of."""
        return self._told(attempt_name(job), over=False)

    def inside_at_end(self, name: str, ended_ms: int) -> Inside | None:
        """Read what an attempt that is over, by its name, had told of until then."""
        return at_its_end(self._told(name, over=True), ended_ms)

    def _told(self, name: str, over: bool) -> Inside | None:
        with suppress(OSError):
            return self._inside.read(name, partial(self.service.inside, name), over)
        return None

    def copying(self, job: Job) -> Copying | None:
        """Nothing is copied for a job where it is submitted."""
        return None

    def samples(self, job: Job, now_ms: int) -> list[tuple[int, float, int]]:
        """Measurements of its supervisor; for a long run, fewer."""
        return self.samples_of(attempt_name(job))

    def samples_of(self, name: str) -> list[Sample]:
        """The same of an attempt by its name."""
        with suppress(ValueError, TypeError):  # written by a program of another version
            return [(int(at), float(busy), int(mib)) for at, busy, mib in self._live(name).get("samples", ())]
        return []

    def output(self, job: Job, path: str, from_byte: int, now_ms: int) -> OutputChunk:
        """A piece of a file of the job's."""
        try:
            piece = self.service.piece(path, from_byte)
        except FileNotFoundError:
            if (found := self._output_in_place(job, path, from_byte)) is not None:
                return found
            words = "it has not printed anything yet" if job.started_ms is None else f"{path} is not there any more"
            return OutputChunk(path, "", from_byte, 0, words)
        except OSError as fault:
            return OutputChunk(path, "", from_byte, 0, f"{path} cannot be read: {fault.strerror}")
        if not _as_left(job, path, piece):
            return OutputChunk(path, "", from_byte, 0, f"{path} was changed since {job.label} ended", changed=True)
        return OutputChunk(path, piece.raw.decode(errors="replace"), piece.begin + len(piece.raw), piece.size)

    def _output_in_place(self, job: Job, path: str, from_byte: int) -> OutputChunk | None:
        """A piece of a file that a job prints on a host that doesn't see its folder; None where that isn't so."""
        try:
            told = self.service.carried(attempt_name(job))
            for name, here in dict(told["files"]).items() if told is not None else ():
                if here == path and told is not None:
                    piece = self.service.piece(f"{told['place']}/{name}", from_byte)
                    text = piece.raw.decode(errors="replace")
                    return OutputChunk(path, text, piece.begin + len(piece.raw), piece.size)
        except (OSError, KeyError, TypeError, ValueError):
            pass
        return None

    def look_at(self, paths: list[str]) -> list[FileFound]:
        """Look at them."""
        try:
            return self.service.look_at(paths)
        except OSError as fault:
            return [FileFound(path, problem=f"not readable: {fault.strerror}") for path in paths]

    def made(self, folder: str, since_ms: int, until_ms: int | None) -> MadeFiles:
        """Look for them."""
        try:
            return self.service.made(folder, since_ms, until_ms)
        except OSError as fault:
            return MadeFiles(folder, problem=f"cannot be looked through: {fault.strerror}")

    def remove(self, folder: str, paths: list[str], since_ms: int) -> tuple[int, list[str]]:
        """Remove them."""
        try:
            return self.service.remove(folder, paths, since_ms)
        except OSError as fault:
            return 0, [f"{folder}: {fault.strerror}; look there what is gone"]

    def unusable(self, folder: str, written: dict[str, str], input_path: str) -> dict[str, str]:
        """Why a job could not start in its folder, write its files or read its input: by header key, what is wrong."""
        try:
            return self.service.unusable(folder, written, input_path)
        except OSError as fault:
            return {"directory": f"{folder} cannot be used: {fault.strerror}"}


def parts_of(job: Job, live: Callable[[int], tuple[Use, float] | None]) -> tuple[NodeUse, ...]:
    """Use by node of an attempt on several, as far as it is known of each part; none where it has one."""
    if len(job.allocations) < 2:
        return ()
    known = [(one.node, live(part)) for part, one in enumerate(job.allocations)]
    return tuple(NodeUse(node, found[0]) for node, found in known if found is not None)


def _as_left(job: Job, path: str, piece: Piece) -> bool:
    """True when a file that a job printed into is as it left it, as far as that is known."""
    which = "output" if path == job.paths.output else "errors"
    mark = next((one for one in job.printed if one.which == which), None)
    return not job.phase.final or mark is None or mark.same(piece.inode, piece.size, piece.mtime_ns)


class AttemptsOfNode(NodeFiles):
    """The same for the engine, which also lays attempts out and removes them."""

    def __init__(self, service: FileService, ground: Ground) -> None:
        super().__init__(service)
        self.ground = ground

    def gathered(self, name: str, ended_ms: int) -> bool:
        """True: it is read when it is needed."""
        return True

    def printed_at_end(self, name: str) -> None:
        """It is where it was made."""

    def bring_left(self, active: Container[str]) -> None:
        """Nothing travels to where one is."""

    def prepare(self, names: list[str]) -> frozenset[str]:
        """Make the folders of attempts: at once. Raises :class:`StateFolderError`."""
        try:
            self.service.prepare(names)
            return frozenset()
        except OSError as fault:
            raise StateFolderError(
                f"nothing can start: {self.ground.spool_there} cannot be written ({fault.strerror})"
            ) from None

    def lay_out(self, job: Job, part: int) -> bool:
        """Write what a part of an attempt is to run: at once. Raises :class:`OSError` and :class:`IntentTooLong`."""
        intent = intent_of(job, self.ground, part)
        self.service.lay_out(attempt_name(job, part), intent_text(intent), job.origin.script)
        return True

    def is_laid_out(self, name: str) -> bool:
        """True when that is written."""
        return self.service.is_laid_out(name)

    def write_stop(self, name: str, cause: str) -> None:
        """Write that an attempt should end. Raises :class:`OSError`."""
        self.service.write_stop(name, cause)

    def remove_attempt(self, name: str) -> None:
        """Remove its folder."""
        with suppress(OSError):
            self.service.forget(name)

    def sweep(self, running: set[str], kept_s: int) -> None:
        """Remove what attempts have left that ended so long ago."""
        with suppress(OSError):
            self.service.sweep(sorted(running), kept_s)
