"""The helpers' command line. It imports nothing but what it needs: a script may call them thousands of times."""

from __future__ import annotations

import os
import sys

from lazy_quarry.inside.helper import Refused, say

USAGE = {
    "phase": "lq phase NAME -- COMMAND...",
    "ranks": "lq ranks [--output FORM] [--keep-going] -- COMMAND...",
    "spread": (
        "lq spread [--with NAME=V,V,...]... [--table F.csv] [--lines F|-] [--together A,B]... [--cores N] [--at-once N]"
        " [--journal F] [--stop-at-failure] -- COMMAND..."
    ),
}
OPTIONS = {
    "phase": {},
    "ranks": {"--output": "one", "--keep-going": "flag"},
    "spread": {
        "--with": "many",
        "--table": "one",
        "--lines": "one",
        "--together": "many",
        "--cores": "number",
        "--at-once": "number",
        "--journal": "one",
        "--stop-at-failure": "flag",
    },
}
"""The options that each takes before the dashes: a value, several, a number, or nothing."""


def main(words: list[str]) -> int:
    """Run one of the helpers; returns the exit status."""
    helper, rest = words[0], words[1:]
    try:
        return _run(helper, *_read(helper, rest))
    except Refused as fault:
        say(helper, str(fault))
        return 2
    except KeyboardInterrupt:
        return 130


def _read(helper: str, words: list[str]) -> tuple[list[str], dict[str, list[str]], list[str]]:
    """Words, options and the command behind the dashes."""
    if "--" not in words or words.index("--") == len(words) - 1:
        raise Refused(f"write {USAGE[helper]}")
    at = words.index("--")
    before, command = words[:at], words[at + 1 :]
    known, plain, found = OPTIONS[helper], list[str](), dict[str, list[str]]()
    place = 0
    while place < len(before):
        word, equals, value = before[place].partition("=")
        place += 1
        if not word.startswith("--") or word not in known:
            if word.startswith("-"):
                raise Refused(f"there is no option {word}; write {USAGE[helper]}")
            plain.append(before[place - 1])
            continue
        if known[word] == "flag":
            found[word] = [""]
            continue
        if not equals:
            if place == len(before):
                raise Refused(f"{word} wants a value")
            value = before[place]
            place += 1
        if word in found and known[word] != "many":
            raise Refused(f"{word} is given twice")
        if known[word] == "number" and not (value.isascii() and value.isdecimal() and 0 < int(value) < 10**6):
            raise Refused(f'{word} is a number from 1, not "{value}"')
        found.setdefault(word, []).append(value)
    return plain, found, command


def _run(helper: str, plain: list[str], options: dict[str, list[str]], command: list[str]) -> int:
    def one(name: str) -> str:
        return options.get(name, [""])[0]

    if len(plain) != (1 if helper == "phase" else 0):
        raise Refused(f"write {USAGE[helper]}")
    if helper == "phase":
        from lazy_quarry.inside.phase import run_phase

        return run_phase(plain[0], command)
    if helper == "ranks":
        from lazy_quarry.inside.ranks import run_ranks

        return run_ranks(command, one("--output"), "--keep-going" in options)
    from lazy_quarry.inside.spread import run_spread
    from lazy_quarry.inside.tasks import tasks_of

    table, lines = one("--table") or None, one("--lines") or None
    tasks = tasks_of(options.get("--with", []), table, lines, options.get("--together", []))
    at_once = int(one("--at-once")) if "--at-once" in options else None
    cores = int(one("--cores") or 1)
    return run_spread(tasks, command, one("--journal"), cores, at_once, "--stop-at-failure" in options)


def leave() -> None:
    """The entry point: run, flush, and leave at once."""
    code = main(sys.argv[1:])
    sys.stdout.flush()
    os._exit(code)
