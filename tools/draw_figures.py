"""The figures of the documentation, drawn from the demo: a chain as a graph, jobs as lanes, the end of a budget, a report."""

import shutil
import subprocess
import sys
from datetime import UTC
from pathlib import Path
from tempfile import TemporaryDirectory

from lazy_quarry.core.ledger.left import PAST
from lazy_quarry.core.units import HOUR_MS
from lazy_quarry.demo.rehearsed import Rehearsed
from lazy_quarry.draw.figures.books_figures import burn_down_figure
from lazy_quarry.draw.figures.chain_figures import chain_figure
from lazy_quarry.draw.figures.jobs_figures import lanes_figure
from lazy_quarry.draw.pages.period_document import printed_report, read_answers
from lazy_quarry.draw.pages.printed_pages import write_pages
from lazy_quarry.draw.paint import draw
from lazy_quarry.link.in_process import InProcessClient
from lazy_quarry.site.chain_source import read_source


def main(folder: Path) -> None:
    """Write them into a folder."""
    rehearsed = Rehearsed(7)
    client = rehearsed.client()
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
    _printed(client, line.account, folder)


def _printed(client: InProcessClient, account: str, folder: Path) -> None:
    """Two pages of a report as PNG, where poppler can make them."""
    if shutil.which("pdftoppm") is None:
        print(
            "pdftoppm is missing, so the pages of the report stay as they are; on Debian: apt-get install poppler-utils"
        )
        return
    with TemporaryDirectory() as place:
        pdf = Path(place) / "report.pdf"
        write_pages(printed_report(read_answers(client, "2027-02", {"account": account}), UTC), pdf)
        for page in ("1", "3"):
            out = folder / f"report-page-{page}"
            subprocess.run(
                ["pdftoppm", "-png", "-r", "75", "-singlefile", "-f", page, "-l", page, pdf, out], check=True
            )


if __name__ == "__main__":
    main(Path(sys.argv[1]))
