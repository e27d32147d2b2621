"""Commands in processes of their own that need not load the program: forked from one that has.

What a command is given and what it gives are those of ``python -m lazy_quarry``: arguments, folder, environment, streams, its exit
status. A third of most commands is loading modules, which a run of the tests would do thousands of times.
"""

import json
import os
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Mapping, Sequence
from contextlib import suppress
from importlib import import_module
from pathlib import Path

_COLD = ("LD_PRELOAD", "TZ")
_COLD_PREFIXES = ("PYTHON", "LC_", "LANG")
"""Variables that are read when a process begins: a command with other ones is begun anew."""
_MOST = 1 << 20


def _cold(environment: Mapping[str, str]) -> dict[str, str]:
    return {name: value for name, value in environment.items() if name in _COLD or name.startswith(_COLD_PREFIXES)}


def _serve(control: socket.socket) -> None:
    """Fork a command for each message, and tell how it ended, until the other end goes away."""
    for path in sorted((Path(__file__).parents[1] / "src" / "lazy_quarry" / "cli" / "commands").glob("*.py")):
        import_module(f"lazy_quarry.cli.commands.{path.stem}")
    for name in ("link.client", "wording.json_form", "wording.record", "cli.output.job_text", "link.in_process"):
        import_module(f"lazy_quarry.{name}")
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
        waiting[pid] = fds[3]
        os.write(fds[3], b"%d\n" % pid)
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
        sys.stdin = open(0, encoding="utf-8", closefd=False)
        sys.stdout = open(1, "w", encoding="utf-8", closefd=False)
        sys.stderr = open(2, "w", buffering=1, encoding="utf-8", errors="backslashreplace", closefd=False)
        from lazy_quarry.entry import console

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


class Warm:
    """The process that commands are forked from; made when it is first wanted, and gone with this one."""

    def __init__(self) -> None:
        self._control: socket.socket | None = None
        self._lock = threading.Lock()

    def _connected(self) -> socket.socket:
        if self._control is None:
            here, there = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
            line = "import socket, sys; from tests.warm import _serve; _serve(socket.socket(fileno=int(sys.argv[1])))"
            subprocess.Popen(
                [sys.executable, "-c", line, str(there.fileno())],
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
