"""A sweep read before it runs: each task with its parameters, the commands it will run, and the files it will write.

A task is made when it is looked at, so that a million of them cost what those in sight cost. Finding and sorting go by
the parameters' values, of which there are few, and by places in arrays.
"""

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence

import numpy as np
from msgspec import Struct

from lazy_quarry.core.job.clashes import MOST_WRITTEN_OUT, filled, first_clash, template_of
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.paths import JOINED, fill_in, filled_path


class Task(Struct, frozen=True):
    """One task as it will run. ``writes`` are the files beside output and errors, as far as the script shows them."""

    number: int
    parameters: tuple[tuple[str, str], ...]
    command: str
    output: str
    errors: str
    writes: tuple[str, ...]


class Clash(Struct, frozen=True):
    """Two tasks, by their numbers, that write one file."""

    tasks: tuple[int, int]
    path: str


class Expansion:
    """The tasks of an array.

    ``commands`` are the lines of the script that use what tells tasks apart, as they stand there; ``redirected`` the
    files that its commands write, as they stand there;
    ``job`` is its number once it was submitted. Places count from 0, in the order that is set.
    """

    def __init__(
        self, request: Request, commands: Sequence[str] = (), redirected: Sequence[str] = (), job: int = 0
    ) -> None:
        assert request.array is not None
        self.request, self.array = request, request.array
        self.names = self.array.names
        self.commands, self.job = tuple(commands), job
        self.written = [path for word in redirected if (path := template_of(word, request.array))]
        self.made = [*request.stage.out, *request.expect]
        self._order: np.ndarray | None = None
        self._backwards = False
        self.sorted_by = ""

    def __len__(self) -> int:
        return self.array.count if self._order is None else len(self._order)

    def task(self, place: int) -> Task:
        """The task at a place of the present order."""
        if self._order is not None:
            place = int(self._order[place])
        array, number = self.array, self.array.number(place)
        values = array.values(place)
        words = {"name": self.request.name, "task": str(number), **values}
        if self.job:
            words["job"] = str(self.job)
        shell = {**values, "LQ_TASK": str(number), "LQ_NAME": self.request.name}
        if array.nodes:
            words["node"] = array.nodes[place]
        output = filled_path(self.request.output, words)
        errors = output if self.request.errors == JOINED else filled_path(self.request.errors, words)
        made = [fill_in(path, words) for path in self.made] + [filled_path(path, words) for path in self.written]
        return Task(
            number,
            tuple(values.items()),
            "; ".join(filled(line, shell) for line in self.commands) or self._arguments(words),
            output,
            errors,
            tuple(dict.fromkeys(path for path in made if path not in (output, errors))),
        )

    def _arguments(self, words: Mapping[str, str]) -> str:
        return " ".join(fill_in(word, words) for word in self.request.arguments)

    def rows(self, first: int = 0, most: int | None = None) -> Iterator[Task]:
        """Tasks from a place on, in the present order."""
        last = len(self) if most is None else min(len(self), first + most)
        return (self.task(place) for place in range(max(0, first), last))

    def clashes(self) -> list[Clash]:
        """For each file that two tasks would write, the first two; decided by the parts of its name."""
        found = []
        for template, pair in self._pairs():
            one, other = (self.array.number(at) for at in pair)
            path = filled_path(template, {"name": self.request.name, **self.array.values(pair[0])})
            found.append(Clash((one, other), path))
        return found

    def _pairs(self) -> Iterator[tuple[str, tuple[int, int]]]:
        for template in dict.fromkeys((self.request.output, self.request.errors, *self.written, *self.made)):
            if template == JOINED or template.startswith("/dev/"):
                continue
            pair = first_clash(self.array, template.replace("{node}", "{task}") if self.array.nodes else template)
            if pair is not None:
                yield template, pair

    def clashing(self) -> set[int]:
        """The numbers of all tasks that share a file with another one; of more than ten thousand only the first ones."""
        shared = set[int]()
        for template, pair in self._pairs():
            if self.array.count > MOST_WRITTEN_OUT:
                shared |= {self.array.number(at) for at in pair}
                continue
            names = [filled_path(template, self.array.values(at)) for at in range(self.array.count)]
            often = Counter(names)
            shared |= {self.array.number(at) for at, name in enumerate(names) if often[name] > 1}
        return shared

    # -- finding and sorting -----------------------------------------------------------------------

    def show(self, find: str = "", sort: str = "", backwards: bool = False) -> None:
        """Show the tasks that have all of these words, in the order of a parameter (or ``task``)."""
        kept = self._found(find) if find.strip() else None
        self.sorted_by = sort
        if sort in self.names:
            ranks = self._ranks(sort)
            places = np.arange(self.array.count) if kept is None else kept
            order = np.argsort(ranks[self._at(sort, places)], kind="stable")
            kept = places[order[::-1] if backwards else order]
        elif backwards:
            kept = (np.arange(self.array.count) if kept is None else kept)[::-1]
        self._order = kept

    def _at(self, name: str, places: np.ndarray) -> np.ndarray:
        """The places among its values that a parameter has for these tasks."""
        after = 1
        for group in reversed(self.array.groups):
            size = len(group[0].values)
            if any(one.name == name for one in group):
                return places // after % size
            after *= size
        raise KeyError(name)

    def _values(self, name: str) -> tuple[str, ...]:
        return next(one.values for group in self.array.groups for one in group if one.name == name)

    def _ranks(self, name: str) -> np.ndarray:
        """The order of a parameter's values: as numbers where all are, else as text."""
        values = self._values(name)
        try:
            keys: list[object] = [(float(value), place) for place, value in enumerate(values)]
        except ValueError:
            keys = [(value, place) for place, value in enumerate(values)]
        ranks = np.empty(len(values), dtype=np.int64)
        ranks[sorted(range(len(values)), key=keys.__getitem__)] = np.arange(len(values))  # type: ignore[arg-type]
        return ranks

    def _found(self, find: str) -> np.ndarray:
        places = np.arange(self.array.count)
        for word in find.casefold().split():
            has = np.zeros(len(places), dtype=bool)
            for name in self.names:
                hit = np.array([word in f"{name}={value}".casefold() for value in self._values(name)])
                if hit.any():
                    has |= hit[self._at(name, places)]
            if word.isdecimal() and (at := self.array.index(int(word))) is not None:
                has |= places == at
            if self.array.nodes:
                has |= np.array([word in node for node in self.array.nodes])[places]
            places = places[has]
        return places
