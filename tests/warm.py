"""Commands, and the engines that they start, in processes of their own that need not load the program: forked from one that has.

What a command is given and what it gives are those of ``python -m lazy_quarry``: arguments, folder, environment, streams, its exit
status. A third of most commands is loading modules, and more of an engine's start, which a run of the tests would do thousands of
times. An engine has the command line that it would have, a session of its own, and the command for its parent, as ever.
"""

import ctypes
import gc
import json
import os
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from importlib import import_module
from pathlib import Path

_COLD = ("LD_PRELOAD", "TZ")
_COLD_PREFIXES = ("PYTHON", "LC_", "LANG")
"""Variables that are read when a process begins: a command with other ones is begun anew."""
_MOST = 1 << 20
_SERVER = "lazy_quarry.link.server"
_ROOM = "-" * 1000
"""A word behind those of the process that all others come from: room for another command line."""


def _cold(environment: Mapping[str, str]) -> dict[str, str]:
    return {name: value for name, value in environment.items() if name in _COLD or name.startswith(_COLD_PREFIXES)}


def _serve(control: socket.socket) -> None:
    """Fork a command for each message, and tell how it ended, until the other end goes away."""
    for path in sorted((Path(__file__).parents[1] / "src" / "lazy_quarry" / "cli" / "commands").glob("*.py")):
        import_module(f"lazy_quarry.cli.commands.{path.stem}")
    for name in (
        "link.server",
        "link.client",
        "wording.json_form",
        "wording.record",
        "cli.output.job_text",
        "link.in_process",
    ):
        import_module(f"lazy_quarry.{name}")
    gc.collect()
    gc.freeze()
    woken, wake = os.pipe()
    os.set_blocking(wake, False)
    signal.signal(signal.SIGCHLD, lambda number, frame: None)
    signal.set_wakeup_fd(wake)
    waiting: dict[int, int] = {}
    threading.Thread(target=_reap, args=(woken, waiting), daemon=True).start()
    while True:
        raw, fds, _, _ = socket.recv_fds(control, _MOST, 4)
        if not raw:
            os._exit(0)
        pid = os.fork()
        if pid == 0:
            _be(json.loads(raw), fds, control)
        os.write(fds[3], b"%d\n" % pid)
        waiting[pid] = fds[3]  # from here on the other thread may close it, as soon as the command has ended
        for fd in fds[:3]:
            os.close(fd)
        os.write(wake, b"x")


def _reap(woken: int, waiting: dict[int, int]) -> None:
    while os.read(woken, 4096):
        for pid in list(waiting):
            done, status = os.waitpid(pid, os.WNOHANG)
            if done:
                fd = waiting.pop(pid)
                with suppress(OSError):
                    os.write(fd, b"%d\n" % os.waitstatus_to_exitcode(status))
                os.close(fd)


def _be(told: dict, fds: list[int], control: socket.socket) -> None:
    """Be the command; never returns."""
    code = 1
    try:
        signal.set_wakeup_fd(-1)
        signal.signal(signal.SIGCHLD, signal.SIG_DFL)
        for number, fd in enumerate(fds[:3]):
            os.dup2(fd, number)
        control.close()
        for fd in fds:
            os.close(fd)
        os.closerange(3, 64)
        os.chdir(told["folder"])
        os.environ.clear()
        os.environ.update(told["environment"])
        sys.argv = ["lq", *told["words"]]
        _open_streams()
        from lazy_quarry.entry import console

        subprocess.Popen = _started
        console()
    except SystemExit as fault:
        code = fault.code if isinstance(fault.code, int) else 1
        with suppress(OSError):
            sys.stdout.flush()
    except BaseException:
        import traceback

        traceback.print_exc()
    finally:
        os._exit(code)


def _open_streams() -> None:
    sys.stdin = open(0, encoding="utf-8", closefd=False)
    sys.stdout = open(1, "w", encoding="utf-8", closefd=False)
    sys.stderr = open(2, "w", buffering=1, encoding="utf-8", errors="backslashreplace", closefd=False)


_POPEN = subprocess.Popen


def _started(words: Sequence[str], **named):
    """Start a process: an engine as a fork of this one, all others as ever."""
    return _Engine(words, **named) if list(words[1:3]) == ["-m", _SERVER] else _POPEN(words, **named)


class _Engine:
    """An engine, as whoever starts one knows it."""

    def __init__(self, words: Sequence[str], stdout: int, cwd: str, **_) -> None:
        self.returncode: int | None = None
        self.pid = os.fork()
        if self.pid == 0:
            self._be(words, stdout, cwd)

    def poll(self) -> int | None:
        """How it ended; None while it runs."""
        if self.returncode is None:
            done, status = os.waitpid(self.pid, os.WNOHANG)
            self.returncode = os.waitstatus_to_exitcode(status) if done else None
        return self.returncode

    def _be(self, words: Sequence[str], log: int, folder: str) -> None:
        code = 1
        try:
            subprocess.Popen = _POPEN
            os.setsid()
            with open(os.devnull, "rb") as nothing:
                os.dup2(nothing.fileno(), 0)
            for number in (1, 2):
                os.dup2(log, number)
            os.closerange(3, 256)
            os.chdir(folder)
            sys.argv = list(words[2:])
            _open_streams()
            _call(words)
            import_module(_SERVER).main()
            code = 0
        except SystemExit as fault:
            if isinstance(fault.code, str):
                print(fault.code, file=sys.stderr)
            code = fault.code if isinstance(fault.code, int) else int(bool(fault.code))
        except BaseException:
            import traceback

            traceback.print_exc()
        finally:
            with suppress(OSError):
                sys.stdout.flush()
            os._exit(code)


def _call(words: Sequence[str]) -> None:
    """Write another command line over this process's own: proc(5), arg_start and arg_end."""
    begin, end = map(int, Path("/proc/self/stat").read_text().rpartition(")")[2].split()[45:47])
    line = b"\0".join(map(os.fsencode, words)) + b"\0"
    assert len(line) < end - begin, words
    ctypes.memmove(begin, line.ljust(end - begin, b"\0"), end - begin)


class Warm:
    """The process that commands are forked from; made when it is first wanted, and gone with this one.

    ``words`` gives the words of a program that runs another one somewhere else.
    """

    def __init__(self, words: Callable[[list[str]], list[str]] = list) -> None:
        self._words = words
        self._control: socket.socket | None = None
        self._lock = threading.Lock()

    def _connected(self) -> socket.socket:
        if self._control is None:
            here, there = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
            line = "import socket, sys; from tests.warm import _serve; _serve(socket.socket(fileno=int(sys.argv[1])))"
            subprocess.Popen(
                self._words([sys.executable, "-c", line, str(there.fileno()), _ROOM]),
                pass_fds=[there.fileno()],
                cwd=Path(__file__).parents[1],
                stdin=subprocess.DEVNULL,
            )
            there.close()
            self._control = here
        return self._control

    def run(
        self, words: Sequence[str], folder: Path, environment: Mapping[str, str], text: str | None, patience_s: float
    ) -> subprocess.CompletedProcess[str]:
        """Run a command to its end, as :func:`subprocess.run` does."""
        if _cold(environment) != _cold(os.environ):
            return subprocess.run(
                [sys.executable, "-m", "lazy_quarry", *words],
                capture_output=True, text=True, cwd=folder, env=dict(environment), input=text, timeout=patience_s,
            )  # fmt: skip
        told = json.dumps({"words": list(words), "folder": str(folder), "environment": dict(environment)}).encode()
        ends = [os.pipe() for _ in range(4)]
        (given, give), (out, outs), (err, errs), (ended, end) = ends
        with self._lock:
            socket.send_fds(self._connected(), [told], [given, outs, errs, end])
        for fd in (given, outs, errs, end):
            os.close(fd)
        found: dict[int, bytes] = {}
        readers = [threading.Thread(target=lambda fd=fd: found.update({fd: _all(fd)})) for fd in (out, err, ended)]
        for each in readers:
            each.start()
        with suppress(BrokenPipeError), open(give, "wb") as stream:
            stream.write((text or "").encode())
        until = time.monotonic() + patience_s
        for each in readers:
            each.join(max(0.0, until - time.monotonic()))
        if any(each.is_alive() for each in readers):
            raise subprocess.TimeoutExpired(list(words), patience_s)
        code = int(found[ended].split()[1])
        return subprocess.CompletedProcess(["lq", *words], code, found[out].decode(), found[err].decode())


def _all(fd: int) -> bytes:
    with open(fd, "rb") as stream:
        return stream.read()


WARM = Warm()
