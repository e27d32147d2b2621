"""What to ask for next time, as it is told: promised where that holds, else with the reason; and both walltimes where a few run long."""

import pytest

from lazy_quarry.cli.commands.advise import advice_json, advice_lines
from lazy_quarry.core.header.submission import Submission
from tests.conftest import SiteUnderTest, script, small_site
from tests.site.conftest import Clock

MINUTE = 60_000


def request(runtime, walltime="8h", more="", memory="40 MiB"):
    head = f'name = "solve"\nwalltime = "{walltime}"\nmemory = "64 MiB/core"\n{more}\n'
    return Submission(script(f'{head}[rehearsal]\nruntime = "{runtime}"\nmemory = "{memory}"'))


@pytest.fixture
def site():
    clock = Clock(1_700_000_000_000)
    made = SiteUnderTest(small_site(budget=None), clock)
    made.time = clock
    return made


def ran(site, *runtimes, **more):
    """Runs of one name, one after another; a number is minutes."""
    for runtime in runtimes:
        number = site.submit(request(f"{runtime}m", **more)).job
        while not site.job(number).phase.final:
            site.time.ms = max(site.time.ms + 1000, site.session.runner.next_report_ms() or 0)
            site.step()
    return number


def told(site, name="solve"):
    advised = site.advise(name)
    return advice_json(advised), " ".join(advice_lines(advised))


EVEN = [20, 21, 19, 20, 22, 20, 21, 19, 20, 21, 20, 19]


@pytest.mark.parametrize(
    ("runs", "more", "promise", "why"),
    [
        (EVEN, {}, 0.02, None),
        (EVEN[:4], {}, None, "so few runs say little"),
        ([5, 60] * 6, {}, None, "the runs differ too much for so few"),
        ([20, 20, 40], {"walltime": "30m"}, None, "so few runs say little"),
        ([40, 40], {"walltime": "30m"}, None, "all of them were stopped"),
        ([20, 40] * 3, {"walltime": "30m"}, None, "too many of the runs were stopped"),
    ],
)
def test_it_is_said_whether_anything_is_promised_and_why_not(site, runs, more, promise, why):
    ran(site, *runs, **more)
    found, text = told(site)
    assert found["promise"] == promise and (found["why"] or "").find(why or "") >= 0 and bool(found["why"]) == bool(why)
    assert ("should need more." in text) == (why is None) and ("Nothing is promised" in text) == bool(why)


def test_where_one_of_them_is_promised_the_other_is_told_apart(site):
    ran(site, *EVEN[:6], memory="20 MiB")
    ran(site, *EVEN[6:], memory="60 MiB")
    for runtime in EVEN[:3]:
        ran(site, runtime, memory="20 MiB")
    found, text = told(site)
    assert found["promise"] is None and found["why"] == "for its memory, the runs differ too much for so few"
    assert "At most one further run in 50 should need more time. Nothing is promised of its memory: the runs" in text


def test_a_change_is_told_with_its_day_and_stops_in_a_row_with_their_number(site):
    ran(site, *EVEN[:8], *(2 * one for one in EVEN[:6]))
    text = told(site)[1]
    assert "Since 15 Nov 2023 they take 2 times as long; this is from the 6 since." in text
    ran(site, 400, walltime="2h")
    ran(site, 400, walltime="4h")
    found, text = told(site)
    assert "The last 2 were all stopped: see whether they hang" in text and found["walltime_s"] >= 16 * 3600


@pytest.mark.parametrize(
    ("more", "costs"),
    [
        ("", "they lose what they did"),
        ('at-overtime = "again"', "they go back to the queue and go on where they were (at-overtime)"),
        ('retries = { times = 2, on = ["overtime"] }', "they begin anew with as little, up to 2 times (retries)"),
    ],
)
def test_where_a_few_run_far_longer_both_walltimes_are_told_with_what_a_stop_costs(site, more, costs):
    runs = [EVEN[at % 12] for at in range(31)]
    number = ran(site, *runs[:20], 240, *runs[20:], more=more)
    found, text = told(site, str(number))
    (shorter,) = found["shorter"]
    assert (shorter["enough_for"], shorter["runs"], shorter["costs"]) == (31, 32, costs)
    assert "31 of 32 were within 22m, all within 4h." in text and found["walltime_s"] > 4 * 3600
    assert f"would do for 31 of 32; the others are stopped: {costs}." in text
    for walltime, said in (("8h", "25m would do for those"), ("1h", "longer ones are stopped"), ("20m", "")):
        codes = {one.code: one.message for one in site.check(request("20m", walltime=walltime, more=more)).diagnostics}
        assert ("walltime-for-most" in codes) == bool(said) and said in codes.get("walltime-for-most", "")
        assert ("walltime-short" in codes) == (walltime == "20m")
