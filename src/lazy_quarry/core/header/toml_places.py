"""Where the keys of a TOML text stand, found in one pass, also where the text is broken (TOML 1.0)."""

import re
from collections.abc import Mapping

from msgspec import Struct, field

MOST_LEVELS = 100
"""Levels that values may be nested, and parts that a dotted key may have."""
LONG_NUMBER = "a number of more than 4,000 digits is none that a key takes"
"""The words for a number that Python doesn't read."""
_TOKEN = re.compile(
    r'''"""(?:\\.|[^\\])*?(?:"""|\Z)|\'\'\'.*?(?:\'\'\'|\Z)|"(?:\\.|[^"\\\n])*"?|'[^'\n]*'?|#[^\n]*'''
    r"""|\n|[\[\]{}=,]|[^\S\n]+|[^\s\[\]{}=,"'#]+""",
    re.DOTALL,
)
_WORD = re.compile(r"""[A-Za-z0-9_-]+|"[^"]*"|'[^']*'""")


class TextPlace(Struct, frozen=True):
    """Where a key stands in the file: its line, the column of its value, and the last line of the value."""

    line: int
    column: int
    last_line: int


class _Level(Struct):
    """A bracket that is open, or the text itself. ``path`` is where its keys belong; None for a list's."""

    bracket: str
    path: tuple[str, ...] | None
    key: str = ""
    in_value: bool = False
    begun: int = 0
    """The offset of the value, once it has begun."""


class Scan(Struct):
    """The findings of one pass. ``deep_line`` is the first line that is nested too deep, or 0."""

    places: dict[tuple[str, ...], TextPlace] = field(default_factory=dict)
    statements: list[tuple[int, int]] = field(default_factory=list)
    """First and last line of each key with its value, and of each table's heading."""
    deep_line: int = 0

    def statement_at(self, line: int) -> tuple[int, int]:
        """The statement that a line is in, else the last one before it, else the line itself."""
        before = [span for span in self.statements if span[0] <= line]
        return max(before, default=(line, line))


def _words(key: str) -> tuple[str, ...]:
    """The parts of a dotted key."""
    return tuple(word.strip("\"'") for word in _WORD.findall(key))


def _numbered(words: tuple[str, ...], begins_one: bool, elements: dict[tuple[str, ...], int]) -> tuple[str, ...]:
    """A table's path with the place (from 0) of each element of an array of tables that it is in."""
    path: tuple[str, ...] = ()
    for at, word in enumerate(words, 1):
        path = (*path, word)
        if begins_one and at == len(words):
            elements[path] = elements.get(path, -1) + 1
        if path in elements:
            path = (*path, str(elements[path]))
    return path


def nearest_place(places: Mapping[tuple[str, ...], TextPlace], path: tuple[str, ...]) -> TextPlace | None:
    """Where a key stands, else the table that it is in."""
    return next((places[path[:end]] for end in range(len(path), 0, -1) if path[:end] in places), None)


def scan(toml: str, line: int, indent: int) -> Scan:
    """Find the keys of a text whose first line is ``line`` of a file and stands ``indent`` columns in."""
    found = Scan()
    levels = [_Level("", ())]
    elements: dict[tuple[str, ...], int] = {}
    line_start = 0
    first = line

    def place_of(level: _Level) -> None:
        """Note the key of a value that begins here, and the tables that a dotted one makes."""
        words = _words(level.key)
        if len(words) > MOST_LEVELS:
            found.deep_line = found.deep_line or line
        elif level.path is not None:
            for end in range(len(level.path) + 1, len(level.path) + len(words) + 1):
                column = level.begun - line_start + 1 + indent
                found.places.setdefault((*level.path, *words)[:end], TextPlace(line, column, line))

    def end_statement() -> None:
        top = levels[0]
        if top.in_value and line > first:
            path = (*(top.path or ()), *_words(top.key))
            if path in found.places and found.places[path].line == first:
                here = found.places[path]
                found.places[path] = TextPlace(here.line, here.column, line)
        if top.in_value or top.key.strip():
            found.statements.append((first, line))
        top.key, top.in_value, top.begun = "", False, 0

    for match in _TOKEN.finditer(toml):
        token, level = match[0], levels[-1]
        if token == "\n":
            if len(levels) == 1:
                end_statement()
                first = line + 1
            line, line_start = line + 1, match.end()
        elif token[0] == "#" or not token.strip():
            if not level.in_value and token[0] != "#":
                level.key += token
        elif level.in_value or level.bracket == "[":
            if level.in_value and not level.begun:
                level.begun = match.start()
                place_of(level)
            if token in ("[", "{"):
                inside = None if token == "[" or level.bracket == "[" or level.path is None else level.path
                if token == "{" and inside is not None:
                    inside = (*inside, *_words(level.key))
                levels.append(_Level(token, inside))
                if len(levels) > MOST_LEVELS + 1:
                    found.deep_line = found.deep_line or line
                    break
            elif token in ("]", "}") and len(levels) > 1:
                levels.pop()
            elif token == "," and level.bracket == "{":
                level.key, level.in_value, level.begun = "", False, 0
            else:
                line += token.count("\n")
        elif token == "=":
            level.in_value = True
        elif token == "[" and len(levels) == 1 and not level.key.strip():
            end = toml.find("\n", match.start())
            heading = toml[match.start() : len(toml) if end < 0 else end].partition("#")[0]
            words = _words(heading)
            if len(words) > MOST_LEVELS:
                found.deep_line = found.deep_line or line
            level.path = _numbered(words[:MOST_LEVELS], heading.startswith("[["), elements)
            if level.path:  # a heading that names nothing is no TOML
                found.places.setdefault(level.path, TextPlace(line, 1 + indent, line))
            level.key = heading
        elif token == "}" and len(levels) > 1:
            levels.pop()
        else:
            level.key += token
    if len(levels) == 1 or levels[0].in_value:
        end_statement()
    return found
