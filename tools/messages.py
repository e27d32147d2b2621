"""Prints every message to people that stands in the code, with where: to be read as a whole."""

import ast
import sys
from collections.abc import Iterator
from pathlib import Path

SOURCE = Path(__file__).parents[1] / "src"
TOLD_BY = frozenset(
    (
        *("say", "_say", "Say", "ask", "_refused", "say_unwritable", "note", "warning", "hint", "error"),
        *("Outcome", "Refused", "UsageError", "echo"),
    )
)
"""Functions whose texts people read; errors that are raised are read too."""


def words_of(node: ast.AST) -> str:
    """The text of a string, with its gaps as ``{}``; empty for anything else."""
    if isinstance(node, ast.Constant) and isinstance(node.value, str):
        return node.value
    if isinstance(node, ast.JoinedStr):
        return "".join(words_of(part) if isinstance(part, ast.Constant) else "{}" for part in node.values)
    if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Add):
        return words_of(node.left) + words_of(node.right)
    return ""


def texts_in(node: ast.AST) -> Iterator[str]:
    """The texts among a call's arguments, of both sides of a choice."""
    if text := words_of(node):
        yield text
    elif isinstance(node, ast.IfExp):
        yield from texts_in(node.body)
        yield from texts_in(node.orelse)
    elif isinstance(node, ast.Call):
        for each in (*node.args, *(word.value for word in node.keywords)):
            yield from texts_in(each)


def messages(path: Path) -> Iterator[tuple[int, str]]:
    """The line and text of each message of a module: those with a space, which a word alone isn't."""
    for node in ast.walk(ast.parse(path.read_text())):
        told = None
        if isinstance(node, ast.Raise) and isinstance(node.exc, ast.Call):
            told = node.exc
        elif isinstance(node, ast.Call):
            name = node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "")
            told = node if name in TOLD_BY else None
        if told is not None:
            for text in texts_in(told):
                if " " in text.strip():
                    yield node.lineno, " ".join(text.split())


def main() -> None:
    """Print them, in the order of the files."""
    for path in sorted(SOURCE.rglob("*.py")):
        for line, text in sorted(set(messages(path))):
            sys.stdout.write(f"{path.relative_to(SOURCE)}:{line}: {text}\n")


if __name__ == "__main__":
    main()
