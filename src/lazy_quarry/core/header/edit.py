"""Changing one key of a header, and nothing else in the file."""

import re
from typing import Any

import tomlkit
from tomlkit.exceptions import TOMLKitError

from lazy_quarry.core.header.block import Block, find_block
from lazy_quarry.errors import BadValue


def set_key(text: str, key: str, value: Any) -> str:
    """The script with ``key`` (dotted for tables) set to ``value``; None takes it out.

    Comments, order and spacing stay; a script without a header gets one below its interpreter line.
    Raises :class:`BadValue` when the header is too broken to be edited.
    """
    block, problems = find_block(text)
    if block is None:
        if problems:
            raise BadValue(f"line {problems[0].line}: {problems[0].message}")
        return text if value is None else _with_block(text, key, value)
    try:
        document = tomlkit.parse(block.toml)
    except TOMLKitError as fault:
        raise BadValue(f"the header is not TOML: {fault}") from None
    *tables, last = key.split(".")
    holder: Any = document
    for table in tables:
        if table not in holder:
            if value is None:
                return text
            holder[table] = tomlkit.table()
        holder = holder[table]
    if value is None:
        holder.pop(last, None)
    elif last not in holder and not tables:
        return _with_line(text, block, last, value)
    else:
        holder[last] = value
    return _with_toml(text, block.first_line, block.last_line, block.toml, tomlkit.dumps(document))


def _with_line(text: str, block: Block, key: str, value: Any) -> str:
    """A line for a new key, below the last one that stands before any table, its ``=`` in their column."""
    lines = text.split("\n")
    own = [
        place
        for path, place in block.places.items()
        if len(path) == 1 and not lines[place.line - 1].removeprefix("#").lstrip().startswith("[")
    ]
    at = max((place.last_line for place in own), default=block.first_line)
    columns = {match.end() for place in own if (match := re.match(r"# [\w-]+ +(?==)", lines[place.line - 1]))}
    width = max(columns.pop() - 2 if len(columns) == 1 else 0, len(key) + 1)
    ending = "\r" if lines[block.first_line - 1].endswith("\r") else ""
    lines[at:at] = [f"# {key:<{width}}= {tomlkit.item(value).as_string()}{ending}"]
    return "\n".join(lines)


def _with_toml(text: str, first_line: int, last_line: int, old: str, new: str) -> str:
    """Put changed TOML back behind its ``# `` marks; lines that are the same keep every byte."""
    lines = text.split("\n")
    ending = "\r" if lines[first_line - 1].endswith("\r") else ""
    old_lines, new_lines = old.split("\n"), new.split("\n")
    if new_lines and new_lines[-1] == "" and old_lines[-1:] != [""]:
        new_lines.pop()
    head = 0
    while head < min(len(old_lines), len(new_lines)) and old_lines[head] == new_lines[head]:
        head += 1
    tail = 0
    while tail < min(len(old_lines), len(new_lines)) - head and old_lines[-1 - tail] == new_lines[-1 - tail]:
        tail += 1
    changed = [
        f"# {line}".rstrip() + ending if line else f"#{ending}" for line in new_lines[head : len(new_lines) - tail]
    ]
    lines[first_line + head : last_line - 1 - tail] = changed
    return "\n".join(lines)


def _with_block(text: str, key: str, value: Any) -> str:
    document = tomlkit.document()
    holder: Any = document
    *tables, last = key.split(".")
    for table in tables:
        holder[table] = tomlkit.table()
        holder = holder[table]
    holder[last] = value
    body = [f"# {line}" if line else "#" for line in tomlkit.dumps(document).rstrip("\n").split("\n")]
    lines = text.split("\n")
    at = 1 if lines[0].startswith("#!") else 0
    lines[at:at] = ["# /// job", *body, "# ///"]
    return "\n".join(lines)
