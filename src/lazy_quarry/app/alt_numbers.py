"""Keys that terminals send in more than one way."""

from enum import Enum

from textual import _ansi_sequences


class AltNumber(Enum):
    """alt with a digit, which most terminals send as ESC and the digit."""

    ONE, TWO, THREE, FOUR, FIVE, SIX = (f"alt+{number}" for number in range(1, 7))


def teach_alt_numbers() -> None:
    """Have ESC and a digit mean alt and the digit, not a sign from one maker's keyboards."""
    for key in AltNumber:
        _ansi_sequences.ANSI_SEQUENCES_KEYS[f"\x1b{key.value[-1]}"] = (key,)  # type: ignore[index]
