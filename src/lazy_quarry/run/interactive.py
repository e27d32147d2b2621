"""A shell on a terminal of its own, run as a job. The supervisor starts it for ``lazy-quarry shell``.

The person's terminal reaches it over a Unix socket in the attempt's folder. To the shell go frames: a
letter, four bytes of length, and what was typed (``d``) or the window's size (``w``); back comes what the
shell prints, as it is. What it prints is also the job's output. The shell ends with its terminal, with
the job, or by itself.
"""

import fcntl
import json
import os
import pty
import select
import signal
import socket
import struct
import sys
import termios
from contextlib import suppress
from pathlib import Path
from typing import Any

from lazy_quarry.core.units import format_duration
from lazy_quarry.files import ours
from lazy_quarry.run.node.sockets import listen

SOCKET = "shell.sock"
WORKED = "shell-commands.json"
_PATIENCE_S = 120.0
"""Seconds that it waits for the person's terminal."""
_RC = """[ -f ~/.bashrc ] && . ~/.bashrc
__lq_first=
__lq_note() {
  local status=$? line
  line=$(HISTTIMEFORMAT='' builtin history 1)
  [ -n "$__lq_first" ] && [ "$line" != "$__lq_last" ] && printf '%s\\t%s\\0' "$status" "$line" >> "$LQ_RECORD"
  __lq_first=1 __lq_last=$line
}
PROMPT_COMMAND="__lq_note${PROMPT_COMMAND:+;$PROMPT_COMMAND}"
"""


def frame(kind: bytes, payload: bytes) -> bytes:
    """One message to the shell."""
    return kind + struct.pack(">I", len(payload)) + payload


def unframe(buffer: bytearray) -> list[tuple[bytes, bytes]]:
    """The whole messages at the beginning of a buffer, taken out of it."""
    found = []
    while len(buffer) >= 5:
        size = struct.unpack(">I", bytes(buffer[1:5]))[0]
        if len(buffer) < 5 + size:
            break
        found.append((bytes(buffer[:1]), bytes(buffer[5 : 5 + size])))
        del buffer[: 5 + size]
    return found


def worked(record: bytes) -> list[str]:
    """The commands of a shell that succeeded, in order, from its record of (status, numbered line)."""
    found = []
    for entry in record.decode(errors="replace").split("\0"):
        status, tab, line = entry.partition("\t")
        command = line.strip().partition(" ")[2].strip() if tab else ""
        if status == "0" and command and command.split()[0] not in ("exit", "logout", "history"):
            found.append(command)
    return found


class ShellHost:
    """The shell, its terminal, and the link to the person's."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.record = folder / "shell-record"
        self.listener = listen(folder, SOCKET)
        self.link: socket.socket | None = None
        self.heard = bytearray()
        self.notes: list[str] = []
        self.over = False
        self.woken, self.wake = os.pipe()
        os.set_blocking(self.wake, False)
        signal.set_wakeup_fd(self.wake)
        signal.signal(signal.SIGUSR1, lambda *_: self.notes.append(self._left()))
        signal.signal(signal.SIGTERM, self._end)

    def _left(self) -> str:
        import time

        left = int(os.environ.get("LQ_DEADLINE", "0")) - int(time.time())
        return f"{format_duration(max(0, left))} left before this shell ends"

    def _end(self, *_: object) -> None:
        self.notes.append("this shell ends now")
        self.over = True

    def run(self) -> int:
        """Serve until the shell ends; returns its exit status."""
        ready, _, _ = select.select([self.listener], [], [], _PATIENCE_S)
        if not ready:
            print("nobody came to this shell", file=sys.stderr)
            return 1
        self.link, _ = self.listener.accept()
        pid, terminal = pty.fork()
        if pid == 0:
            self._become_shell()
        status = self._relay(terminal, pid)
        self._keep_record()
        return os.waitstatus_to_exitcode(status) if status is not None else 1

    def _become_shell(self) -> None:
        shell = os.environ.get("SHELL") or "/bin/bash"
        if not os.access(shell, os.X_OK):
            shell = "/bin/sh"
        words = [os.path.basename(shell), "-i"]
        if os.path.basename(shell) == "bash":
            rc = self.folder / "shell-rc"
            ours.write(rc, _RC)
            words = ["bash", "--rcfile", str(rc), "-i"]
        os.environ["LQ_RECORD"] = str(self.record)
        os.environ.setdefault("TERM", "xterm-256color")
        os.execv(shell, words)

    def _relay(self, terminal: int, pid: int) -> int | None:
        assert self.link is not None
        while True:
            wanted: list[Any] = [terminal, self.woken, *([self.link] if self.link else [])]
            ready, _, _ = select.select(wanted, [], [], 0.5)
            if self.woken in ready:
                os.read(self.woken, 512)
            for note in self.notes:
                self._print(f"\r\n\x1b[1m[lazy quarry: {note}]\x1b[0m\r\n".encode())
            self.notes.clear()
            if self.link in ready:
                self._hear(terminal)
            if terminal in ready:
                try:
                    said = os.read(terminal, 65536)
                except OSError:
                    said = b""
                if not said:
                    return os.waitpid(pid, 0)[1]
                self._print(said)
            if self.over or self.link is None:
                with suppress(ProcessLookupError):
                    os.kill(pid, signal.SIGHUP)
                os.close(terminal)
                return os.waitpid(pid, 0)[1] if not self.over else None

    def _hear(self, terminal: int) -> None:
        assert self.link is not None
        try:
            heard = self.link.recv(65536)
        except OSError:
            heard = b""
        if not heard:
            self.link.close()
            self.link = None
            return
        self.heard += heard
        for kind, payload in unframe(self.heard):
            if kind == b"d":
                os.write(terminal, payload)
            elif kind == b"w":
                rows, columns = struct.unpack(">HH", payload)
                fcntl.ioctl(terminal, termios.TIOCSWINSZ, struct.pack("HHHH", rows, columns, 0, 0))

    def _print(self, said: bytes) -> None:
        with suppress(OSError):
            os.write(1, said)
        if self.link is not None:
            try:
                self.link.sendall(said)
            except OSError:
                self.link.close()
                self.link = None

    def _keep_record(self) -> None:
        """Save the commands that worked, so that a draft can begin from them."""
        with suppress(OSError):
            commands = worked(ours.read(self.record))
            if commands:
                ours.write_whole(Path(os.environ["LQ_STATE"]) / WORKED, json.dumps(commands), durable=False)


def main() -> None:
    """``python -m lazy_quarry.run.interactive``, as a job's script runs it."""
    sys.exit(ShellHost(Path(os.environ["LQ_ATTEMPT_FOLDER"])).run())


if __name__ == "__main__":
    main()
