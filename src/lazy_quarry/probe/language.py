"""Checks a script in its own language without running it: syntax by the interpreter, slips by ShellCheck.

Both are programs. They start together and are read later, so that the caller can do something else meanwhile.
"""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
from functools import lru_cache
from typing import Any

from lazy_quarry.core.header.block import unfit
from lazy_quarry.core.header.diagnostic import Diagnostic, Fix, error
from lazy_quarry.core.header.interpreter import interpreter

_READ_BY_THEMSELVES = {"bash", "sh", "dash", "ksh", "zsh"}
_CHECKED = {"bash", "sh", "dash", "ksh"}
_AT_LINE = re.compile(r"(?:line |:)\s*(\d+):\s*(.*)")
_PATIENCE_S = 10


class LanguageCheck:
    """A check of one script, started at once; nothing is started for languages that are not known."""

    def __init__(self, script: str) -> None:
        self.script, self.program = script, interpreter(script)
        self._syntax: subprocess.Popen[bytes] | None = None
        self._slips: subprocess.Popen[bytes] | None = None
        if "\r\n" in script or unfit(script):
            return  # no shell would read it; our own check says so
        if self.program in _READ_BY_THEMSELVES:
            self._syntax = _started(shutil.which(self.program), "-n", script=script)
        if self.program in _CHECKED:
            words = ("--norc", "-f", "json1", "-s", self.program, "-")
            self._slips = _started(_shellcheck(), *words, script=script)

    def findings(self) -> tuple[Diagnostic, ...]:
        """Wait for what was started: faults of syntax, or else slips of the shell."""
        syntax, slips = _ended(self._syntax), _ended(self._slips)
        if re.fullmatch(r"python[0-9.]*", self.program) and not unfit(self.script):
            return _python(self.script)
        if syntax is not None and syntax[0] != 0:
            return (self._fault(syntax[2].decode(errors="replace")),)
        if slips is None:
            return ()
        try:
            comments = json.loads(slips[1])["comments"]
        except (ValueError, KeyError):
            return ()
        return tuple(_told(self.script.split("\n"), comments))

    def _fault(self, told: str) -> Diagnostic:
        """The first fault that the interpreter names a line for."""
        for line in told.splitlines():
            if match := _AT_LINE.search(line):
                number = min(int(match[1]), self.script.count("\n") + 1)
                return error("syntax", f"{self.program} cannot read this: {match[2].strip()}", number)
        last = " ".join(told.strip().splitlines()[-1:])
        return error("syntax", f"{self.program} cannot read this script: {last}", 1)


@lru_cache(maxsize=32)
def findings(script: str) -> tuple[Diagnostic, ...]:
    """Faults of syntax, and slips of the shell; none for languages that are not known."""
    return LanguageCheck(script).findings()


def _started(program: str | None, *words: str, script: str) -> subprocess.Popen[bytes] | None:
    if program is None:
        return None
    source = os.memfd_create("script")  # not a pipe: a long script would block until it is read
    try:
        os.write(source, script.encode())
        os.lseek(source, 0, os.SEEK_SET)
        return subprocess.Popen([program, *words], stdin=source, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    except OSError:
        return None
    finally:
        os.close(source)


def _ended(process: subprocess.Popen[bytes] | None) -> tuple[int, bytes, bytes] | None:
    """Status, output and errors; None for a program that wasn't there or takes too long."""
    if process is None:
        return None
    try:
        out, err = process.communicate(timeout=_PATIENCE_S)
    except subprocess.TimeoutExpired:
        process.kill()
        process.communicate()
        return None
    return process.returncode, out, err


def _shellcheck() -> str | None:
    """ShellCheck beside this Python, where its wheel puts it, else on the PATH."""
    beside = os.path.join(os.path.dirname(sys.executable), "shellcheck")
    return beside if os.path.exists(beside) else shutil.which("shellcheck")


def _told(lines: list[str], comments: list[dict[str, Any]]) -> list[Diagnostic]:
    """ShellCheck's findings that matter, in our words."""
    from lazy_quarry.probe.shellcheck import SLIPS  # a hundred lines that are needed only where there is a finding

    found = []
    for comment in comments:
        known = SLIPS.get(comment["code"])
        if known is not None and comment["line"] <= len(lines):
            severity, words = known
            code, fix = f"shell-{comment['code']}", _fix(lines, comment)
            found.append(Diagnostic(severity, code, words, comment["line"], comment["column"], fix))
    return found


def _fix(lines: list[str], comment: dict[str, Any]) -> Fix | None:
    """ShellCheck's own change, where it stays in one line."""
    changes = (comment.get("fix") or {}).get("replacements", [])
    number = comment["line"]
    if not changes or any(one["line"] != number or one["endLine"] != number for one in changes):
        return None
    line = lines[number - 1]
    if "\t" in line:
        return None  # its columns count a tab as several
    for one in sorted(changes, key=lambda one: -int(one["column"])):
        line = line[: one["column"] - 1] + one["replacement"] + line[one["endColumn"] - 1 :]
    label = "put it in double quotes" if comment["code"] in (2046, 2086) else f"write {line.strip()}"
    return Fix(label[:60], number, number, (line,))


def _python(script: str) -> tuple[Diagnostic, ...]:
    try:
        compile(script, "script", "exec", dont_inherit=True)
    except SyntaxError as fault:
        return (error("syntax", f"not Python: {fault.msg}", fault.lineno or 1, fault.offset or 1),)
    except (ValueError, RecursionError, MemoryError) as fault:  # the last for what is nested too deep
        return (error("syntax", f"not Python: {str(fault) or 'it is nested too deep'}", 1),)
    return ()
