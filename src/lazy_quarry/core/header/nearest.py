"""The word that was probably meant."""

import difflib
from collections.abc import Collection, Iterable
from itertools import islice


def nearest(word: str, known: Collection[str]) -> str:
    """``; did you mean X?`` when some known word is near, else the list of them when it is short."""
    if near := closest(word, known):
        return f'; did you mean "{near}"?'
    if len(known) == 1:
        return f"; there is {next(iter(known))}"
    return "; there are " + ", ".join(known) if len(known) <= 8 else ""


def closest(word: str, known: Iterable[str], likeness: float = 0.6) -> str:
    """The known word that is most like one, or empty. Of very many only some are looked at, and long ones are like none."""
    near = difflib.get_close_matches(word, islice(known, 1000), 1, likeness) if len(word) <= 64 else []
    return near[0] if near else ""
