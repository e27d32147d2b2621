"""Following jobs: what they print, and when they have ended."""

from __future__ import annotations

import time
from collections.abc import Iterator
from typing import TYPE_CHECKING, Literal

from lazy_quarry.errors import EngineAway

if TYPE_CHECKING:
    from lazy_quarry.link.site_client import SiteClient
    from lazy_quarry.run.runner import OutputChunk
    from lazy_quarry.views.job_view import JobView


def follow_output(
    client: SiteClient, number: int, which: Literal["output", "errors"], follow: bool
) -> Iterator[OutputChunk]:
    """Pieces of what a job prints; with ``follow`` until it has ended."""
    at = 0
    while True:
        over = not follow or client.job(number).phase.final
        piece = client.output(number, which, at)
        while piece.text:
            yield piece
            at = piece.next_byte
            piece = client.output(number, which, at)
        if over:
            yield piece
            return
        time.sleep(0.2)


def wait_for(client: SiteClient, numbers: list[int]) -> Iterator[JobView]:
    """Each job as soon as it has ended. The engine may go and come back meanwhile."""
    left = dict.fromkeys(numbers)
    version, away = -1, 0
    while left:
        try:
            for number in list(left):
                view = client.job(number)
                if view.phase.final:
                    del left[number]
                    yield view
            away = 0
        except EngineAway:
            away += 1
            if away > 20:
                raise
            time.sleep(0.5)
        if left:
            version = client.changes(version, 1.0)
