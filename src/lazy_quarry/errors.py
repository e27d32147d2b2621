"""Every error that a person can be told of. Each message says what was seen, where, and what to do."""


class QuarryError(Exception):
    """Base of all: ``str(error)`` is one clear line."""


class BadValue(QuarryError):
    """A value that cannot be read: a duration without its unit, a size that isn't one.

    ``path`` leads to it from the key whose value was read: the keys of the tables within that.
    """

    def __init__(self, message: str, path: tuple[str, ...] = ()) -> None:
        super().__init__(message)
        self.path = path


class Refused(QuarryError):
    """A command that the site does not carry out, with the reason and the nearest thing it would."""


class Impossible(Refused):
    """A request that not even an idle queue could serve. ``key`` is the header key that asks for too much.

    ``part`` is what of it there is at the most, as (most, asked), in whatever unit; None where that isn't known.
    """

    def __init__(self, key: str, message: str, part: tuple[int, int] | None = None) -> None:
        super().__init__(message)
        self.key, self.part = key, part


class NoSuchJob(Refused):
    """There is no job with that number here."""

    @classmethod
    def of(cls, label: str | int) -> "NoSuchJob":
        """The error for a job's number, with where to look."""
        return cls(f"there is no job {label}; lq jobs lists those that wait and run, lq jobs --ended the others")

    @classmethod
    def of_chain(cls, number: int) -> "NoSuchJob":
        """The error for a chain's number, with where to look."""
        return cls(f"there is no chain {number}; lq chain lists them")


class StateFolderError(QuarryError):
    """The folder that holds the journal cannot be used: read-only, full, newer, or somebody else's."""


class DamagedJournal(StateFolderError):
    """A journal that is not as it was written. ``what`` says where; ``rescued`` what can still be read."""

    def __init__(self, folder: object, what: str, rescued: str = "") -> None:
        save = f"; save what is whole with: lazy-quarry journal rescue --state {folder}"
        super().__init__(f"the journal in {folder} is damaged: {what}{f'. {rescued}' if rescued else ''}{save}")
        self.folder, self.what = folder, what


class EngineAway(QuarryError):
    """The engine of a site does not answer and could not be started."""
