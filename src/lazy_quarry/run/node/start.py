"""Starting an attempt's script: its files, its folder, its cores, and the command line that it is started with."""

from __future__ import annotations

import errno
import grp
import os
import resource
import shlex
import signal
import time
from contextlib import suppress
from pathlib import Path

from lazy_quarry.files import given, ours
from lazy_quarry.run.node import groups
from lazy_quarry.run.node.attempt import Intent
from lazy_quarry.run.node.module_loading import loading

_SHELLS = ("sh", "bash", "dash", "ksh", "zsh")


class Unstartable(Exception):
    """The job could not be started; the message says why."""


class Start:
    """Opens what the job reads and writes, then starts it; only in the supervisor's own process."""

    def __init__(self, folder: Path, intent: Intent) -> None:
        self.folder, self.intent = folder, intent
        self.source = self.output = self.errors = -1

    def open_files(self) -> None:
        """Open input, output and errors. Raises :class:`Unstartable`."""
        paths = self.intent.paths
        os.umask(0o027 if self.intent.results.group else 0o077)
        self.output = self._open_output(paths.output)
        self.errors = self.output if paths.errors == paths.output else self._open_output(paths.errors)
        try:
            self.source = given.opened(paths.input or "/dev/null")
        except OSError as fault:
            raise Unstartable(f"its input {paths.input} cannot be read: {fault.strerror}") from None

    def _open_output(self, path: str) -> int:
        flags = os.O_WRONLY | os.O_CREAT | os.O_APPEND
        if self.intent.attempt == 1:
            flags |= os.O_TRUNC
        try:
            os.makedirs(os.path.dirname(path), exist_ok=True)
            fd = given.opened(path, flags)
        except OSError as fault:
            raise Unstartable(f"its output {path} cannot be written: {fault.strerror}") from None
        give_to_group(path, self.intent.results.group)
        return fd

    def spawn(self, seconds_left: float) -> int:
        """Start the script in a session of its own; returns its number. Raises :class:`Unstartable`."""
        command = self.command_file()
        environment = {
            **self.intent.command.environment,
            "LQ_DEADLINE": str(int(time.time() + seconds_left)),
        }
        self.take_on()
        limits = self.intent.limits
        try:
            with groups.limits(self.folder.name, limits.memory_mib, limits.cores):
                started = os.posix_spawn(
                    command,
                    [command, *self.intent.command.arguments],
                    environment,
                    file_actions=[
                        (os.POSIX_SPAWN_DUP2, self.source, 0),
                        (os.POSIX_SPAWN_DUP2, self.output, 1),
                        (os.POSIX_SPAWN_DUP2, self.errors, 2),
                    ],
                    setsid=True,
                    setsigmask=[],
                    setsigdef=[signal.SIGPIPE, signal.SIGXFSZ, signal.SIGINT, signal.SIGHUP, signal.SIGTERM],
                )
        except OSError as fault:
            raise Unstartable(f"it could not be started: {_start_words(fault)}") from None
        except ValueError as fault:  # a zero byte in an argument or a variable
            raise Unstartable(f"it could not be started: {fault}") from None
        with suppress(OSError):  # it runs; a full disk must not lose it
            ours.write(f"{self.folder}/session", str(started))
        for fd in {self.source, self.output, self.errors}:
            os.close(fd)
        os.sched_setaffinity(0, limits.cores)  # leaving a group of cores lifts it
        os.chdir("/")  # so that the job's folder can be removed while it runs
        return started

    def take_on(self) -> None:
        """Set what the job inherits: its directory, its cores, no core files."""
        directory = self.intent.paths.directory
        try:
            os.chdir(directory)
        except OSError:
            raise Unstartable(f"the folder it starts in, {directory}, is not there") from None
        os.sched_setaffinity(0, self.intent.limits.cores)
        resource.setrlimit(resource.RLIMIT_CORE, (0, resource.getrlimit(resource.RLIMIT_CORE)[1]))

    def command_file(self) -> str:
        """The file that is started: the script after what prepares it, in the modules that it names."""
        command = self._prepared()
        if not self.intent.command.modules:
            return command
        return self._executable("modules", loading(self.intent.command.modules, command))

    def _prepared(self) -> str:
        """The script as it was submitted, through its own interpreter line, after the ``prepare`` commands."""
        script, prepare = f"{self.folder}/script", self.intent.command.prepare
        if not prepare:
            return script
        line = ours.read_text(script).split("\n", 1)[0].strip()
        words = line.removeprefix("#!").split()
        shell = os.path.basename(words[1] if words[:1] == ["/usr/bin/env"] and len(words) > 1 else (words or [""])[0])
        quoted = shlex.quote(script)
        if shell in _SHELLS:
            body = [line, *prepare, f". {quoted}"]
        else:
            body = ["#!/bin/sh", *prepare, f'exec {quoted} "$@"']
        return self._executable("start", "\n".join(body) + "\n")

    def _executable(self, name: str, text: str) -> str:
        path = f"{self.folder}/{name}"
        ours.write(path, text, 0o700)
        return path


def give_to_group(path: str, group: str) -> None:
    """Let the group read a file that the request names, if it names one."""
    if group:
        with suppress(OSError, KeyError):
            os.chown(path, -1, grp.getgrnam(group).gr_gid)


def _start_words(fault: OSError) -> str:
    if isinstance(fault, FileNotFoundError):
        return "the interpreter of its first line is not there"
    if fault.errno == errno.ENOEXEC:
        return "it has no interpreter line that this machine can follow"
    return fault.strerror or str(fault)
