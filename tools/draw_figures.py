"""The figures that the documentation shows, drawn from the demo: a chain as a graph, one's jobs as lanes, the end of a budget."""

import sys
from pathlib import Path

from lazy_quarry.core.ledger.left import PAST
from lazy_quarry.core.units import HOUR_MS
from lazy_quarry.demo.rehearsed import Rehearsed
from lazy_quarry.draw.of_books import burn_down_figure
from lazy_quarry.draw.of_chain import chain_figure
from lazy_quarry.draw.of_jobs import lanes_figure
from lazy_quarry.draw.paint import draw
from lazy_quarry.link.in_process import InProcessClient
from lazy_quarry.site.chain_source import read_source


def main(folder: Path) -> None:
    """Write them into a folder."""
    rehearsed = Rehearsed(7)
    client = InProcessClient(rehearsed.site)
    board = client.board()
    source = read_source(str(Path(board.site.examples) / "season.toml"))
    chain = client.report_chain(source, [], {}).chain
    assert chain is not None
    draw(chain_figure(chain, board.site.name), folder / "chain.svg")
    mine = [view for view in board.jobs if view.user == board.person.user and view.parent is None]
    draw(lanes_figure(board, mine, board.now_ms - 6 * HOUR_MS, board.now_ms + 14 * HOUR_MS), folder / "lanes.svg")
    rehearsed.add_past(90)
    line = next(line for line in client.board().accounts if line.account == "tide-surge")
    past = client.over_time(PAST, "account", {"account": line.account})
    end = client.budget_ends()[line.account]
    draw(burn_down_figure(line, past, end, board.site.name, board.now_ms), folder / "burn-down.svg")


if __name__ == "__main__":
    main(Path(sys.argv[1]))
