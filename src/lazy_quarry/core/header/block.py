"""Finding the block in a script, and the lines of its keys.

The form is PEP 723's (``# /// TYPE`` … ``# ///``) with the type ``job``; here the first ``# ///`` after
the opening line closes it.
"""

import re
import tomllib
from dataclasses import dataclass, field
from typing import Any

from lazy_quarry.core.header.diagnostic import Diagnostic, Fix, error

_OPENING = re.compile(r"^# /// (?P<type>[a-zA-Z0-9-]+)$")
_POSITION = re.compile(r" \(at line (\d+), column (\d+)\)$|\(at end of document\)$")
_KEY = re.compile(r"""\s*((?:[A-Za-z0-9_-]+|"[^"]*"|'[^']*')(?:\s*\.\s*(?:[A-Za-z0-9_-]+|"[^"]*"|'[^']*'))*)\s*=\s*""")
_TABLE = re.compile(r"\s*\[\[?\s*([^\]]+?)\s*\]\]?")
_WORD = re.compile(r"""[A-Za-z0-9_-]+|"[^"]*"|'[^']*'""")


@dataclass(frozen=True, slots=True)
class Place:
    """Where a key stands in the file: its line, the column of its value, and the last line of the value."""

    line: int
    column: int
    last_line: int


@dataclass(frozen=True)
class Block:
    """A job header as it stands in a script. ``first_line`` and ``last_line`` are its ``# ///`` lines, from 1."""

    first_line: int
    last_line: int
    toml: str
    values: dict[str, Any] = field(default_factory=dict)
    places: dict[tuple[str, ...], Place] = field(default_factory=dict)

    def place(self, *path: str) -> Place:
        """Where a key stands, else its table or what stands in it, else the block's opening line."""
        for end in range(len(path), 0, -1):
            if found := self.places.get(path[:end]):
                return found
        below = [place for known, place in self.places.items() if known[:1] == path[:1]]
        if below:
            return min(below, key=lambda place: place.line)
        return Place(self.first_line, 1, self.first_line)


def find_block(text: str) -> tuple[Block | None, list[Diagnostic]]:
    """The job header of a script and what is wrong with its form; None when there is no usable one."""
    lines = [line.rstrip("\r") for line in text.split("\n")]
    problems: list[Diagnostic] = []
    opening = None
    block: tuple[int, int] | None = None
    first_command = None
    number = 0
    # By lines and not by a TOML parser: a broken block must still be found, with the line that breaks it.
    while number < len(lines):
        line = lines[number]
        match = _OPENING.match(line)
        if match:
            closing = _closing(lines, number)
            is_job = match["type"] == "job"
            if is_job and opening is not None:
                problems.append(error("header-twice", "this is a second job header; a script has one", number + 1))
            elif is_job:
                opening = number
                if first_command is not None:
                    problems.append(
                        error(
                            "header-late",
                            f"the header comes after the first command (line {first_command + 1}); "
                            "move it up, below the interpreter line",
                            number + 1,
                            fix=_moved_up(text.split("\n"), number, closing),
                        )
                    )
            if closing is None:
                if is_job:
                    problems.append(_unclosed(lines, number))
                number += 1
                continue
            if is_job and opening == number:
                block = (number, closing)
            number = closing + 1
            if number < len(lines) and _OPENING.match(lines[number]):
                said = "two blocks need an empty line between them"
                fix = Fix("put one there", number + 1, number + 1, ("", text.split("\n")[number]))
                problems.append(error("header-crowded", said, number + 1, fix=fix))
            continue
        if first_command is None and line.strip() and not line.lstrip().startswith("#"):
            first_command = number
        number += 1
    if block is None:
        return None, problems
    # A line with only "#" gives an empty line, so the lines of the TOML are lines of the file.
    toml = "\n".join(line[2:] for line in lines[block[0] + 1 : block[1]])
    try:
        values = tomllib.loads(toml)
    except tomllib.TOMLDecodeError as fault:
        problems.append(_toml_fault(fault, toml, block[0]))
        return Block(block[0] + 1, block[1] + 1, toml), problems
    return Block(block[0] + 1, block[1] + 1, toml, values, _places(toml, block[0] + 1)), problems


def _moved_up(lines: list[str], opening: int, closing: int | None) -> Fix | None:
    """The block put below the interpreter line."""
    if closing is None:
        return None
    at = 1 if lines[0].startswith("#!") else 0
    moved = [*lines[:at], *lines[opening : closing + 1], *lines[at:opening]]
    return Fix("move it up", 1, closing + 1, tuple(moved))


def _closing(lines: list[str], opening: int) -> int | None:
    for number in range(opening + 1, len(lines)):
        if lines[number] == "# ///":
            return number
        if lines[number] != "#" and not lines[number].startswith("# "):
            return None
    return None


def _unclosed(lines: list[str], opening: int) -> Diagnostic:
    for number in range(opening + 1, len(lines)):
        line = lines[number]
        if line != "#" and not line.startswith("# "):
            if line.startswith("#"):
                return error(
                    "header-unclosed",
                    f'the header that opens here is cut by line {number + 1}, which needs a space after its "#"',
                    opening + 1,
                )
            break
    return error(
        "header-unclosed", 'the header that opens here is never closed; end it with a line "# ///"', opening + 1
    )


def _toml_fault(fault: tomllib.TOMLDecodeError, toml: str, opening: int) -> Diagnostic:
    message = str(fault)
    line, column = toml.count("\n") + 1, 1
    if match := _POSITION.search(message):
        message = message[: match.start()].rstrip()
        if match[1]:
            line, column = int(match[1]), int(match[2])
    text = toml.split("\n")[line - 1] if line <= toml.count("\n") + 1 else ""
    advice, fix = "", None
    if message.startswith(("Cannot overwrite", "Cannot declare")):
        message = "this is in the header twice"
    bare = re.fullmatch(r"\s*([A-Za-z0-9_.-]+)\s*=\s*([^\s\"'\[{][^\"']*?)\s*", text)
    if bare:
        advice = f'; text needs quotes: {bare[1]} = "{bare[2]}"'
        fixed = text.replace(bare[2], f'"{bare[2]}"', 1)
        fix = Fix("put it in quotes", opening + 1 + line, opening + 1 + line, (f"# {fixed}",))
    said = f"not TOML: {message[:1].lower()}{message[1:]}{advice}"
    return error("toml", said, opening + 1 + line, column + 2, fix)


def _places(toml: str, opening_line: int) -> dict[tuple[str, ...], Place]:
    """Lines of keys in TOML that is known to parse. Lines inside a value that spans several are passed over."""
    places: dict[tuple[str, ...], Place] = {}
    lines = toml.split("\n")
    table: tuple[str, ...] = ()
    number = 0
    while number < len(lines):
        line = lines[number]
        if match := _TABLE.match(line):
            table = _path(match[1])
            places.setdefault(table, Place(opening_line + number + 1, 3, opening_line + number + 1))
        elif match := _KEY.match(line):
            last = number
            value = line[match.end() :]
            while last + 1 < len(lines) and not _complete(value):
                last += 1
                value += "\n" + lines[last]
            path = table + _path(match[1])
            for end in range(len(table) + 1, len(path) + 1):
                places.setdefault(
                    path[:end], Place(opening_line + number + 1, match.end() + 3, opening_line + last + 1)
                )
            number = last
        number += 1
    return places


def _path(text: str) -> tuple[str, ...]:
    return tuple(word.strip("\"'") for word in _WORD.findall(text))


def _complete(value: str) -> bool:
    try:
        tomllib.loads(f"x = {value}")
    except tomllib.TOMLDecodeError:
        return False
    return True
