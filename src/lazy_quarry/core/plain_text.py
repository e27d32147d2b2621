"""Text from outside, made fit for a terminal: nothing in it moves the cursor, sets a title, or turns writing about.

What counts as a control is ECMA-48 (C0, C1, delete) and the directional formatting characters of Unicode (UAX #9).
"""

import re
from collections.abc import Iterable

_MOVING = r"\x00-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ud800-\udfff"
MOVING = re.compile(f"[{_MOVING}]")
"""A character that a terminal acts on."""
_IN_OUTPUT = re.compile(f"[{_MOVING}]".replace(r"\x00-\x1f", r"\x00-\x08\x0b-\x1f"))
_COLOUR = re.compile(r"\x1b\[[0-9;:]*m")


def _escaped(found: re.Match[str]) -> str:
    return found[0].encode("unicode_escape").decode()


def plain(text: str) -> str:
    """Text for one line: whatever isn't printed is shown as an escape."""
    return text if text.isascii() and text.isprintable() else MOVING.sub(_escaped, text)


def shortened(text: str, most: int = 60) -> str:
    """Something that somebody wrote, fit to be repeated in a message: plain, on one line, not too long."""
    return plain(text if len(text) <= most else f"{text[: most - 1]}…")


def values_words(values: Iterable[tuple[str, str]]) -> str:
    """Word a task's values for a message: ``level=2, grid=fine``."""
    return ", ".join(f"{name}={shortened(value, 20)}" for name, value in values)


def displayed(text: str) -> str:
    """Make a program's output fit to show: its lines and tabs stay, colours are left out, all other controls shown as escapes."""
    if text.isascii() and text.isprintable():
        return text
    lines = _COLOUR.sub("", text).replace("\r\n", "\n").replace("\r", "\n")
    return _IN_OUTPUT.sub(_escaped, lines)


_PLAIN_SIGNS = str.maketrans(
    "▱◇◫▰◆✕◔▲⊘◌▿█▓▒░▚▊▍▏━─╌╱┊│▕┆▁▂▃▄▅▆▇▣▼⇧◢◣▪▸▾·…–—×÷‹›«»↑↓←→“”‘’−│└├┐┘┌┤┬┴┼╭╮╯╰┈═▤┄▬⋈",
    ".?=>+xtm-~v##=./#>|=--/:||:__--==##v^/\\*>v.~--x/<><>^v<>\"\"''-|+++++++++++++.=#~#&",
)
_PLAIN_SIGNS |= {0x2800 + dots: ord("*") for dots in range(1, 256)}
"""For fonts that lack our signs: each has one of ASCII (ISO 646) that is as wide."""


def in_plain_signs(text: str) -> str:
    """The same text in signs that every font has."""
    return text if text.isascii() else text.translate(_PLAIN_SIGNS)
