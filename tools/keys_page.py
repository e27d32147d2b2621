"""Writes the tables of keys in docs/places.md anew, from the bindings."""

import re
from pathlib import Path

from lazy_quarry.app.key_table import sentence_lines, table_lines

PAGE = Path(__file__).parents[1] / "docs" / "places.md"


def page(text: str) -> str:
    """The page with its tables as the bindings are now."""
    for name, lines in (("table", table_lines()), ("sentences", sentence_lines())):
        inside = "\n".join(lines).strip()
        begin, end = f"<!-- keys: {name} -->", "<!-- end -->"
        text = re.sub(
            f"{re.escape(begin)}.*?{re.escape(end)}",
            lambda _, new=f"{begin}\n{inside}\n{end}": new,
            text,
            flags=re.DOTALL,
        )
    return text


if __name__ == "__main__":
    PAGE.write_text(page(PAGE.read_text()))
