"""What the script's own language says of its syntax, without running it."""

import re
import shutil
import subprocess

from lazy_quarry.core.header.diagnostic import Diagnostic, error

_SHELLS = {"bash", "sh", "dash", "ksh", "zsh"}
_AT_LINE = re.compile(r"(?:line |:)\s*(\d+):\s*(.*)")


def interpreter(script: str) -> str:
    """The name of the program in the interpreter line, or empty."""
    first = script.split("\n", 1)[0]
    if not first.startswith("#!"):
        return ""
    words = first[2:].split()
    if words and words[0].endswith("/env"):
        words = [word for word in words[1:] if not word.startswith("-")]
    return words[0].rsplit("/", 1)[-1] if words else ""


def syntax(script: str) -> tuple[Diagnostic, ...]:
    """Faults of syntax that the interpreter itself finds; none for languages that are not known."""
    program = interpreter(script)
    if program in _SHELLS and "\r\n" not in script:
        return _shell(program, script)
    if re.fullmatch(r"python[0-9.]*", program):
        return _python(script)
    return ()


def _shell(program: str, script: str) -> tuple[Diagnostic, ...]:
    found = shutil.which(program)
    if found is None:
        return ()
    try:
        run = subprocess.run([found, "-n"], input=script.encode(), capture_output=True, timeout=10)
    except (OSError, subprocess.TimeoutExpired):
        return ()
    if run.returncode == 0:
        return ()
    told = run.stderr.decode(errors="replace")
    for line in told.splitlines():
        if match := _AT_LINE.search(line):
            number = min(int(match[1]), script.count("\n") + 1)
            return (error("syntax", f"{program} cannot read this: {match[2].strip()}", number),)
    return (error("syntax", f"{program} cannot read this script: {told.strip().splitlines()[-1:]}", 1),)


def _python(script: str) -> tuple[Diagnostic, ...]:
    try:
        compile(script, "script", "exec", dont_inherit=True)
    except SyntaxError as fault:
        return (error("syntax", f"not Python: {fault.msg}", fault.lineno or 1, fault.offset or 1),)
    except ValueError as fault:
        return (error("syntax", f"not Python: {fault}", 1),)
    return ()
