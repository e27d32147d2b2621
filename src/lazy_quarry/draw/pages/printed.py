"""The blocks of printed pages: headings, paragraphs, tables and figures, as plain values."""

from msgspec import Struct

from lazy_quarry.draw.values import Figure


class Heading(Struct, frozen=True):
    """The beginning of a section; it never stands last on a page."""

    words: str


class Paragraph(Struct, frozen=True):
    """Sentences; ``quiet`` ones are in smaller, dimmer type."""

    words: str
    quiet: bool = False


class Table(Struct, frozen=True):
    """Rows of words under a head. The first columns are words and stand left, the others are figures and stand right.

    The last ``sums`` rows are set off from those above.
    """

    head: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    left: int = 1
    sums: int = 0


class Drawn(Struct, frozen=True):
    """A figure."""

    figure: Figure


Block = Heading | Paragraph | Table | Drawn


class Printed(Struct, frozen=True):
    """A document: its title, what stands below it, its blocks, and what stands at the foot of each page."""

    title: str
    subtitle: str
    blocks: tuple[Block, ...]
    foot: str
