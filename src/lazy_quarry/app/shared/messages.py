"""The messages between widgets and places."""

from dataclasses import dataclass

from textual.message import Message


@dataclass
class CursorMoved(Message):
    """The cursor of a place is on something else; the note and the keys should say what."""


@dataclass
class OpenJob(Message):
    """Show a job in Review."""

    job: int


@dataclass
class OpenChain(Message):
    """Show a chain in Chain."""

    chain: int


@dataclass
class OpenNode(Message):
    """Show the hours of a node."""

    node: str


@dataclass
class Say(Message):
    """A sentence for the note, until there is another. ``bad`` when something could not be done."""

    text: str
    bad: bool = False


@dataclass
class Opened(Message):
    """Open what is under the cursor."""


@dataclass
class SearchRuns(Message):
    """Show the runs that a search finds in Review."""

    words: str
