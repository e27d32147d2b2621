"""Survey and Draft on a site of 2,000 nodes, and on one of ten."""

import re

import pytest

from lazy_quarry.app.app import QuarryApp
from lazy_quarry.app.shared.draft_shelf import DraftShelf
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.job.by import By
from lazy_quarry.core.site import Account, Closure, Node, Queue, Site, Software, Tier
from lazy_quarry.core.values import replace
from tests.app.support import press, text_of, wait_for
from tests.conftest import SiteUnderTest

SCRIPT = '#!/bin/sh\n# /// job\n# walltime = "1h"\n# memory = "1 GiB/core"\n# nodes = {nodes}\n# ranks = {nodes}\n# ///\ncat "$LQ_NODES"\n'


def client_of(site):
    """A site of the test's own, as the application reaches it."""
    return SiteUnderTest(site, lambda: 1_000_000_000)


def site_of(count):
    nodes = tuple(
        Node(f"n{number:04d}", 32, 131_072, traits=("fast",) if number % 4 else ("fast", "wide"))
        for number in range(1, count + 1)
    )
    names = tuple(node.name for node in nodes)
    half = count // 2
    return Site(
        "delta", "rehearsal", nodes, (Queue("all", names[:half], 86_400), Queue("rest", names[half:], 86_400)),
        (Account("a"),), (Tier("t"),), "all", "t", closures=(Closure(names[2], "a broken fan"),),
        software=tuple(Software(f"tool/{number}") for number in range(40)),
    )  # fmt: skip


@pytest.mark.parametrize("count", [10, 2000])
async def test_survey_folds_alike_nodes_and_draft_places_on_any_number(tmp_path, count):
    app = QuarryApp(lambda: client_of(site_of(count)), tmp_path, DraftShelf(tmp_path, "x"))
    async with app.run_test(size=(160, 47)) as pilot:
        await wait_for(pilot, lambda: app.board is not None and app.query("#nodes") and "ALL" in text_of(app, "#nodes"))
        await wait_for(pilot, lambda: app.query_one("#room").rooms)
        nodes = text_of(app, "#nodes")
        assert (
            re.search(r"✕ closed since .+: a broken fan", nodes)
            and f"{(count // 2 - 1) * 32:,} of {count // 2 * 32:,} cores free" in nodes
        )
        rows = app.query_one("#nodes")
        folded = rows.row_count()
        await press(pilot, "z", "end")
        await wait_for(pilot, lambda: f"n{count:04d}" in text_of(app, "#nodes"))
        assert rows.row_count() == count + 2 > folded
        await press(pilot, "2")
        await wait_for(pilot, lambda: app.query("#editor"))
        place = app.query_one("#place-draft")
        wide = count // 2 - 1
        place.put_text(SCRIPT.format(nodes=wide), "", True)
        await wait_for(pilot, lambda: place.report and place.report.place.node_count == wide)
        assert len(place.report.place.nodes) == min(64, wide)
        report = app.query_one("#report")
        if wide > 64:
            report.open = True
            report.redraw()
            assert any(
                "935 more nodes, 935 ranks" in "".join(piece[0] for piece in line.pieces) for line in report.lines
            )


async def test_a_draining_node_says_until_when(tmp_path):
    client = client_of(site_of(10))
    app = QuarryApp(lambda: client, tmp_path, DraftShelf(tmp_path, "x"))
    from lazy_quarry.core.engine.commands import CloseNode
    from lazy_quarry.core.header.submission import Submission

    receipt = client.submit(Submission(SCRIPT.format(nodes=1), "x", str(tmp_path)))
    node = client.job(receipt.job).nodes[0]
    client.session.commit(client.engine.decide(CloseNode(client.now(), node, By(why="a new disk"))))
    async with app.run_test(size=(160, 47)) as pilot:
        await wait_for(pilot, lambda: app.board is not None and app.query("#nodes") and "ALL" in text_of(app, "#nodes"))
        assert "✕ draining, empty by" in text_of(app, "#nodes")


async def test_a_site_of_one_node_shows_its_hours_and_the_last_ends_below_it(tmp_path):
    site = replace(site_of(4), nodes=site_of(4).nodes[:1], queues=(Queue("all", ("n0001",), 86_400),), closures=())
    client = client_of(site)
    for name in ("first", "second"):
        client.submit(
            Submission(
                SCRIPT.format(nodes=1).replace("# nodes", f'# name = "{name}"\n# threads = 32\n# nodes'),
                directory="/tmp",
            )
        )
    app = QuarryApp(lambda: client, tmp_path, DraftShelf(tmp_path, "x"))
    async with app.run_test(size=(160, 47)) as pilot:
        await wait_for(
            pilot, lambda: app.board is not None and app.query("#hours") and "second" in text_of(app, "#hours")
        )
        assert "THE HOURS OF N0001" in text_of(app, "#hours") and "nothing has ended lately" in text_of(
            app, "#ended-last"
        )
        assert app.focused.id == "nodes" and "its hours" in text_of(app, "#note")
        await press(pilot, "enter", "escape")
        assert app.focused.id == "nodes" and "second" in text_of(app, "#hours")
