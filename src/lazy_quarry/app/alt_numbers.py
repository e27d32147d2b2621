"""Keys that terminals send in more than one way."""

from enum import Enum

from textual import _ansi_sequences


class AltNumber(Enum):
    """alt with a digit, which most terminals send as ESC and the digit."""

    ONE, TWO, THREE, FOUR, FIVE, SIX = (f"alt+{number}" for number in range(1, 7))


def teach_alt_numbers() -> None:
    """Read ESC and a digit as alt and the digit, instead of a special character of some keyboards."""
    for key in AltNumber:
        _ansi_sequences.ANSI_SEQUENCES_KEYS[f"\x1b{key.value[-1]}"] = (key,)  # type: ignore[index]
