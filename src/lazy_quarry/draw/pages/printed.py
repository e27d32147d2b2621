"""The blocks of printed pages: headings, paragraphs, tables and figures, as plain values."""

from dataclasses import dataclass

from lazy_quarry.draw.values import Figure


@dataclass(frozen=True, slots=True)
class Heading:
    """The beginning of a section; it never stands last on a page."""

    words: str


@dataclass(frozen=True, slots=True)
class Paragraph:
    """Sentences; ``quiet`` ones are in smaller, dimmer type."""

    words: str
    quiet: bool = False


@dataclass(frozen=True, slots=True)
class Table:
    """Rows of words under a head. The first columns are words and stand left, the others are figures and stand right.

    The last ``sums`` rows are set off from those above.
    """

    head: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    left: int = 1
    sums: int = 0


@dataclass(frozen=True, slots=True)
class Drawn:
    """A figure."""

    figure: Figure


Block = Heading | Paragraph | Table | Drawn


@dataclass(frozen=True, slots=True)
class Printed:
    """A document: its title, what stands below it, its blocks, and what stands at the foot of each page."""

    title: str
    subtitle: str
    blocks: tuple[Block, ...]
    foot: str
