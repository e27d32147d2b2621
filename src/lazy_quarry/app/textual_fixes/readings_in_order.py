"""Readings in order: a finding of a worker is never shown after those of a later one of its group.

A worker that another one takes the place of is cancelled, but its thread goes on, and what it finds comes whenever it is done: a
slow reading would put the file of a moment ago over what was read after it. It is shown where nothing later has come, so that a
view which is read again more often than a reading takes still moves on.
"""

from collections.abc import Callable
from contextlib import suppress
from itertools import count
from typing import Any
from weakref import WeakKeyDictionary

from textual.app import App
from textual.dom import DOMNode
from textual.worker import NoActiveWorker, Worker, get_current_worker

_numbers = count(1)
_number_of: WeakKeyDictionary[Worker[Any], int] = WeakKeyDictionary()
"""Workers in the order in which they were begun."""
_shown: WeakKeyDictionary[DOMNode, dict[str, int]] = WeakKeyDictionary()
"""By node and group the number of the latest worker of which something was shown."""


class BeginsInOrder(DOMNode):
    """A node whose workers are told apart by when they were begun."""

    def run_worker(self, *arguments: Any, **named: Any) -> Worker[Any]:
        """Run work in a worker."""
        worker: Worker[Any] = super().run_worker(*arguments, **named)
        _number_of[worker] = next(_numbers)
        return worker


def hand_over(app: App[Any], then: Callable[..., object], *arguments: Any) -> None:
    """From a thread: have the interface do something with what was found, unless it was found by a worker that another one has
    taken the place of, and something of that was shown. Raises :class:`RuntimeError` where the interface has ended.
    """
    worker: Worker[Any] | None = None
    with suppress(NoActiveWorker):
        worker = get_current_worker()
    app.call_from_thread(_take, worker, then, *arguments)


def _take(worker: Worker[Any] | None, then: Callable[..., object], *arguments: Any) -> object:
    if worker is not None:
        shown, number = _shown.setdefault(worker.node, {}), _number_of.get(worker, 0)
        if worker.is_cancelled and number < shown.get(worker.group, 0):
            return None
        shown[worker.group] = max(number, shown.get(worker.group, 0))
    return then(*arguments)
