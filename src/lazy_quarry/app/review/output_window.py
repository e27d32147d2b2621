"""A window on what a job printed: lines of a file of any size, of which only a part around the cursor was read."""

from collections.abc import Callable

from msgspec import Struct, field

from lazy_quarry.run.runner import OutputChunk

PIECE = 64 * 1024
"""Bytes that are read at a time."""
MOST_PIECES = 24
"""More pieces are not kept; those furthest from where it was read last go."""


class OutputWindow(Struct):
    """Pieces of a file that follow one another: (first byte, byte behind it, text). Its lines are those that begin in it."""

    path: str = ""
    size: int = 0
    problem: str = ""
    lines: list[str] = field(default_factory=list)
    _pieces: list[tuple[int, int, str]] = field(default_factory=list)

    @property
    def begin(self) -> int:
        """The first byte that was read."""
        return self._pieces[0][0] if self._pieces else 0

    @property
    def end(self) -> int:
        """The byte behind the last that was read."""
        return self._pieces[-1][1] if self._pieces else 0

    @property
    def at_end(self) -> bool:
        """True when it has all that was printed so far, from its first line on."""
        return self.end >= self.size

    def put(self, begin: int, chunk: OutputChunk) -> None:
        """Only this piece, which begins at a byte."""
        self.path, self.size, self.problem = chunk.path, chunk.size, chunk.problem
        self._pieces = [(begin, chunk.next_byte, chunk.text)] if chunk.next_byte > begin else []
        self._read()

    def later(self, chunk: OutputChunk) -> int:
        """The piece that begins at the end; returns how many lines went at the other side."""
        self.size = chunk.size
        if chunk.next_byte <= self.end:
            return 0
        self._pieces.append((self.end, chunk.next_byte, chunk.text))
        gone = self._pieces[:-MOST_PIECES]
        self._pieces = self._pieces[-MOST_PIECES:]
        self._read()
        return sum(text.count("\n") for _, _, text in gone)

    def earlier(self, begin: int, chunk: OutputChunk) -> int:
        """The piece from a byte up to the beginning, and what it has behind that; returns how many lines came before."""
        if begin >= self.begin:
            return 0
        before = len(self.lines)
        text = chunk.text.encode(errors="replace")[: self.begin - begin].decode(errors="replace")
        self._pieces.insert(0, (begin, self.begin, text))
        self._read()
        more = len(self.lines) - before
        if len(self._pieces) > MOST_PIECES:
            self._pieces = self._pieces[:MOST_PIECES]
            self._read()
        return more

    def _read(self) -> None:
        lines = "".join(text for _, _, text in self._pieces).split("\n")
        if lines and not lines[-1]:
            lines.pop()
        if self.begin > 0 and len(lines) > 1:
            lines = lines[1:]  # it began before
        self.lines = lines


def find(
    read: Callable[[int], OutputChunk],
    wanted: Callable[[str], bool],
    from_byte: int,
    stop: Callable[[], bool],
) -> int | None:
    """The byte at which the first line begins, from ``from_byte`` on, that is wanted; None for none, or when told to stop.

    ``read`` gives the piece of the file that begins at a byte.
    """
    at, rest = from_byte, ""
    while not stop():
        chunk = read(at)
        if chunk.problem or chunk.next_byte <= at:
            return at - len(rest.encode(errors="replace")) if rest and wanted(rest) else None
        begin = at - len(rest.encode(errors="replace"))
        lines = (rest + chunk.text).split("\n")
        rest = lines.pop()
        for line in lines:
            if wanted(line):
                return begin
            begin += len(line.encode(errors="replace")) + 1
        at = chunk.next_byte
    return None
