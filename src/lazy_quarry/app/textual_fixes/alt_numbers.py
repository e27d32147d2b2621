"""alt with a digit, as terminals send it: as ESC and the digit, or as one character with its eighth bit set."""

from enum import Enum

from textual import _ansi_sequences

ASK_FOR_ESCAPE = "\x1b[?1034;1036;1039s\x1b[?1034l\x1b[?1036h\x1b[?1039h"
"""Asks xterm and its kin to send ESC for meta and alt; what was set before is kept by the terminal."""
PUT_BACK = "\x1b[?1034;1036;1039r"
"""Sets again what was kept."""
EIGHT_BIT = {chr(0x80 | ord(digit)): int(digit) for digit in "123456"}
"""Characters that alt and a digit make where the terminal sets the eighth bit: they may also have been typed."""


class AltNumber(Enum):
    """alt with a digit, which most terminals send as ESC and the digit."""

    ONE, TWO, THREE, FOUR, FIVE, SIX = (f"alt+{number}" for number in range(1, 7))


def teach_alt_numbers() -> None:
    """Read ESC and a digit as alt and the digit, instead of a special character of some keyboards."""
    for key in AltNumber:
        _ansi_sequences.ANSI_SEQUENCES_KEYS[f"\x1b{key.value[-1]}"] = (key,)  # type: ignore[index]
