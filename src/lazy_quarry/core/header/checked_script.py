"""A script with all that is known of it: what the checks look at."""

from collections.abc import Iterable

from msgspec import Struct

from lazy_quarry.core.header.block import Block
from lazy_quarry.core.header.diagnostic import Fix
from lazy_quarry.core.header.script_body import Body
from lazy_quarry.core.header.surroundings import Surroundings
from lazy_quarry.core.job.needs import Need
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.site import Site


class CheckedScript(Struct, frozen=True):
    """A script with all that is known of it; what the checks below look at."""

    lines: list[str]
    block: Block | None
    body: Body | None
    request: Request
    need: Need | None
    site: Site
    surroundings: Surroundings
    parameters: tuple[str, ...] = ()

    def line(self, *keys: str) -> int:
        """The line of the first of these keys that stands in the header, else the header's."""
        if self.block is None:
            return 1
        places = (self.block.places.get((key,)) for key in keys)
        return next((place.line for place in places if place), self.block.first_line)

    def column(self, key: str) -> int:
        """Where the key's value begins in its line."""
        place = self.block.places.get((key,)) if self.block else None
        return place.column if place else 1

    def changed(self, key: str, old: str, new: str, label: str) -> Fix | None:
        """A fix that changes part of a key's line, where it stands on one."""
        place = self.block.places.get((key,)) if self.block else None
        if place is None or place.line != place.last_line:
            return None
        line = self.lines[place.line - 1]
        before, value = line[: place.column - 1], line[place.column - 1 :]
        return Fix(label, place.line, place.line, (before + value.replace(old, new, 1),)) if old in value else None

    def from_modules(self, program: str, more: Iterable[str] = ()) -> bool:
        """True when a module that is loaded gives a program, or may give it; ``more`` are loaded by commands."""
        names = [*self.request.modules, *more]
        loaded = [
            one
            for one in self.site.software
            if any(one.name == name or one.name.startswith(f"{name}/") for name in names)
        ]
        return any(program in module.programs or not module.programs for module in loaded)

    def replaced(self, line: int, column: int, old: str, new: str) -> Fix | None:
        """A fix that writes something else in a line, where the old text stands at a column (of bytes)."""
        text = self.lines[line - 1].encode()
        before, rest = text[: column - 1], text[column - 1 :]
        if not rest.startswith(old.encode()):
            return None
        changed = before + new.encode() + rest[len(old.encode()) :]
        return Fix(f"write {new}", line, line, (changed.decode(),))
