"""Tables that measurements write into pages of the docs, between two marks."""

from collections.abc import Iterable
from pathlib import Path


def put(page: Path, name: str, lines: Iterable[str]) -> None:
    """Put lines between ``<!-- NAME -->`` and the next ``<!-- end``, in place of what stands there."""
    before, begin, rest = page.read_text().partition(f"<!-- {name} -->\n")
    _, end, after = rest.partition("<!-- end")
    if not (begin and end):
        raise SystemExit(f"{page} has no <!-- {name} --> with an end")
    page.write_text(f"{before}{begin}" + "\n".join(lines) + f"\n{end}{after}")
