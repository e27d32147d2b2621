"""Watch as a person uses it, by keys alone: finding, grouping, nodes, why, changes, order, marks, columns."""

from pathlib import Path

from lazy_quarry.app.shared.frame import NoteBar
from lazy_quarry.app.watch.change_pane import Changes
from lazy_quarry.app.watch.job_rows import JobRows
from lazy_quarry.app.watch.watch_list import Arranger, Choice
from lazy_quarry.core.job.job import Phase
from lazy_quarry.core.values import replace
from lazy_quarry.site.chain_source import read_source
from tests.app.support import demo, drawn, press, settled, text_of, wait_for


async def to_watch(app, pilot):
    await press(pilot, "4")
    await wait_for(pilot, lambda: app.query("#jobs") and app.query_one("#jobs").jobs)
    return app.query_one("#jobs")


def put_on(jobs, name):
    jobs.move(next(place for place, view in enumerate(jobs.jobs) if view.name == name))


async def test_finding_narrows_with_each_letter_and_escape_brings_all_back(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        jobs = await to_watch(app, pilot)
        every = len(jobs.jobs)
        await press(pilot, "slash", *"sedi")
        await wait_for(pilot, lambda: [view.name for view in jobs.jobs] == ["sediment-big"])
        assert "with “sedi”" in text_of(app, "#axis")
        await press(pilot, "enter", "escape")
        await wait_for(pilot, lambda: len(jobs.jobs) == every)
        await press(pilot, "slash", *"nothing-like-it", "enter")
        await wait_for(pilot, lambda: "Nothing here has" in app.query_one(NoteBar).text)


async def test_a_range_is_drawn_in_its_lane_and_told_in_the_note(tmp_path):
    async with demo(tmp_path, ranges=True) as (app, pilot):
        jobs = await to_watch(app, pilot)
        await wait_for(pilot, lambda: any(view.range for view in jobs.jobs if view.name == "eel-season"))
        put_on(jobs, "eel-season")
        await wait_for(pilot, lambda: "8 times in 10 between" in app.query_one(NoteBar).text)
        lane = next(line for line in text_of(app, "#jobs").splitlines() if "eel-season" in line)
        assert "·▸·" in lane and "starts " in lane


async def test_groups_have_headings_that_fold_and_the_cursor_stays_on_its_job(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        jobs = await to_watch(app, pilot)
        put_on(jobs, "sediment-big")
        await press(pilot, "g")
        await settled(pilot)
        assert jobs.current().name == "sediment-big"
        assert "WAITING" in text_of(app, "#jobs")
        jobs.move(0)
        heading, shown = jobs.row().words, len(jobs.arranged.rows)
        await press(pilot, "z")
        await wait_for(pilot, lambda: len(jobs.arranged.rows) < shown)
        assert jobs.row().words == heading


async def test_nodes_are_lanes_with_the_jobs_on_them(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        jobs = await to_watch(app, pilot)
        put_on(jobs, "surge-north")
        await press(pilot, "m", "m", "b")
        await settled(pilot)
        assert [row.node.name for row in jobs.arranged.rows] == [node.name for node in app.board.nodes]
        assert "closed: memory errors" in text_of(app, "#jobs")
        busy = next(place for place, row in enumerate(jobs.arranged.rows) if row.node.occupants)
        jobs.move(busy)
        await wait_for(pilot, lambda: "become free by" in app.query_one(NoteBar).text)
        await press(pilot, "z")
        await wait_for(pilot, lambda: jobs.jobs)
        assert {occupant.job for occupant in jobs.row().node.occupants} <= {view.job for view in jobs.jobs}
        await press(pilot, "b")
        await wait_for(pilot, lambda: jobs.current() is not None and jobs.current().name == "surge-north")


async def test_why_names_the_standing_and_who_is_ahead(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        jobs = await to_watch(app, pilot)
        put_on(jobs, "estuary-long")
        await press(pilot, "w")
        await wait_for(pilot, lambda: "in the queue; its standing" in text_of(app, "#why-lines"))
        text = text_of(app, "#why-lines")
        assert "Waits for" in text and "ahead" in text and "waited" in text
        await press(pilot, "escape")
        assert app.query_one("#ground").display


async def test_why_of_an_array_that_runs_speaks_of_its_next_task(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        jobs = await to_watch(app, pilot)
        put_on(jobs, "surge-levels")
        await press(pilot, "w")
        await wait_for(pilot, lambda: "as many as at-once allows" in text_of(app, "#why-lines"))
        assert text_of(app, "#why-lines").count("→") == 1 and "5 at once" in text_of(app, "#why-lines")


async def test_a_change_chosen_from_the_ladder_is_made_and_keeps_the_number(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        jobs = await to_watch(app, pilot)
        put_on(jobs, "estuary-long")
        number = jobs.current().job
        await press(pilot, "e")
        rows = app.query_one(Changes)
        await wait_for(pilot, lambda: rows.rows)
        change = rows.rows[0][0]
        await press(pilot, "enter")
        await wait_for(pilot, lambda: app.query_one("#ground").display)
        job = app.client.site.session.engine.state.jobs[number]
        assert job.request.walltime_s < 3 * 86_400 and dict(change.set)["walltime"]
        await wait_for(
            pilot, lambda: any(view.job == number and view.forecast_ms == change.start_ms for view in jobs.jobs)
        )


async def test_a_change_typed_by_hand_that_is_wrong_says_why_and_changes_nothing(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        jobs = await to_watch(app, pilot)
        put_on(jobs, "sediment-big")
        before = app.client.site.session.engine.state.jobs[jobs.current().job].request
        await press(pilot, "e")
        await wait_for(pilot, lambda: app.query_one(Changes).rows)
        await press(pilot, *"nodes=99", "enter")
        await wait_for(pilot, lambda: "stays as it is" in app.query_one(NoteBar).text)
        assert app.client.site.session.engine.state.jobs[jobs.current().job].request == before


async def test_ones_own_jobs_move_among_themselves(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        jobs = await to_watch(app, pilot)
        before = app.client.turns()
        put_on(jobs, "estuary-long")
        own = before.index(jobs.current().job)
        await press(pilot, "shift+up")
        await wait_for(pilot, lambda: app.client.turns() != before)
        assert app.client.turns() == [*before[: own - 1], before[own], before[own - 1], *before[own + 1 :]]


async def test_marked_jobs_are_held_together_and_cancelled_after_one_question(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        jobs = await to_watch(app, pilot)
        for name in ("eel-season", "sediment-big"):
            put_on(jobs, name)
            await press(pilot, "t")
        chosen = set(jobs.marked)
        assert len(chosen) == 2 and "2 marked" in text_of(app, "#axis")
        await press(pilot, "h")
        state = app.client.site.session.engine.state
        await wait_for(pilot, lambda: all(state.jobs[number].phase is Phase.HELD for number in chosen))
        assert jobs.marked == chosen  # marks stay, for what is to be done next
        assert all(str(number) in app.query_one(NoteBar).text for number in chosen)
        await press(pilot, "x")
        await wait_for(pilot, lambda: app.screen.query("#question"))
        await press(pilot, "escape")
        assert all(number in state.jobs for number in chosen)
        await press(pilot, "escape")
        await wait_for(pilot, lambda: not jobs.marked)


async def test_columns_are_taken_in_widened_and_kept(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        jobs = await to_watch(app, pilot)
        await press(pilot, "c", "down", "down", "down", "enter", "right", "right", "escape")
        await settled(pilot)
        assert jobs.widths["queue"] == 10
        assert "tidal" in text_of(app, "#jobs")
    async with demo(tmp_path) as (app, pilot):
        jobs = await to_watch(app, pilot)
        assert jobs.widths["queue"] == 10


async def test_output_is_followed_and_graphs_show_what_is_measured(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        jobs = await to_watch(app, pilot)
        jobs.move(0)
        await wait_for(pilot, lambda: app.query_one("#ground").samples)
        assert "busy now" in text_of(app, "#ground")
        await press(pilot, "o")
        await wait_for(pilot, lambda: "step" in text_of(app, "#output-lines"))
        app.client.rehearsed.advance(app.client.rehearsed.now_ms + 600_000)
        await wait_for(pilot, lambda: "step" in text_of(app, "#output-lines"))


async def test_a_job_that_has_ended_runs_again_as_a_new_one(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        jobs = await to_watch(app, pilot)
        put_on(jobs, "levels-check")
        before = len(app.client.jobs())
        await press(pilot, "u")
        await wait_for(pilot, lambda: "core-hours of tide-surge" in drawn(app.screen.query_one("#again-foot")))
        await press(pilot, "enter")  # the safe answer
        await settled(pilot)
        assert len(app.client.jobs()) == before
        await press(pilot, "u")
        await wait_for(pilot, lambda: app.screen.query("#again-foot"))
        await press(pilot, *"walltime=20m", "tab", "enter")
        await wait_for(pilot, lambda: "runs again as" in app.query_one(NoteBar).text)
        assert "walltime=20m" in app.query_one(NoteBar).text


async def test_a_careless_job_is_marked_and_the_note_says_what_is_wrong(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        jobs = await to_watch(app, pilot)
        place = next(place for place, view in enumerate(jobs.jobs) if view.warning)
        jobs.move(place)
        assert "!" in text_of(app, "#jobs").split("\n")[place]
        await wait_for(pilot, lambda: "busy in the last ten minutes" in app.query_one(NoteBar).text)


async def test_rows_are_the_same_however_they_are_searched(tmp_path):
    async with demo(tmp_path) as (app, _):
        arranger, choice = Arranger(), Choice("everyone")
        for words in ("e", "ee", "eel tidal", "eel", "waiting"):
            rows = arranger.arrange(app.board, replace(choice, find=words)).rows
            fresh = Arranger().arrange(app.board, replace(choice, find=words)).rows
            assert [row.key for row in rows] == [row.key for row in fresh]


async def test_any_action_is_found_by_words_and_those_that_do_not_apply_say_when(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await press(pilot, "4")
        await wait_for(pilot, lambda: app.query("#jobs") and app.query_one("#jobs").current())
        await press(pilot, "ctrl+p")
        await wait_for(pilot, lambda: app.screen.query("#found"))
        found = app.screen.query_one("#found")
        shown = {one.key: one for one in reversed(found.entries)}
        assert shown["h"].run is None and shown["h"].reason.startswith(
            "on a job of yours that waits"
        )  # the first one runs
        assert shown["x"].run is not None and shown["T"].run is not None
        assert {"1", "6", "ctrl+q", "?", "ctrl+t"} <= {one.key for one in found.entries}
        await press(pilot, *"hold what", "enter")
        await settled(pilot)
        assert app.screen.query("#found")  # it can't be done, so nothing is
        await press(pilot, "ctrl+u", *"nothing-like-it")
        assert "Nothing that can be done here is called so" in drawn(found)
        await press(pilot, "ctrl+u", *"go to led")
        await wait_for(pilot, lambda: found.entries[0].words == "go to Ledger")
        await press(pilot, "enter")
        await wait_for(pilot, lambda: app.place == "ledger" and not app.screen.query("#found"))
        await press(pilot, "ctrl+p", "escape")
        await wait_for(pilot, lambda: not app.screen.query("#found"))


async def test_a_chain_is_one_row_that_opens_and_what_waits_in_it_has_a_forecast(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        path = str(Path(app.board.site.examples) / "season.toml")
        receipt = app.client.submit_chain(read_source(path))
        await to_watch(app, pilot)
        rows = app.query_one(JobRows)

        def chain():
            return next((at for at, row in enumerate(rows.arranged.rows) if row.key == ("chain", receipt.chain)), None)

        await wait_for(pilot, lambda: chain() is not None)
        rows.move(chain())
        await settled(pilot)
        shown = text_of(app, "#jobs")
        assert "season   chain of 5 jobs" in shown and "0 of 5 done, 1 running" in shown and "gather" not in shown
        assert "enter opens it in Chain" in app.query_one(NoteBar).text
        await press(pilot, "z")
        await wait_for(pilot, lambda: "gather" in text_of(app, "#jobs"))

        def gather():
            return next(view for view in app.board.jobs if view.job == dict(receipt.jobs)["gather"])

        app.read_board()
        await wait_for(pilot, lambda: gather().forecast_ms is not None)
        assert gather().phase is Phase.BLOCKED and gather().forecast_ms > app.board.now_ms
        rows.move(chain())
        await press(pilot, "h")
        await wait_for(pilot, lambda: gather().phase is Phase.HELD)
        await press(pilot, "r")
        await wait_for(pilot, lambda: gather().phase is Phase.BLOCKED)
        await press(pilot, "x")
        await wait_for(pilot, lambda: app.screen.query("#question"))
        assert "Cancel chain 1 season? 5 of its jobs" in drawn(app.screen.query_one("#question"))
        await press(pilot, "escape", "enter")
        await wait_for(pilot, lambda: app.place == "chain" and app.query_one("#parts").view is not None)
        assert app.query_one("#chains").current().number == receipt.chain


async def test_tasks_that_have_not_started_are_held_and_cancelled_from_their_row(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await to_watch(app, pilot)
        rows = app.query_one(JobRows)
        array = next(
            view for view in rows.jobs if view.rows and dict(view.counts).get("waiting") and view.phase is Phase.RUNNING
        )
        await press(pilot, "home")
        rows.move(rows.arranged.place_of(("job", array.job)))
        await press(pilot, "z")
        await wait_for(pilot, lambda: ("rest", array.job) in [row.key for row in rows.arranged.rows])
        rows.move(rows.arranged.place_of(("rest", array.job)))

        def counts():
            return dict(next(view for view in app.board.jobs if view.job == array.job).counts)

        before = counts()["waiting"]
        await press(pilot, "x")
        await wait_for(pilot, lambda: app.screen.query("#question"))
        assert f"{before} tasks of {array.job} that have not started" in drawn(app.screen.query_one("#question"))
        await press(pilot, "y")
        await wait_for(pilot, lambda: "waiting" not in counts() and counts()["cancelled"] >= before)
        assert counts()["running"]
