"""Checksums of what the journal keeps, so that no damage passes in silence.

Every event has a checksum of its own and one that continues that of the event before it: a changed event is found by the
first, one that is gone or in another's place by the second. Tables that follow from the events have sums that don't depend
on the order of rows, kept up to date with every change. All are BLAKE2b (RFC 7693), 8 bytes.
"""

from collections.abc import Iterable, Sequence
from hashlib import blake2b
from typing import Any

MASK = 2**64 - 1


def row_check(*values: Any) -> bytes:
    """The checksum of a row's values."""
    return text_check("\x1f".join([str(value) for value in values]))


def text_check(text: str) -> bytes:
    """The checksum of a text."""
    return blake2b(text.encode("utf-8", "surrogatepass"), digest_size=8).digest()


def next_chain(chain: bytes, check: bytes) -> bytes:
    """The chained checksum after one more event."""
    return blake2b(chain + check, digest_size=8).digest()


def first_chain(identity: str) -> bytes:
    """The chained checksum before the first event of a journal."""
    return blake2b(identity.encode(), digest_size=8).digest()


def as_number(check: bytes) -> int:
    """A checksum as a number, for sums over rows."""
    return int.from_bytes(check, "big")


def cells_sum(cells: Iterable[tuple[Sequence[Any], Sequence[int]]]) -> int:
    """A sum over cells (key, values) that is the same however their values were added up."""
    total = 0
    for key, values in cells:
        weight = as_number(row_check(*key))
        for place, value in enumerate(values):
            total += weight * (2 * place + 1) * value
    return total & MASK
