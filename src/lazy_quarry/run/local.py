"""Runs jobs on this machine through its agent: the engine's side of the spool."""

import json
import os
import shutil
import socket
import subprocess
import sys
import time
from contextlib import suppress
from pathlib import Path

from lazy_quarry.core.engine.events import Finish
from lazy_quarry.core.job.job import Job, Use
from lazy_quarry.core.site import Site
from lazy_quarry.probe.machine import core_numbers
from lazy_quarry.run.node.attempt import Exit, Intent, read_claim, read_json, write_intent, write_whole
from lazy_quarry.run.node.sockets import dial
from lazy_quarry.site.views import OutputChunk, fill_in, output_path, start_directory

CONNECT_S = 5.0
MOST_OLD = 2_000
"""Folders of settled attempts that may wait for a quiet moment to be removed."""
CHUNK = 256 * 1024
"""Most bytes of output read in one go."""


class LocalRunner:
    """The runner of this machine. ``folder`` is the site's state folder."""

    def __init__(self, folder: Path, site: Site) -> None:
        self.folder, self.site = folder, site
        self.spool = folder / "spool"
        self.spool.mkdir(mode=0o700, exist_ok=True)
        self._make_bin()
        self._cores = core_numbers()
        self._active: dict[str, Job] = {}
        self._over: dict[str, Finish] = {}
        self._waits: dict[str, str] = {}
        self._refused = ""
        self._link: socket.socket | None = None
        self._heard = b""
        self._tried = 0.0
        self._agent: subprocess.Popen[bytes] | None = None
        self._idle_since = time.monotonic()
        self._old: list[Path] = []

    def _make_bin(self) -> None:
        """A folder that holds just ``lq``, for the end of a job's PATH."""
        folder = self.folder / "bin"
        folder.mkdir(exist_ok=True)
        target = folder / "lq"
        text = f'#!/bin/sh\nexec "{sys.executable}" -m lazy_quarry "$@"\n'
        if not target.exists() or target.read_text() != text:  # the folder may be older than this program's place
            write_whole(target, text, durable=False)
            target.chmod(0o700)

    # -- the agent --------------------------------------------------------------------------------

    def fileno(self) -> int | None:
        """The link to the agent, to wait on; None while there is none."""
        return self._link.fileno() if self._link else None

    def tick(self, waiting: bool) -> None:
        """Keep an agent at hand while something runs or waits, and let it go when nothing does."""
        now = time.monotonic()
        if self._agent is not None and self._agent.poll() is not None:
            self._agent = None
        if not self._active or len(self._old) > MOST_OLD:
            for folder in self._old[:50]:
                shutil.rmtree(folder, ignore_errors=True)
            del self._old[:50]
        if self._active or waiting:
            self._idle_since = now
            if self._link is None and now - self._tried > 1.0:
                self._connect()
        elif now - self._idle_since > 1.0:
            self._refused = ""
            self._drop()

    def _connect(self) -> None:
        self._tried = time.monotonic()
        if not self._dial():
            self._refused = ""
            (self.spool / "agent.refused").unlink(missing_ok=True)
            with open(self.folder / "agent.log", "ab") as log:
                self._agent = subprocess.Popen(
                    [sys.executable, "-m", "lazy_quarry.run.node.agent", str(self.spool)],
                    start_new_session=True,
                    stdin=subprocess.DEVNULL,
                    stdout=log,
                    stderr=log,
                    cwd="/",
                )
            until = time.monotonic() + CONNECT_S
            while not self._dial():
                if self._agent.poll() is not None or time.monotonic() > until:
                    by = (read_json(self.spool / "agent.refused") or {}).get("by")
                    self._refused = (
                        f"this machine's cores are promised to the jobs of {Path(by).parent}; "
                        "jobs here start when those have ended"
                        if by
                        else f"the agent does not start; see {self.folder / 'agent.log'}"
                    )
                    return
                time.sleep(0.01)
        self._refused = ""
        for name in self._active:
            self._say({"ensure": name})
            if (self.spool / name / "stop").exists():
                self._say({"stop": name})

    def _dial(self) -> bool:
        link = dial(self.spool, "agent.sock")
        if link is None:
            return False
        link.setblocking(False)
        self._link, self._heard = link, b""
        return True

    def _drop(self) -> None:
        if self._link is not None:
            self._link.close()
        self._link = None

    def _say(self, message: dict[str, str]) -> None:
        if self._link is None:
            return
        try:
            self._link.setblocking(True)
            self._link.sendall(json.dumps(message).encode() + b"\n")
            self._link.setblocking(False)
        except OSError:
            self._drop()

    def _listen(self) -> None:
        while self._link is not None:
            try:
                heard = self._link.recv(1 << 20)
            except BlockingIOError:
                break
            except OSError:
                heard = b""
            if not heard:
                self._drop()
                break
            self._heard += heard
        *lines, self._heard = self._heard.split(b"\n")
        for line in lines:
            message = json.loads(line)
            if "waits" in message:
                self._waits[message["waits"]] = message["reason"]
                continue
            name = message.get("ended") or message["lost"]
            self._waits.pop(name, None)
            number, _, attempt = name.partition("-")
            self._over[name] = _finish(int(number), int(attempt), Exit(**message["exit"]))

    # -- the protocol ------------------------------------------------------------------------------

    def start(self, jobs: list[Job]) -> None:
        """Lay the attempts out in the spool and tell the agent."""
        for job in jobs:
            intent = self._intent(job)
            try:
                write_intent(self.spool / intent.folder_name, intent, job.origin.script)
            except OSError as fault:
                self._waits[intent.folder_name] = fault.strerror or str(fault)
            self._active[intent.folder_name] = job
        if jobs and self._link is None:
            self._connect()
        else:
            for job in jobs:
                self._say({"ensure": f"{job.number}-{job.attempt}"})

    def retry_unwritten(self) -> None:
        """Lay out again what could not be written before."""
        for name in list(self._waits):
            job = self._active.get(name)
            if job is not None and not (self.spool / name / "intent.json").exists():
                del self._waits[name]
                self.start([job])

    def _intent(self, job: Job) -> Intent:
        request, allocation = job.request, job.allocations[0]
        folder = self.spool / f"{job.number}-{job.attempt}"
        directory = start_directory(job)
        base = dict(job.origin.environment)
        path = base.get("PATH", os.environ.get("PATH", os.defpath))
        gpus = sum(len(one.gpus) for one in job.allocations)
        scratch = folder / "scratch"
        if request.stage.keep:
            scratch = self.folder / "scratch" / request.name
        environment = {
            **base,
            "PATH": f"{path}:{self.folder / 'bin'}",
            **dict(request.environment),
            "LQ_STATE": str(self.folder),
            "LQ_JOB": str(job.parent or job.number),
            "LQ_NAME": request.name,
            "LQ_ACCOUNT": request.account,
            "LQ_NODES": str(folder / "nodes"),
            "LQ_NODE_COUNT": str(len(job.allocations)),
            "LQ_RANKS": str(sum(one.ranks for one in job.allocations)),
            "LQ_THREADS": str(request.threads),
            "OMP_NUM_THREADS": str(request.threads),
            "LQ_CORES": str(job.cores_allocated),
            "LQ_MEMORY_MIB": str(allocation.memory_mib),
            "LQ_GPUS": str(gpus),
            "LQ_SCRATCH": str(scratch),
            "LQ_SUBMITTED_FROM": job.origin.directory,
            "LQ_ATTEMPT": str(job.attempt),
            "LQ_ATTEMPT_FOLDER": str(folder),
            **dict(request.parameters),
            **({} if request.task is None else {"LQ_TASK": str(request.task)}),
        }
        output = output_path(job, request.output)
        source = request.input
        if source and not source.startswith("/"):
            source = os.path.join(directory, source)
        return Intent(
            job.number,
            job.attempt,
            request.name,
            directory,
            output,
            output if request.errors == "joined" else output_path(job, request.errors),
            source,
            environment,
            [fill_in(word, dict(request.parameters)) for word in request.arguments],
            list(request.prepare),
            list(request.expect),
            request.summary,
            [self._cores[core] for core in allocation.cores],
            allocation.memory_mib,
            request.walltime_s,
            request.grace_s,
            request.warn_s,
            [(one.node, one.ranks) for one in job.allocations],
            list(request.modules),
            list(request.stage.into),
            list(request.stage.out),
            str(scratch),
            str(self.folder / "spared" / folder.name),
            request.readable_by,
        )

    def stop(self, job: Job, cause: str) -> None:
        """Leave the word in the attempt's folder and wake its supervisor."""
        name = f"{job.number}-{job.attempt}"
        with suppress(OSError):
            write_whole(self.spool / name / "stop", json.dumps({"cause": cause}))
        self._say({"stop": name})

    def reports(self, now_ms: int) -> list[Finish]:
        """What the agent told, in the order of the ends."""
        self._listen()
        return sorted(self._over.values(), key=lambda one: (one.at_ms, one.job))

    def settled(self, job: int, attempt: int) -> None:
        """Forget an attempt; its folder goes when there is time for it."""
        name = f"{job}-{attempt}"
        self._active.pop(name, None)
        self._over.pop(name, None)
        self._old.append(self.spool / name)

    def sweep(self, running: set[str]) -> None:
        """Remove what is left in the spool of attempts that ended long ago."""
        for folder in self.spool.iterdir():
            if folder.is_dir() and folder.name not in running:
                claim = read_claim(folder)
                if claim is None or not claim.alive():
                    shutil.rmtree(folder, ignore_errors=True)

    def live(self, job: Job, now_ms: int) -> tuple[Use, float] | None:
        """What the supervisor last wrote of it."""
        found = read_json(self.spool / f"{job.number}-{job.attempt}" / "live.json")
        if found is None:
            return None
        return Use(found["cpu_ms"], found["peak_mib"], found["read"], found["written"]), found["busy"]

    def samples(self, job: Job, now_ms: int) -> list[tuple[int, float, int]]:
        """What its supervisor measured, thinned out where it has run for long."""
        found = read_json(self.spool / f"{job.number}-{job.attempt}" / "live.json")
        return [(int(at), float(busy), int(mib)) for at, busy, mib in (found or {}).get("samples", ())]

    def output(self, job: Job, path: str, from_byte: int, now_ms: int) -> OutputChunk:
        """A piece of a file of the job's."""
        try:
            with open(path, "rb") as file:
                size = os.fstat(file.fileno()).st_size
                if from_byte < 0:
                    from_byte = max(0, size + from_byte)
                file.seek(from_byte)
                raw = file.read(CHUNK)
        except FileNotFoundError:
            words = "it has not printed anything yet" if job.started_ms is None else f"{path} is not there any more"
            return OutputChunk(path, "", from_byte, 0, words)
        except OSError as fault:
            return OutputChunk(path, "", from_byte, 0, f"{path} cannot be read: {fault.strerror}")
        return OutputChunk(path, raw.decode(errors="replace"), from_byte + len(raw), size)

    def notices(self) -> list[str]:
        """Why nothing, or a certain job, can be started."""
        told = [self._refused] if self._refused else []
        return told + [f"{name.partition('-')[0]} cannot start yet: {why}" for name, why in self._waits.items()]

    def closed(self) -> str:
        """Why this machine's cores cannot be had: another state folder's jobs have them."""
        if self._link is None and (not self._refused or time.monotonic() - self._tried > 1.0):
            self._connect()
        return self._refused

    def busy(self) -> bool:
        """True while attempts run or are on their way."""
        return bool(self._active)

    def blocked(self, job_directory: str, paths: list[str], input_path: str) -> str:
        """Why the job could not start in its folder, write its output or read its input."""
        if not os.path.isdir(job_directory):
            return f"directory {job_directory or '(none)'} is not there; make it, or name another"
        for path in paths:
            if os.path.isdir(path):
                return f"output {path} is a folder; name a file in it"
            fresh = not os.path.exists(path)
            try:
                os.makedirs(os.path.dirname(path), exist_ok=True)
                os.close(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_CLOEXEC, 0o644))
                if fresh:
                    os.unlink(path)
            except OSError as fault:
                return f"output {path} cannot be written: {fault.strerror}; name another place"
        if input_path:
            full = os.path.join(job_directory, input_path)
            if not os.path.isfile(full) or not os.access(full, os.R_OK):
                return f"input {full} is not there or may not be read"
        return ""


def _finish(job: int, attempt: int, ended: Exit) -> Finish:
    use = Use(ended.cpu_ms, ended.memory_peak_mib, ended.read_bytes, ended.written_bytes)
    held = ended.held_ms if ended.cause != "lost" else None
    return Finish(ended.ended_ms, job, attempt, ended.exit, ended.signal, ended.cause, ended.reason, use, held)
