"""Files written whole or not at all."""

from collections.abc import Iterable

from lazy_quarry.errors import QuarryError
from lazy_quarry.files import given


def write_pieces(path: str, pieces: Iterable[str]) -> None:
    """Write all of it to a file, or nothing: it takes the place of an older one only when it is whole."""
    _write_whole(path, (piece.encode() for piece in pieces))


def write_bytes(path: str, raw: bytes) -> None:
    """Write bytes to a file, or nothing."""
    _write_whole(path, [raw])


def _write_whole(path: str, pieces: Iterable[bytes]) -> None:
    try:
        with given.replacing(path) as out:
            out.writelines(pieces)
    except OSError as fault:
        raise QuarryError(f"{path} cannot be written: {fault.strerror}") from None
