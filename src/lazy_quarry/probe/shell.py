"""What the script's own language says of it, without running it: the interpreter on syntax, ShellCheck on slips."""

import json
import re
import shutil
import subprocess
import sys
from functools import lru_cache
from pathlib import Path
from typing import Any

from lazy_quarry.core.header.diagnostic import Diagnostic, Fix, Severity, error
from lazy_quarry.core.header.script_body import interpreter

_READ_BY_THEMSELVES = {"bash", "sh", "dash", "ksh", "zsh"}
_CHECKED = {"bash", "sh", "dash", "ksh"}
_AT_LINE = re.compile(r"(?:line |:)\s*(\d+):\s*(.*)")

W, H = Severity.WARNING, Severity.HINT
SLIPS: dict[int, tuple[Severity, str]] = {
    2006: (H, "`…` is hard to nest and to quote; $(…) does the same"),
    2010: (H, "the output of ls is not made for grep; a pattern such as *.nc finds files"),
    2012: (H, "the output of ls breaks on odd names; use find or a pattern"),
    2015: (H, "A && B || C runs C also when B fails; if … then … else says what is meant"),
    2016: (H, "nothing is filled in between single quotes; use double quotes if $… should be"),
    2044: (W, "a for loop over find breaks on names with spaces; use find -exec or a pattern"),
    2045: (W, "a for loop over ls breaks on names with spaces; write the pattern alone: for f in *.nc"),
    2046: (H, "what $(…) gives is split at spaces and patterns in it are filled in; put it in double quotes"),
    2048: (W, '$* loses the borders between arguments; "$@" keeps them'),
    2050: (W, "this compares two fixed words, so it always comes out the same; is a $ missing?"),
    2053: (H, "the right side of = in [[ ]] is a pattern unless it is quoted"),
    2054: (W, "elements of an array are parted by spaces, not by commas"),
    2055: (W, "this is always true: a value always differs from one of two"),
    2061: (W, "the pattern is filled in before find sees it; put it in quotes"),
    2064: (W, "this trap is filled in now, not when it fires; use single quotes"),
    2066: (W, "the loop runs once, since all of this is one word in quotes"),
    2068: (W, '$@ without quotes is split at spaces; "$@" keeps the arguments'),
    2069: (W, "2>&1 must come after the file: > file 2>&1 sends both there"),
    2070: (W, "-n is always true without quotes"),
    2071: (W, "> and < compare as words; -gt and -lt compare numbers"),
    2072: (W, "the shell compares whole numbers only; use bc or awk"),
    2074: (W, "=~ needs [[ ]]"),
    2076: (W, "a quoted right side of =~ is compared as it is, not as a pattern"),
    2077: (W, "spaces are needed around the operator"),
    2078: (W, "this is always true; is a $ missing?"),
    2086: (H, "split at spaces, and patterns in it are filled in; double quotes keep it whole"),
    2088: (W, "~ is not filled in between quotes; use $HOME"),
    2089: (W, "quotes inside a variable are taken as they are; use an array"),
    2090: (W, "quotes in this variable will be taken as they are; use an array"),
    2093: (W, "nothing after exec is ever run"),
    2094: (W, "the same file is read and written; it will be emptied first"),
    2096: (W, "the interpreter line takes one option at most on most machines"),
    2097: (W, "this assignment is seen only by the command it stands before, and comes too late for its arguments"),
    2098: (W, "the arguments are filled in before this assignment takes place"),
    2103: (H, "cd back can fail; do it in a subshell: ( cd … && … )"),
    2104: (W, "break and continue in a function don't reach the loop outside; use return"),
    2113: (H, "function f() is not for every shell; write f() { … }"),
    2114: (W, "this would remove a folder of the system"),
    2115: (W, 'if the variable is empty this removes from /; write "${name:?}/…"'),
    2124: (W, "an array as one word; use an array or * to join it"),
    2125: (W, "patterns are not filled in when assigned; use an array"),
    2128: (W, "an array without an index gives its first element only"),
    2140: (W, "the quotes end in the middle of the word; escape the inner ones"),
    2143: (H, "grep -q says it without collecting the output"),
    2144: (W, "-e takes one file; a pattern that meets several breaks it"),
    2145: (W, "text and $@ mix here; use $* or part them"),
    2148: (W, "there is no interpreter line"),
    2152: (W, "only 0 to 255 can be returned"),
    2155: (H, "export and $(…) in one hide that the command failed; do them one after another"),
    2157: (W, "-n of fixed text is always true"),
    2158: (W, "[ false ] is true; leave the brackets out"),
    2159: (W, "[ 0 ] is true; leave the brackets out"),
    2160: (H, "[ true ] is a word that is there; leave the brackets out"),
    2161: (W, "[ 1 ] is true whatever happens"),
    2162: (H, "read without -r takes backslashes away"),
    2163: (W, "this exports what the variable names, not the variable; leave the $ out"),
    2164: (W, "if cd fails, all that follows runs in the wrong folder"),
    2166: (H, "-a and -o are not certain; use [ … ] && [ … ]"),
    2168: (W, "local works in functions only"),
    2170: (W, "this compares numbers, and one side is text"),
    2172: (H, "trapping by number differs between machines; use the signal's name"),
    2173: (W, "this signal cannot be trapped"),
    2174: (H, "-m with -p sets the mode of the last folder only"),
    2181: (H, "if COMMAND says it without $?"),
    2183: (W, "the format wants another number of values"),
    2184: (W, "the brackets are taken as a pattern; quote them for unset"),
    2188: (W, "this empties the file and nothing else"),
    2189: (W, "a pipe after a redirection gets nothing"),
    2190: (W, "elements of an associative array need a key: [key]=value"),
    2193: (W, "these can never be equal; is a $ missing, or a space too many?"),
    2194: (W, "this word is fixed; is a $ missing?"),
    2195: (W, "this pattern can never be met"),
    2206: (H, "the words are split at spaces; use mapfile or quotes"),
    2207: (H, "the output is split at spaces; use mapfile -t"),
    2209: (W, "this assigns the word itself; $(…) gives what the command prints"),
    2211: (W, "this is a pattern where a command should stand"),
    2213: (W, "getopts knows this option, and no case handles it"),
    2215: (W, "this option stands where a command should; did the line above lose its backslash?"),
    2216: (W, "this command doesn't read what is piped to it"),
    2217: (W, "this command doesn't read its input"),
    2218: (W, "the function is defined further down"),
    2221: (W, "this pattern hides a later one"),
    2222: (W, "an earlier pattern takes all that this one would"),
    2224: (W, "mv has no destination"),
    2225: (W, "cp has no destination"),
    2226: (W, "ln has no destination"),
    2227: (W, "a redirection in find goes to find itself"),
    2231: (H, "quote all but the pattern in this loop"),
    2232: (W, "sudo can't run this; and nobody types a password at a job"),
    2238: (W, "this writes to a file with the name of a command; was a pipe meant?"),
    2240: (H, "sh's dot takes no arguments"),
    2241: (W, "the exit status is one number"),
    2242: (W, "the exit status goes from 0 to 255"),
    2251: (H, "a leading ! keeps set -e from stopping here"),
    2256: (W, "this fixed text has the name of a variable; is a $ missing?"),
    2261: (W, "two redirections of the same stream; the last one wins"),
    2283: (W, "no spaces around = in an assignment"),
    2284: (W, "this runs == as a command; use [[ … == … ]]"),
    2285: (W, "spaces around += make it a command"),
    2287: (W, "this runs a folder as a command"),
    2288: (W, "this runs the text as a command; was = meant?"),
    2289: (W, "this runs text with a line break as a command"),
    2290: (W, "no space before = in an assignment"),
    2293: (W, "a word with a = was run as a command"),
    2294: (H, "eval takes the borders between arguments away"),
    2320: (W, "this $? is that of echo or [, not of the command before"),
    2321: (H, "an array's index is arithmetic already"),
    3001: (W, "<(…) is not of sh; use bash in the first line"),
    3010: (W, "[[ ]] is not of sh; use [ ], or bash in the first line"),
    3014: (W, "== is not of sh; use ="),
    3020: (W, "&> is not of sh; use > file 2>&1"),
    3030: (W, "arrays are not of sh; use bash in the first line"),
    3037: (H, "echo with options differs between shells; use printf"),
    3040: (W, "this option of set is not of sh; use bash in the first line"),
    3044: (W, "this command is not of sh; use bash in the first line"),
    3054: (W, "arrays are not of sh; use bash in the first line"),
}
"""Findings of ShellCheck that are told, by its number: how bad, and in words. The rest is style, or said by our own checks."""


def findings(script: str) -> tuple[Diagnostic, ...]:
    """Faults of syntax, and slips of the shell; none for languages that are not known."""
    program = interpreter(script)
    if "\r\n" in script:
        return ()
    if program in _READ_BY_THEMSELVES:
        faults = _syntax(program, script)
        return faults if faults or program not in _CHECKED else _slips(program, script)
    if re.fullmatch(r"python[0-9.]*", program):
        return _python(script)
    return ()


@lru_cache(maxsize=32)
def _syntax(program: str, script: str) -> tuple[Diagnostic, ...]:
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
    return (error("syntax", f"{program} cannot read this script: {' '.join(told.strip().splitlines()[-1:])}", 1),)


def _program() -> str | None:
    """ShellCheck beside this Python, where its wheel puts it, else on the PATH."""
    beside = Path(sys.executable).parent / "shellcheck"
    return str(beside) if beside.exists() else shutil.which("shellcheck")


@lru_cache(maxsize=32)
def _slips(program: str, script: str) -> tuple[Diagnostic, ...]:
    found = _program()
    if found is None:
        return ()
    words = [found, "--norc", "-f", "json1", "-s", program, "-"]
    try:
        run = subprocess.run(words, input=script.encode(), capture_output=True, timeout=10)
        comments = json.loads(run.stdout)["comments"]
    except (OSError, subprocess.TimeoutExpired, ValueError, KeyError):
        return ()
    lines = script.split("\n")
    told = []
    for comment in comments:
        known = SLIPS.get(comment["code"])
        if known is not None and comment["line"] <= len(lines):
            severity, words_ = known
            fix = _fix(lines, comment)
            told.append(
                Diagnostic(severity, f"shell-{comment['code']}", words_, comment["line"], comment["column"], fix)
            )
    return tuple(told)


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
    except ValueError as fault:
        return (error("syntax", f"not Python: {fault}", 1),)
    return ()
