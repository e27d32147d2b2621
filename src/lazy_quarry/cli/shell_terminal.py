"""The person's side of an interactive shell: their terminal, used by a job until it ends."""

import fcntl
import os
import select
import shlex
import signal
import socket
import struct
import sys
import termios
import time
import tty
from collections.abc import Callable
from pathlib import Path

from lazy_quarry.cli.options import own_zone
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.units import clock_time, format_duration, plural
from lazy_quarry.errors import QuarryError
from lazy_quarry.link.site_client import SiteClient
from lazy_quarry.run.interactive import SOCKET, frame
from lazy_quarry.run.node.attempt import own_folder
from lazy_quarry.run.node.sockets import dial
from lazy_quarry.views.job_view import JobView
from lazy_quarry.wording.sentences import verdict


def shell_submission(cores: int, walltime: str, memory: str, warn: str, overrides: tuple[str, ...]) -> Submission:
    """The job that is a shell."""
    lines = [
        "#!/bin/sh",
        "# /// job",
        '# name     = "shell"',
        f"# threads  = {cores}",
        f'# walltime = "{walltime}"',
        f'# memory   = "{memory}"',
        '# grace    = "5s"',
        *([f'# warn     = "{warn}"'] if warn else []),
        '# output   = "/dev/null"',
        "# environment = { inherit = true }",
        "# ///",
        f"exec {shlex.quote(sys.executable)} -m lazy_quarry.run.interactive",
        "",
    ]
    environment = tuple((name, value) for name, value in os.environ.items() if not name.startswith("LQ_"))
    return Submission("\n".join(lines), "", os.getcwd(), overrides, (), environment)


def open_shell(client: SiteClient, submission: Submission, state: Path, tell: Callable[[str], None]) -> int:
    """Submit a shell, wait for it, and hand the terminal over until it ends; the exit status for the command line."""
    if not sys.stdin.isatty():
        raise QuarryError("a shell needs a terminal; submit runs scripts without one")
    receipt = client.submit(submission)
    if receipt.job is None:
        worst = next(one for one in receipt.diagnostics if one.severity == "error")
        tell(f"no shell: {worst.message}")
        return 1
    number = receipt.job
    try:
        view = _started(client, number, tell)
    except KeyboardInterrupt:
        client.cancel([number])
        tell(f"{number} cancelled")
        return 130
    if view.phase.final:
        tell(f"{number}: {verdict(view)}")
        return 1
    link = _reach(client, number, _attempt_folder(state, number, view.attempt))
    if link is None:
        tell(f"{number}: {verdict(client.job(number))}")
        return 1
    tell(f"job {number} on {', '.join(view.nodes)}: {plural(view.cores, 'core')} until {_until(view)}; exit ends it")
    _relay(link)
    ended = _ended(client, number)
    tell(f"{number}: {verdict(ended)}; {ended.charge_core_ms / 3_600_000:.3f} core-hours charged")
    return 0


def _until(view: JobView) -> str:
    zone = own_zone()
    now = round(time.time() * 1000)
    return clock_time((view.started_ms or now) + view.walltime_s * 1000, now, zone)


def _started(client: SiteClient, number: int, tell: Callable[[str], None]) -> JobView:
    told = ""
    version = -1
    while True:
        view = client.job(number)
        if view.phase == "running" or view.phase.final:
            return view
        if view.why and view.why != told:
            told = view.why
            tell(f"{number}: {view.why} (ctrl+c takes it back)")
        version = client.changes(version, 1.0)


def _attempt_folder(state: Path, number: int, attempt: int) -> Path:
    """The folder of an attempt: the newest of its numbers, should another journal have left one."""
    found = list((state / "spool").glob(f"{number}-{attempt}-*"))
    return max(found, key=lambda folder: folder.stat().st_mtime, default=state / "spool" / f"{number}-{attempt}")


def _reach(client: SiteClient, number: int, folder: Path) -> socket.socket | None:
    """The shell's socket, as soon as the shell has made it; None when it ended before that."""
    while True:
        link = dial(own_folder(folder), SOCKET)
        if link is not None:
            return link
        if client.job(number).phase.final:
            return None
        time.sleep(0.05)


def _ended(client: SiteClient, number: int) -> JobView:
    version = -1
    until = time.monotonic() + 30
    while True:
        view = client.job(number)
        if view.phase.final or time.monotonic() > until:
            return view
        version = client.changes(version, 1.0)


def _relay(link: socket.socket) -> None:
    """Pass what is typed to the shell, and what it prints to the terminal, until it ends."""
    terminal = sys.stdin.fileno()
    before = termios.tcgetattr(terminal)

    def tell_size(*_: object) -> None:
        rows, columns, _, _ = struct.unpack("HHHH", fcntl.ioctl(terminal, termios.TIOCGWINSZ, b"\0" * 8))
        link.sendall(frame(b"w", struct.pack(">HH", rows, columns)))

    old = signal.signal(signal.SIGWINCH, tell_size)
    try:
        tty.setraw(terminal, termios.TCSADRAIN)  # what was typed ahead stays
        tell_size()
        while True:
            ready, _, _ = select.select([terminal, link], [], [])
            if link in ready:
                said = link.recv(65536)
                if not said:
                    return
                os.write(sys.stdout.fileno(), said)
            if terminal in ready:
                typed = os.read(terminal, 65536)
                if not typed:
                    return
                link.sendall(frame(b"d", typed))
    except OSError:
        return
    finally:
        termios.tcsetattr(terminal, termios.TCSADRAIN, before)
        signal.signal(signal.SIGWINCH, old)
        link.close()


def warning_before(seconds: int) -> str:
    """Seconds before its end at which a shell is warned: two minutes, or a fifth of a short one."""
    return format_duration(min(120, seconds // 5)) if seconds >= 10 else ""
