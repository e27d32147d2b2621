"""The files of jobs on several nodes: each job's are asked of the node that its first part is on."""

import os
import time
from collections.abc import Mapping

from lazy_quarry.core.job.copying import Copying
from lazy_quarry.core.job.inside import Inside
from lazy_quarry.core.job.job import Job, Use
from lazy_quarry.core.job.node_use import NodeUse, sum_of
from lazy_quarry.run.fetching import FilesHere, FilesThere, FilesToFetch
from lazy_quarry.run.intent import attempt_name
from lazy_quarry.run.node.file_kinds import FileFound
from lazy_quarry.run.node.kept_here import RESULTS
from lazy_quarry.run.node.made_files import MadeFiles
from lazy_quarry.run.node.pause import pause
from lazy_quarry.run.node_files import NodeFiles, parts_of
from lazy_quarry.run.node_link import LiveFiles
from lazy_quarry.run.runner import KeptThere, OutputChunk

REACHED_S, _TURN_S = 3.0, 0.05
"""Seconds in which an engine that has just begun reaches a host, for whoever wants something of it; and between two tries."""


class FilesOfNodes:
    """The files of a site's nodes; see :class:`~lazy_quarry.run.runner.JobFiles`.

    Paths that are no attempt's are looked at by ``home``, the machine that the engine runs on: other nodes see the same there.
    """

    def __init__(self, nodes: Mapping[str, LiveFiles], home: NodeFiles) -> None:
        self._nodes, self._home = nodes, home

    def of(self, job: Job, part: int = 0) -> LiveFiles:
        """The files of the node that a part of a job's present or last attempt is on."""
        node = self._nodes.get(job.allocations[part].node) if job.allocations else None
        return self._home if node is None else node

    def live(self, job: Job, now_ms: int) -> tuple[Use, float] | None:
        """Use of all of its parts so far, and the cores that they keep busy."""
        each = range(max(1, len(job.allocations)))
        found = [one for place in each if (one := self.of(job, place).live_of(attempt_name(job, place)))]
        return (sum_of([use for use, _ in found]), sum(busy for _, busy in found)) if found else None

    def parts(self, job: Job, now_ms: int) -> tuple[NodeUse, ...]:
        """Use of each part so far."""
        return parts_of(job, lambda part: self.of(job, part).live_of(attempt_name(job, part)))

    def run_ms(self, job: Job) -> int | None:
        """Time that its supervisor has run, by a clock that nobody can set; None where that is not known."""
        return self.of(job).run_ms(job)

    def inside(self, job: Job, now_ms: int) -> Inside | None:
        """Read the parts and tasks that it told of."""
        return self.of(job).inside(job, now_ms)

    def copying(self, job: Job) -> Copying | None:
        """A copy that is under way for it."""
        return self.of(job).copying(job)

    def samples(self, job: Job, now_ms: int) -> list[tuple[int, float, int]]:
        """Measurements of its first part."""
        return self.of(job).samples(job, now_ms)

    def output(self, job: Job, path: str, from_byte: int, now_ms: int) -> OutputChunk:
        """A piece of what it printed."""
        files = self.of(job)
        found = files.output(job, path, from_byte, now_ms)
        if found.problem and files is not self._home:  # its node doesn't answer; what both see can still be read here
            here = self._home.output(job, path, from_byte, now_ms)
            return found if here.problem else here
        return found

    def to_fetch(self, job: Job) -> FilesToFetch:
        """Its files, where they are: in its place on a host, or in its folder, which this machine sees. Raises :class:`OSError`."""
        files = self.of(job)
        if files is not self._home and job.allocations:
            name = attempt_name(job)
            try:
                if files.service.carried(name) is not None:
                    return FilesThere(files.service, name, job.allocations[0].node)
            except ConnectionError:
                if not job.phase.final:  # else what it made was brought back before its end was recorded
                    raise
        return FilesHere(os.path.realpath(job.paths.folder))

    def kept(self, node: str) -> list[KeptThere]:
        """List all that stays on a host after its jobs."""
        found = []
        for name, size, used, what in self._of_host(node).service.kept():
            job = int(what.partition("-")[0]) if name.startswith(RESULTS) else None
            found.append(KeptThere(node, name, int(size), round(used * 1000), job))
        return found

    def drop(self, node: str, item: str) -> None:
        """Remove some of that; a host that an engine has just begun to reach is waited for."""
        service, until = self._of_host(node).service, time.monotonic() + REACHED_S
        while True:
            try:
                return service.drop(item)
            except ConnectionError:
                if time.monotonic() >= until:
                    raise
                pause(_TURN_S)

    def _of_host(self, node: str) -> LiveFiles:
        files = self._nodes.get(node)
        if files is None or files is self._home:
            raise OSError(f"{node} is no host that files travel to")
        return files

    def look_at(self, paths: list[str]) -> list[FileFound]:
        """Look at files by their content."""
        return self._home.look_at(paths)

    def made(self, folder: str, since_ms: int, until_ms: int | None) -> MadeFiles:
        """List the files that were made below a folder."""
        return self._home.made(folder, since_ms, until_ms)

    def remove(self, folder: str, paths: list[str], since_ms: int) -> tuple[int, list[str]]:
        """Remove some of that."""
        return self._home.remove(folder, paths, since_ms)

    def unusable(self, folder: str, written: dict[str, str], input_path: str) -> dict[str, str]:
        """Why a job could not start in its folder, write its files or read its input."""
        return self._home.unusable(folder, written, input_path)
