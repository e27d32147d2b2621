"""A finding of a check: where, how bad, and what to do about it."""

from enum import StrEnum

from msgspec import Struct
from msgspec.structs import force_setattr

from lazy_quarry.core.plain_text import shortened
from lazy_quarry.core.units import plural

MOST_MESSAGE = 400


class Severity(StrEnum):
    """``error``: must change, the script is refused. ``warning``: worth a look. ``hint``: good to know."""

    ERROR = "error"
    WARNING = "warning"
    HINT = "hint"

    @property
    def words(self) -> str:
        """The finding as a sentence for people."""
        return {"error": "must change", "warning": "worth a look", "hint": "hint"}[self.value]

    def counted(self, count: int) -> str:
        """``2 must change``, ``1 hint``, ``2 hints``."""
        return plural(count, self.words) if self.value == "hint" else f"{count} {self.words}"


class Fix(Struct, frozen=True):
    """A change that is certain to help: these lines (from 1, ends included) become ``replacement``."""

    label: str
    first_line: int
    last_line: int
    replacement: tuple[str, ...]

    def apply(self, text: str) -> str:
        """The text with the fix made; line ends elsewhere stay as they are."""
        lines = text.split("\n")
        lines[self.first_line - 1 : self.last_line] = self.replacement
        return "\n".join(lines)


class Diagnostic(Struct, frozen=True):
    """One finding. ``line`` and ``column`` count from 1; line 0 is a value given outside the file.

    The message is one plain line, whatever of the script it repeats.
    """

    severity: Severity
    code: str
    message: str
    line: int = 1
    column: int = 1
    fix: Fix | None = None
    key: tuple[str, ...] = ()
    """The header key of a value given outside the file, and the way into its table."""

    def __post_init__(self) -> None:
        force_setattr(self, "message", shortened(self.message, MOST_MESSAGE))

    @property
    def rank(self) -> tuple[int, int, int]:
        """Sorts worst first, then down the file."""
        return (list(Severity).index(self.severity), self.line, self.column)


def error(code: str, message: str, line: int = 1, column: int = 1, fix: Fix | None = None) -> Diagnostic:
    """A finding that must change."""
    return Diagnostic(Severity.ERROR, code, message, line, column, fix)


def warning(code: str, message: str, line: int = 1, column: int = 1, fix: Fix | None = None) -> Diagnostic:
    """A finding worth a look."""
    return Diagnostic(Severity.WARNING, code, message, line, column, fix)


def hint(code: str, message: str, line: int = 1, column: int = 1, fix: Fix | None = None) -> Diagnostic:
    """A finding that is good to know."""
    return Diagnostic(Severity.HINT, code, message, line, column, fix)
