"""Values as the database gives them, each of the type of its column.

SQLite keeps the type of a value beside it and holds no column to one: where a bit of that has turned, a text comes as bytes
or as a number, and nothing in the database is amiss.
"""

from collections.abc import Iterable, Iterator
from typing import Any

from sqlalchemy import Table


class WrongCell(TypeError):
    """A value of a type that its column doesn't hold; says which."""


_SEEN: dict[str, set[tuple[type, ...]]] = {}
"""By table, the types of rows that were looked at and found right: there are few, so a row costs one look."""


def right_cells(table: Table, rows: Iterable[Any]) -> Iterator[Any]:
    """The rows of a table, all columns of each; raises :class:`WrongCell` at the first value that is not its column's."""
    seen = _SEEN.setdefault(table.name, set())
    for row in rows:
        types = tuple(map(type, row))
        if types not in seen:
            for column, given in zip(table.columns, types, strict=True):
                if not (given is column.type.python_type or (given is type(None) and column.nullable)):
                    raise WrongCell(f"{table.name}.{column.name} holds {given.__name__}")
            seen.add(types)
        yield row
