"""Facts of the world outside a script, given as values by the code that could look."""

from collections.abc import Mapping

from msgspec import Struct, field


class Surroundings(Struct, frozen=True):
    """Facts about the names in a script. Without ``looked`` nothing is said of files and programs.

    ``files`` tells of each path, as the script writes it: ``file``, ``folder``, ``absent``, or ``closed``
    (there, but it may not be executed). ``programs`` tells of names: ``there``, ``absent``, ``closed``.
    ``unusable`` tells of header keys why the job could not use the path that they name.
    ``texts`` and ``matches`` are what parameters of a sweep read. ``variables`` are those of the submitter.
    """

    looked: bool = False
    folder: str = ""
    files: Mapping[str, str] = field(default_factory=dict)
    programs: Mapping[str, str] = field(default_factory=dict)
    texts: Mapping[str, str] = field(default_factory=dict)
    matches: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    variables: frozenset[str] = frozenset()
    groups: tuple[str, ...] = ()
    now_ms: int = 0
    unusable: Mapping[str, str] = field(default_factory=dict)
    inputs: Mapping[str, tuple[int, int]] = field(default_factory=dict)
    """Files that it reads: size in bytes, and instant of writing in ms."""
    unseen: Mapping[str, tuple[str, frozenset[str]]] = field(default_factory=dict)
    """By header key, a folder that the job works in, reads or writes, and the nodes that don't see it."""
    staged: "Staged | None" = None
    """What it takes in, as far as it is known before it is submitted."""
    copied_a_second: Mapping[str, float] = field(default_factory=dict)
    """Bytes a second of the last copy to a node, where there was one."""


class Staged(Struct, frozen=True):
    """Files that a job takes in: how many, their bytes, and whether there are more than were counted."""

    files: int
    bytes: int
    more: bool = False
