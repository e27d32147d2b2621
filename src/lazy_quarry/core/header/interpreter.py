"""The interpreter of a script: its first line; where that doesn't say, the name of its file and its text."""

import re

BY_ENDING = {
    ".py": "python3",
    ".R": "Rscript",
    ".r": "Rscript",
    ".jl": "julia",
    ".pl": "perl",
    ".sh": "bash",
    ".bash": "bash",
}
"""Interpreters by the ending of a file's name."""
_BY_TEXT = (
    (
        "python3",
        re.compile(r"^(import \w+|from [\w.]+ import |def \w+\(.*\):|class \w+.*:|if __name__ == )|^print\(", re.M),
    ),
    ("Rscript", re.compile(r"^(library\(|require\(|[\w.]+ <- )", re.M)),
    ("julia", re.compile(r"^(using [A-Z]\w+|println\()", re.M)),
    ("perl", re.compile(r"^(use strict;|use warnings;|my [$@%]\w+)", re.M)),
)
"""Lines that begin as one language alone has them."""


def interpreter(script: str) -> str:
    """The name of the program in the interpreter line, or empty."""
    first = script.split("\n", 1)[0].rstrip("\r")
    if not first.startswith("#!"):
        return ""
    words = first[2:].split()
    if words and words[0].endswith("/env"):
        words = [word for word in words[1:] if not word.startswith("-") and "=" not in word]
    return words[0].rsplit("/", 1)[-1] if words else ""


def likely_interpreter(script: str, path: str = "") -> str:
    """The program that most likely runs a script that doesn't say so, by its name, else by its text; bash where neither tells."""
    ending = next((end for end in BY_ENDING if path.endswith(end)), "")
    if ending:
        return BY_ENDING[ending]
    return next((name for name, signs in _BY_TEXT if signs.search(script)), "bash")
