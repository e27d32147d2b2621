"""Figures: well-formed files with all their words, nothing outside of the page, and tones that are told apart."""

import re
import xml.etree.ElementTree as ET
from datetime import UTC, datetime
from itertools import combinations
from zoneinfo import ZoneInfo

import pytest
from hypothesis import Phase, given, settings
from hypothesis import strategies as st
from matplotlib.backends.backend_agg import FigureCanvasAgg
from pypdf import PdfReader

from lazy_quarry.core.advice.curves import result_curves
from lazy_quarry.core.advice.found_value import ValuePattern
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.job.expansion import Expansion
from lazy_quarry.core.units import DAY_MS, HOUR_MS
from lazy_quarry.demo.rehearsed import Rehearsed
from lazy_quarry.draw.figure import save
from lazy_quarry.draw.figures.chain_figures import chain_figure, chain_lanes_figure
from lazy_quarry.draw.figures.draft_figures import ladder_figure, placement_figure
from lazy_quarry.draw.figures.jobs_figures import lanes_figure, span_of
from lazy_quarry.draw.figures.nodes_figures import hours_figure, node_lanes_figure, nodes_figure
from lazy_quarry.draw.figures.runs_figures import distribution_figure, results_figure, usage_figure
from lazy_quarry.draw.figures.sweep_figures import expansion_figure
from lazy_quarry.draw.grounds import GROUNDS, PRINT, SIZES
from lazy_quarry.draw.paint import draw, painted
from lazy_quarry.draw.time_scale import time_scale
from lazy_quarry.draw.values import Bar, Cell, Curve, Edge, Field, Figure, Graph, Lane, Lanes, Plot, Plots, Scale, Slab
from lazy_quarry.errors import QuarryError
from lazy_quarry.site.run_comparison import points_of, result_rows
from tests.cli.test_chains import TWELVE, source
from tests.conftest import script

pytestmark = pytest.mark.filterwarnings("ignore:Glyph")


@pytest.fixture(scope="module")
def demo():
    rehearsed = Rehearsed(7)
    client = rehearsed.client()
    return client, client.board()


def every_figure(demo):
    """Each kind of figure of the demo, with words that must be in it."""
    client, board = demo
    mine = [view for view in board.jobs if view.user == "tove"]
    report = client.check(
        Submission(script('name = "flow"\nnodes = 3\nranks = 24\nthreads = 4\nwalltime = "3h"', "true"))
    )
    node = next(one.name for one in board.nodes if any(held.user == "tove" for held in one.occupants))
    yield nodes_figure(board), ["Nodes of oxbow", "c17", "lantern", "closed", "cores"]
    yield hours_figure(board, node), [f"The hours of {node}", "tove", "Mon 1 Mar 2027", "reserved"]
    names = [one.name for one in board.nodes]
    yield node_lanes_figure(board, names, board.now_ms - 4 * HOUR_MS, board.now_ms + DAY_MS), ["c01", "m04", "expected"]
    yield lanes_figure(board, mine, *span_of(mine, board.now_ms)), ["sediment-big", "waiting", "may still run"]
    yield placement_figure(report, "oxbow"), ["Where flow would run", "24 ranks of 4 threads", "one rank"]
    sweep = client.expand_job(next(view.job for view in mine if view.rows))
    tasks = Expansion(sweep.request, sweep.commands, sweep.written, sweep.job)
    states = {1: "mine", 2: "done"}
    yield (
        expansion_figure(tasks, "oxbow", board.now_ms, states=states),
        ["The tasks of surge-levels", "1.75", "fine", "not started"],
    )
    chain = client.report_chain(source(**TWELVE), [], {}).chain
    yield (
        chain_figure(chain, "oxbow"),
        ["Chain test", "part7", "report", "finishes", "begins", "12 jobs, all done about"],
    )
    yield chain_lanes_figure(chain, "oxbow"), ["may slip", "critical", "join"]
    ran = {view.name: view.job for view in client.jobs(ended=True, everyone=False)}
    one, many = client.detail(ran["surge-south"]), client.detail(ran["roughness-fit"])
    used = usage_figure(one, one.view.curve.samples, "oxbow", board.now_ms)
    yield used, ["surge-south used", "96 GiB requested", "cores busy", "since 05:22"]
    yield (
        distribution_figure(many, "oxbow", board.now_ms),
        ["tasks of roughness-fit", "how long a task ran", "40 tasks"],
    )
    rows = list(result_rows(client, many.tasks, ValuePattern("highest level")))
    curves = result_curves(points_of(rows))
    yield (
        results_figure(curves, "highest level", "oxbow", board.now_ms),
        ["highest level against roughness", "grid=finest"],
    )
    yield ladder_figure(report, "oxbow"), ["When flow would start", "3h", "fewer nodes", "as requested"]


@pytest.fixture(scope="module")
def drawable(demo):
    return list(every_figure(demo))


@pytest.mark.parametrize(("ground", "size"), [("print", "column"), ("chalk", "page"), ("dusk", "slide")])
def test_every_figure_is_well_formed_on_its_page_and_has_its_words(drawable, tmp_path, ground, size):
    """As PDF each on one of them: most of its time goes into cutting the letters that it needs out of their fonts."""
    turn = list(SIZES).index(size)
    for number, (figure, words) in enumerate(drawable):
        svg, pdf = tmp_path / f"{figure.name}.svg", tmp_path / f"{figure.name}.pdf"
        paper = painted(figure, GROUNDS[ground], size)
        save(paper, svg)
        told = " ".join(text.strip() for text in ET.parse(svg).getroot().itertext())
        for word in [*words, "as of 1 March 2027, 09:42 UTC"]:
            assert word in told, (figure.name, word)
        if number % len(SIZES) == turn:
            save(paper, pdf)
            (page,) = PdfReader(pdf).pages
            assert figure.title.split()[0] in page.extract_text()
            assert abs(float(page.mediabox.width) / 72 - SIZES[size][0]) < 0.01
        inside_the_page(paper)
    before = svg.read_bytes()
    draw(figure, svg, ground, size)
    assert svg.read_bytes() == before


def inside_the_page(paper):
    renderer = FigureCanvasAgg(paper).get_renderer()
    paper.draw_without_rendering()
    width, height = paper.get_size_inches() * paper.dpi
    texts = list(paper.texts)
    for axes in paper.axes:
        if axes.axison:
            texts += [*axes.get_xticklabels(), axes.xaxis.label]
    for text in texts:
        if text.get_text().strip():
            box = text.get_window_extent(renderer)
            assert box.x0 >= -1 and box.x1 <= width + 1 and box.y0 >= -1 and box.y1 <= height + 1, text.get_text()


anything = st.text(st.characters(exclude_categories=["Cs"]), max_size=80)
part = st.floats(-1e4, 1e4)
bars = st.builds(
    Bar, part, part, st.sampled_from([*PRINT.tones, "unknown"]), st.floats(0, 1), st.floats(0, 1), anything
)
lanes = st.builds(Lane, anything, st.lists(bars, max_size=3).map(tuple), anything, st.booleans(), st.booleans())
scales = st.builds(
    Scale, st.just(0.0), st.floats(0, 1e4), anything, st.lists(st.tuples(part, anything), max_size=5).map(tuple)
)
cells = st.builds(Cell, st.integers(0, 5), st.integers(0, 9), st.sampled_from(list(PRINT.tones)), anything)
fields = st.builds(
    Field,
    st.lists(anything, min_size=6, max_size=60).map(tuple),
    st.lists(anything, min_size=10, max_size=40).map(tuple),
    st.lists(cells, max_size=5).map(tuple),
    anything,
    anything,
)
slabs = st.builds(
    Slab, st.floats(1, 9), st.floats(1, 4), st.just(1.6), st.just(0.8), st.sampled_from(["mine", "failed"]),
    st.lists(anything, min_size=1, max_size=3).map(tuple), st.integers(1, 9), st.floats(0, 1),
)  # fmt: skip
edges = st.builds(
    Edge, st.just(((1.0, 1.0), (5.0, 3.0))), st.sampled_from(["solid", "broken", "double", "dotted", "ribbon"])
)
graphs = st.builds(
    Graph, st.just(10.0), st.just(5.0), st.lists(slabs, max_size=4).map(tuple), st.lists(edges, max_size=3).map(tuple)
)
curves = st.builds(
    Curve, st.lists(st.tuples(part, part), max_size=6).map(tuple), st.sampled_from(list(PRINT.tones)),
    st.sampled_from(["line", "area", "marks", "bars"]), st.sampled_from(["", "s"]), st.sampled_from(["", "dashed"]),
)  # fmt: skip
plots = st.builds(Plot, scales, st.lists(curves, max_size=3).map(tuple), st.none() | part, anything)
panels = st.one_of(
    st.builds(Plots, scales, st.lists(plots, min_size=1, max_size=3).map(tuple)),
    st.builds(Lanes, scales, st.lists(lanes, max_size=40).map(tuple)),
    fields,
    graphs,
)
figures = st.builds(
    Figure,
    name=st.just("any"),
    title=anything,
    panel=panels,
    source=anything,
    note=anything,
    legend=st.lists(st.tuples(st.sampled_from(["mine", "line-double", "expected"]), anything), max_size=5).map(tuple),
)


@settings(max_examples=30, deadline=None, phases=[Phase.explicit, Phase.reuse, Phase.generate])
@given(figures, st.sampled_from(list(SIZES)))
def test_whatever_is_drawn_lies_on_the_page_and_is_well_formed(tmp_path_factory, figure, size):
    path = tmp_path_factory.mktemp("drawn") / "any.svg"
    draw(figure, path, "print", size)
    ET.parse(path)
    inside_the_page(painted(figure, PRINT, size))


def test_on_paper_every_tone_is_told_from_every_other_in_grey():
    def grey(colour):
        red, green, blue = (int(colour[place : place + 2], 16) for place in (1, 3, 5))
        return (0.299 * red + 0.587 * green + 0.114 * blue) / 255

    used = {
        "clash",
        "critical",
        "asked",
        "rank-a",
        "rank-b",
        "start",
        "taken",
        "slab",
    }  # these stand beside one another alone
    for one, other in combinations(sorted(set(PRINT.tones) - used), 2):
        first, second = PRINT.tone(one), PRINT.tone(other)
        alike = (first.hatch, first.outlined) == (second.hatch, second.outlined)
        assert not alike or abs(grey(first.colour) - grey(second.colour)) > 0.06, (one, other)


@pytest.mark.parametrize("ground", GROUNDS.values(), ids=lambda ground: ground.name)
def test_hatchings_are_written_as_small_tiles_that_repeat_to_what_they_were(ground, tmp_path, monkeypatch):
    legend = tuple((role, role) for role in ground.tones)
    drawing = Figure(
        name="tones", title="Tones", panel=Lanes(scale=Scale(low=0, high=1), lanes=()), source="", legend=legend
    )
    draw(drawing, tmp_path / "small.svg", ground.name)
    monkeypatch.setattr("lazy_quarry.draw.figure.with_small_tiles", lambda svg: svg)
    draw(drawing, tmp_path / "whole.svg", ground.name)
    small, whole = ((tmp_path / f"{name}.svg").read_text() for name in ("small", "whole"))
    assert len(small) < 60_000 < len(whole)
    tiles = [dict(re.findall(r'<pattern id="(\w+)".*?<path d="([^"]*)"', svg, re.S)) for svg in (small, whole)]
    assert tiles[0].keys() == tiles[1].keys()
    for name, outlines in tiles[1].items():
        there, was = (
            {
                (round(float(x) % 12, 3) % 12, round(float(y) % 12, 3) % 12)
                for x, y in re.findall(r"M (\S+) (\S+)", each)
            }
            for each in (tiles[0][name], outlines)
        )
        assert there == was or len(outlines) < 10_000


@pytest.mark.parametrize("day", [datetime(2026, 3, 28, tzinfo=UTC), datetime(2026, 10, 24, tzinfo=UTC)])
def test_marks_of_time_are_at_round_hours_of_the_zone_across_a_change(day):
    begin = round(day.timestamp() * 1000)
    for span in (6 * HOUR_MS, 2 * DAY_MS, 20 * DAY_MS):
        scale = time_scale(begin, begin + span, None, ZoneInfo("Europe/Amsterdam"))
        places = [at for at, _ in scale.ticks]
        assert places == sorted(set(places)) and 3 <= len(places) <= 10
        for at in places:
            assert datetime.fromtimestamp(at / 1000, ZoneInfo("Europe/Amsterdam")).minute == 0


def test_a_figure_that_cannot_be_drawn_is_reported_and_leaves_no_file(demo, tmp_path):
    _, board = demo
    with pytest.raises(QuarryError, match="no node"):
        hours_figure(board, "c99")
    with pytest.raises(QuarryError, match=r"\.svg or \.pdf"):
        draw(nodes_figure(board), tmp_path / "a.png")
    with pytest.raises(QuarryError, match="cannot be written"):
        draw(nodes_figure(board), tmp_path / "none" / "a.svg")
    assert not list(tmp_path.iterdir())
