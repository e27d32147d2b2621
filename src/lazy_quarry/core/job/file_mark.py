"""The marks of a file at one instant, which tell it from what is there later."""

from typing import Literal

from msgspec import Struct


class FileMark(Struct, frozen=True):
    """One of the files that an attempt printed into, as its supervisor left it.

    ``written_ns`` is when it was written last. Device numbers may change when a machine starts anew, so a file with another
    device and all else the same counts as the same.
    """

    which: Literal["output", "errors"]
    device: int
    inode: int
    size: int
    written_ns: int

    def same(self, inode: int, size: int, written_ns: int) -> bool:
        """True when a file with these values is the one that was left."""
        return (inode, size, written_ns) == (self.inode, self.size, self.written_ns)
