"""A script on its way in: its text, where it comes from, and what was found out about it beforehand."""

from msgspec import Struct

from lazy_quarry.core.header.diagnostic import Diagnostic
from lazy_quarry.core.header.surroundings import Surroundings


class Submission(Struct, frozen=True):
    """A script as somebody submits it, or asks what would become of it.

    ``overrides`` are ``KEY=VALUE`` texts. ``environment`` is the submitter's. ``findings`` and ``surroundings`` come
    from whoever could look at files and ask other programs.
    """

    script: str
    path: str = ""
    """Where the script lies, or empty."""
    directory: str = ""
    """The folder where it is submitted."""
    overrides: tuple[str, ...] = ()
    arguments: tuple[str, ...] = ()
    environment: tuple[tuple[str, str], ...] = ()
    findings: tuple[Diagnostic, ...] = ()
    surroundings: Surroundings = Surroundings()
