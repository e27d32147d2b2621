"""Finding the block in a script, and the lines of its keys.

The form is PEP 723's (``# /// TYPE`` … ``# ///``) with the type ``job``; here the first ``# ///`` after
the opening line closes it. Everything here takes time in proportion to the text, whatever that holds.
"""

import re
import tomllib
from typing import Any

from msgspec import Struct, field

from lazy_quarry.core.header.diagnostic import Diagnostic, Fix, error
from lazy_quarry.core.header.toml_places import LONG_NUMBER, MOST_LEVELS, Scan, TextPlace, nearest_place, scan
from lazy_quarry.core.plain_text import shortened

MOST_SCRIPT, MOST_HEADER = 2**20, 64 * 2**10
"""Bytes of a script, and of a header."""
MOST_FAULTS = 20
"""Number of faults of a header's TOML that are told."""
UNFIT = ("script-too-long", "not-text")
"""Codes of findings beside which a script isn't looked at any further."""
_OPENING = re.compile(r"^# /// (?P<type>[a-zA-Z0-9-]+)$")
_NEARLY_OPENING = re.compile(r"^\s*#+\s*/{2,4}\s*job\s*$", re.IGNORECASE)
_NEARLY_MARK = re.compile(r"^\s*#*\s*/{2,4}\s*$")
_POSITION = re.compile(r" \(at line (\d+), column (\d+)\)$|\(at end of document\)$")
_SURROGATE = re.compile("[\ud800-\udfff]")
_STATEMENT = re.compile(r"\s*(?:[A-Za-z0-9_.-]+\s*=|\[)")
_BARE = re.compile(r"""(\s*[A-Za-z0-9_.-]+)(?P<equals>\s*=\s*)([^\s"'\[{#\\][^"'#\\]*?)(\s*(?:\#.*)?)""")
_DIGITS = re.compile(r"\d{4000}")


class Block(Struct, frozen=True):
    """A job header as it stands in a script. ``first_line`` and ``last_line`` are its ``# ///`` lines, from 1."""

    first_line: int
    last_line: int
    toml: str
    values: dict[str, Any] = field(default_factory=dict)
    places: dict[tuple[str, ...], TextPlace] = field(default_factory=dict)
    broken: frozenset[str] = frozenset()
    """Keys in lines that are no TOML: their values are not among ``values``."""

    def place(self, *path: str) -> TextPlace:
        """Where a key stands, else its table or what stands in it, else the block's opening line."""
        if found := nearest_place(self.places, path):
            return found
        below = [place for known, place in self.places.items() if known[:1] == path[:1]]
        if below:
            return min(below, key=lambda place: place.line)
        return TextPlace(self.first_line, 1, self.first_line)


def unfit(text: str) -> list[Diagnostic]:
    """Why a text is looked at no further: it is too long, or not all of it is characters."""
    size = len(text) if len(text) > MOST_SCRIPT else len(text.encode(errors="replace"))
    if size > MOST_SCRIPT:
        said = "this is longer than 1 MiB; keep data in files of their own, and let the script read them"
        return [error("script-too-long", said)]
    if found := _SURROGATE.search(text):
        line = text.count("\n", 0, found.start()) + 1
        return [error("not-text", f"U+{ord(found[0]):04X} is no character; save the file as UTF-8", line)]
    return []


class _Lines:
    """The lines of a script, with where the comment block that each one is in ends."""

    def __init__(self, text: str) -> None:
        self.raw = text.split("\n")
        self.lines = [line.rstrip("\r") for line in self.raw]
        self.closing: list[int | None] = [None] * (len(self.lines) + 1)
        """By line, the first from there on that closes a block, if only comments stand between."""
        self.cut: list[int | None] = [None] * (len(self.lines) + 1)
        """By line, the first from there on that is no line of a block."""
        for number in range(len(self.lines) - 1, -1, -1):
            line = self.lines[number]
            inside = line == "#" or line.startswith("# ")
            self.cut[number] = self.cut[number + 1] if inside else number
            if line == "# ///":
                self.closing[number] = number
            elif inside:
                self.closing[number] = self.closing[number + 1]


def find_block(text: str) -> tuple[Block | None, list[Diagnostic]]:
    """The job header of a script and what is wrong with its form; None when there is no usable one."""
    problems = unfit(text)
    if problems:
        return None, problems
    script = _Lines(text)
    lines = script.lines
    first: int | None = None
    more = 0
    block: tuple[int, int] | None = None
    first_command = None
    number = 0
    # By lines and not by a TOML parser: a broken block must still be found, with the line that breaks it.
    while number < len(lines):
        line = lines[number]
        match = _OPENING.match(line)
        if match:
            closing = script.closing[number + 1]
            if match["type"] == "job":
                if first is None:
                    first = number
                    problems += _form(script, number, closing, first_command)
                    block = None if closing is None else (number, closing)
                else:
                    more += 1
                    if more == 1:
                        problems.append(
                            error("header-twice", "this is a second job header; a script has one", number + 1)
                        )
            if closing is None:
                number += 1
                continue
            number = closing + 1
            if (
                number < len(lines)
                and _OPENING.match(lines[number])
                and not any(one.code == "header-crowded" for one in problems)
            ):
                said = "two blocks need an empty line between them"
                fix = Fix("put one there", number + 1, number + 1, ("", script.raw[number]))
                problems.append(error("header-crowded", said, number + 1, fix=fix))
            continue
        if first_command is None and line.strip() and not line.lstrip().startswith("#"):
            first_command = number
        number += 1
    if block is None:
        return None, problems or _nearly(script)
    # A line with only "#" gives an empty line, so the lines of the TOML are lines of the file.
    found = _block_of(lines, *block)
    return found[0], problems + found[1]


def _form(script: _Lines, opening: int, closing: int | None, first_command: int | None) -> list[Diagnostic]:
    """Faults in the opening and closing of the header."""
    found = []
    if first_command is not None:
        said = f"the header comes after the first command (line {first_command + 1}); move it up, below the interpreter line"
        found.append(error("header-late", said, opening + 1, fix=_moved_up(script.raw, opening, closing)))
    if closing is None:
        found.append(_unclosed(script, opening))
    return found


def _moved_up(lines: list[str], opening: int, closing: int | None) -> Fix | None:
    """The block put below the interpreter line."""
    if closing is None:
        return None
    at = 1 if lines[0].startswith("#!") else 0
    moved = [*lines[:at], *lines[opening : closing + 1], *lines[at:opening]]
    return Fix("move it up", 1, closing + 1, tuple(moved))


def _unclosed(script: _Lines, opening: int) -> Diagnostic:
    cut = script.cut[opening + 1]
    end = len(script.lines) if cut is None else cut + 1
    nearly = next((at for at in range(opening + 1, end) if _NEARLY_MARK.match(script.lines[at])), None)
    if nearly is not None:
        said = f'the header that opens here is never closed: line {nearly + 1} is nearly its end, "# ///"'
        return error("header-unclosed", said, opening + 1, fix=_rewritten(script, nearly, "# ///"))
    if cut is not None and script.lines[cut].startswith("#"):
        said = f'the header that opens here is cut by line {cut + 1}, which needs a space after its "#"'
        better = f"# {script.lines[cut][1:]}"
        return error("header-unclosed", said, opening + 1, fix=_rewritten(script, cut, better))
    said = 'the header that opens here is never closed; end it with a line "# ///"'
    return error("header-unclosed", said, opening + 1)


def _rewritten(script: _Lines, at: int, line: str) -> Fix:
    """Another line in place of one, with the same line end."""
    ending = "\r" if script.raw[at].endswith("\r") else ""
    return Fix(f"write {shortened(line)}", at + 1, at + 1, (f"{line}{ending}",))


def _nearly(script: _Lines) -> list[Diagnostic]:
    """A script without a header in which somebody probably meant to write one: the lines made right are the fix."""
    opening = next((at for at, line in enumerate(script.lines) if _NEARLY_OPENING.match(line)), None)
    if opening is None:
        return []
    fixed = ["# /// job"]
    for line in script.lines[opening + 1 :]:
        if _NEARLY_MARK.match(line):
            fixed.append("# ///")
            break
        if not line.lstrip().startswith("#") or _NEARLY_OPENING.match(line):
            break
        rest = line.lstrip().lstrip("#")
        fixed.append(f"# {rest.removeprefix(' ')}" if rest.strip() else "#")
    line = shortened(script.lines[opening].strip())
    said = f'"{line}" is nearly the beginning of a job header, which is "# /// job"; as it stands, it is none'
    closed = fixed[-1] == "# ///"
    fix = Fix("write the header right", opening + 1, opening + len(fixed), tuple(fixed)) if closed else None
    return [error("header-nearly", said, opening + 1, fix=fix)]


def _block_of(lines: list[str], opening: int, closing: int) -> tuple[Block, list[Diagnostic]]:
    """The block between two lines, with as much of its TOML as can be read; and what is wrong with the rest."""
    toml = "\n".join(line[2:] for line in lines[opening + 1 : closing])
    if len(toml.encode()) > MOST_HEADER:
        said = "this header is longer than 64 KiB; put long lists into files, and name these"
        return Block(opening + 1, closing + 1, toml), [error("header-too-long", said, opening + 1)]
    seen = scan(toml, opening + 2, 2)
    if seen.deep_line:
        said = f"this is nested more than {MOST_LEVELS} levels deep, which no key of a header is"
        return Block(opening + 1, closing + 1, toml), [error("toml", said, seen.deep_line)]
    places = dict(seen.places)
    values, faults, broken = read_toml(toml, seen, opening + 2, places, "# ")
    return Block(opening + 1, closing + 1, toml, values, places, broken), faults


def read_toml(
    toml: str, seen: Scan, first_line: int, places: dict[tuple[str, ...], TextPlace], mark: str = ""
) -> tuple[dict[str, Any], list[Diagnostic], frozenset[str]]:
    """The values of a text, statements that can't be read being left out; each of these is told.

    ``places`` gets those of keys that show only when what stands before them is left out. ``mark`` stands before each line
    in the file.
    """
    faults: list[Diagnostic] = []
    broken: set[str] = set()
    left = toml.split("\n")
    while len(faults) < MOST_FAULTS:
        rest = "\n".join(left)
        try:
            return tomllib.loads(rest), faults, frozenset(broken)
        except tomllib.TOMLDecodeError as fault:
            first, last, one = _toml_fault(fault, left, seen, first_line, mark)
        except ValueError:  # Python reads no whole number of so many digits
            long = _DIGITS.search(rest)
            at = rest.count("\n", 0, long.start()) if long else 0
            first = last = first_line + at
            one = error("toml", LONG_NUMBER, first)
        faults.append(one)
        gone = range(first - first_line, last - first_line + 1)
        if not any(left[line].strip() for line in gone):
            break  # nothing is left there to be left out
        for line in gone:
            if word := re.match(r"\s*([A-Za-z0-9_-]+)\s*[.=]", left[line]):
                broken.add(word[1])
            left[line] = ""
        seen = scan("\n".join(left), first_line, len(mark))
        places |= seen.places
    return {}, faults, frozenset(broken)


def _toml_fault(
    fault: tomllib.TOMLDecodeError, lines: list[str], seen: Scan, first_line: int, mark: str
) -> tuple[int, int, Diagnostic]:
    """First and last line of the statement that can't be read, and what is wrong with it."""
    message, number, column = str(fault), first_line + len(lines) - 1, 1
    match = _POSITION.search(message)
    if match:
        message = message[: match.start()].rstrip()
        if match[1]:
            number, column = min(first_line + int(match[1]) - 1, number), int(match[2])
    first, last = seen.statement_at(number)
    number = min(number, last)
    ahead = range(first + 1, min(last + 1, first_line + len(lines)))
    following = next((line for line in ahead if _STATEMENT.match(lines[line - first_line])), None)
    if following is not None:  # the next key stands within something that is never closed
        last, number, column, message = following - 1, first, 1, "a bracket or quote that opens here is never closed"
    text = lines[number - first_line]
    if message.startswith(("Cannot overwrite", "Cannot declare", "Cannot mutate")):
        message = "this is in the header twice"
    bare = _BARE.fullmatch(text) if first == last else None
    advice, fix = "", None
    if bare and _readable(f'x = "{bare[3]}"'):
        advice = f'; text needs quotes: {bare[1].strip()} = "{bare[3]}"'
        fixed = f'{bare[1]}{bare[2]}"{bare[3]}"{bare[4]}'
        fix = Fix("put it in quotes", number, number, (f"{mark}{fixed}",)) if _readable(fixed) else None
    said = f"not TOML: {message[:1].lower()}{message[1:]}{advice}"
    return first, last, error("toml", said, number, column + len(mark), fix)


def _readable(toml: str) -> bool:
    try:
        tomllib.loads(toml)
    except ValueError:
        return False
    return True
