"""The site file says what a machine's own finding can't: accounts, tiers, limits, windows, what standing goes by."""

import pytest

from lazy_quarry.site.site_file.site_file import SiteFileError, SiteFileWatch, schema, with_site_file
from tests.conftest import small_site

ACCOUNT = '[[accounts]]\nname = "silt"\n'
GOOD = """
policy = "easy"
[standing]
account = "8h"
half-life = "3d"
[limits.everyone]
running-jobs = 4
[limits.users.bo]
cores = 6
[[accounts]]
name = "reeds"
budget = 500
target = 3
[[tiers]]
name = "spare"
charge = 0.5
standing = "-6h"
gives-way = true
[[windows]]
begins = 2026-12-01T06:00:00Z
ends = 2026-12-01T12:00:00Z
nodes = "n1..n2"
reason = "new pumps"
"""


def test_every_value_of_a_site_file_is_taken_and_the_rest_keeps_its_default(tmp_path):
    path = tmp_path / "machine.toml"
    path.write_text(GOOD)
    site = with_site_file(small_site(), path)
    assert (site.policy, site.standing.account_h, site.standing.half_life_h) == ("easy", 8, 72)
    assert site.limits_of("ada").running_jobs == 4
    assert site.limits_of("bo").cores == 6
    assert site.account["reeds"].budget_core_hours == 500
    spare = site.tier["spare"]
    assert (spare.charge_permille, spare.standing_h, spare.gives_way) == (500, -6, True)
    assert "steady" in site.tier
    assert site.windows[0].nodes == ("n1", "n2")
    assert with_site_file(small_site(), tmp_path / "none.toml") == small_site()


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("policy = ", "line 1: not TOML"),
        ("\npolicy = 'easy\n", "line 2: not TOML: "),
        ("x = " + "[" * 200 + "]" * 200, "line 1: this is nested more than 100 levels deep"),
        ("plan-depth = " + "9" * 5000, "a number of more than 4,000 digits"),
        ("x" * 2**20 + "yz", "is longer than 1 MiB"),
        ('# ours\npolicy = "quick"', 'line 2: policy: "quick" is unknown; it is "planned", "easy" or "first-come"'),
        ("plan-deepth = 3", 'line 1: plan-deepth: there is no such key; did you mean "plan-depth"?'),
        ("[charging]\nqueues = { al = 2.0 }", 'line 2: charging.queues: there is no queue al; did you mean "all"?'),
        ("[charging]\nnodes = { n9 = 2.0 }", "line 2: charging.nodes: there is no node n9"),
        ('[charging]\nnodes = { "n 9" = 2.0 }', "line 2: charging.nodes: "),
        ('[charging]\nfree = ["done"]', "line 2: charging.free"),
        (ACCOUNT + 'parent = "sil"', "line 3: accounts.parent: there is no account sil"),
        (ACCOUNT + 'parent = "silt"', "line 3: accounts.parent: silt would be under itself"),
        (ACCOUNT + "carry-over = true", "line 3: accounts.carry-over: this needs each, and begins"),
        (ACCOUNT + "budget = 1\nbegins = 2026-02-01\nends = 2026-01-01", "line 5: accounts.ends: it ends before"),
        (ACCOUNT + "begins = 2026-02-01", "line 2: accounts.budget: it has a term and no core-hours"),
        (
            ACCOUNT + 'begins = "2026"',
            "line 3: accounts.begins: write it as a date, such as 2026-12-31, without quotes",
        ),
        (ACCOUNT + 'users = ["bo"]\ndefault-for = ["ada"]', "line 4: accounts.default-for: ada is not among its users"),
        (ACCOUNT + "warn-at = [120]", "line 3: accounts.warn-at"),
        ("[limits.queue]\ncoers = 3", 'line 2: limits.queue.coers: there is no such key; did you mean "cores"?'),
        ("[[tiers]]\nname = 's'\nstanding = 6", 'line 3: tiers.standing: write it as a duration, such as "6h"'),
        ("[limits.everyone]\ncores = -1", "line 2: limits.everyone.cores: -1 is too small; the least is 0"),
        (
            "[[accounts]]\nname = 'a'\n[[accounts]]\nname = 'b'\nbudget = 'lots'",
            'line 5: accounts.budget: "lots" is not a number',
        ),
        ("accounts = [{ name = 'a', budget = true }]", "line 1: accounts.budget: true is not a number"),
        ("[[accounts]]\nbudget = 4", "line 1: accounts.name: this is missing"),
        ("[[accounts]]\nname = 'a'\n[[accounts]]\nname = 'a'", "line 4: accounts.name: there are two called a"),
        ("accounts = 4", "line 1: accounts: 4 is not a list"),
        (
            "[[windows]]\nbegins = 2026-12-01T06:00:00Z\nends = 2026-12-01T05:00:00Z",
            "line 3: windows.ends: it ends before it begins",
        ),
        (
            "[[windows]]\nbegins = 2026-12-01T06:00:00Z\nends = 2026-12-01T07:00:00Z\nnodes = 'n7'",
            "line 4: windows.nodes: there is no node n7; there are n1, n2, n3",
        ),
    ],
)
def test_a_mistake_in_a_site_file_is_reported_with_its_place(tmp_path, text, told):
    path = tmp_path / "machine.toml"
    path.write_text(text)
    with pytest.raises(SiteFileError) as fault:
        with_site_file(small_site(), path)
    assert str(path) in str(fault.value)
    assert told in str(fault.value)


def test_all_of_several_mistakes_are_told_and_the_first_where_there_is_one_line(tmp_path):
    path = tmp_path / "machine.toml"
    path.write_text('policy = "quick"\nplan-depth = 0\n[standing]\nusers = "4h"\n')
    with pytest.raises(SiteFileError, match=r"line 1: .* \(and 2 more; lq site check tells all\)") as told:
        with_site_file(small_site(), path)
    assert [words.split(":")[1] for words in told.value.problems] == [" policy", " plan-depth", " standing.users"]


def test_a_fraction_of_a_core_hour_is_a_budget(tmp_path):
    path = tmp_path / "machine.toml"
    path.write_text('[[accounts]]\nname = "reeds"\nbudget = 0.25\nlimits = { core-hours-each = 0.1 }\n')
    account = with_site_file(small_site(), path).account["reeds"]
    assert account.budget_core_ms == 900_000 and account.limits.core_hours_each == 0.1


def test_the_last_good_file_holds_until_a_mistake_is_corrected(tmp_path):
    path, kept = tmp_path / "machine.toml", tmp_path / "kept.toml"
    path.write_text('polcy = "easy"')
    with pytest.raises(SiteFileError, match="polcy"):
        SiteFileWatch(small_site(), path, kept)  # no good one was ever seen
    path.write_text('policy = "easy"')
    watch = SiteFileWatch(small_site(), path, kept)
    assert watch.site.policy == "easy" and not watch.note()
    path.write_text('policy = "first-come"  # from now on')
    assert "lq renew makes the engine read it" in watch.note()
    path.write_text('policy = "never"')
    assert "the last good site file holds" in watch.note() and 'line 1: policy: "never" is unknown' in watch.note()
    later = SiteFileWatch(small_site(), path, kept)
    assert later.site.policy == "easy" and "holds" in later.note()
    path.unlink()
    assert "lq renew" in later.note()


def test_the_schema_says_what_the_file_may_hold():
    found = schema()
    assert set(found["properties"]) >= {"policy", "plan-depth", "accounts", "tiers", "windows", "limits", "keep"}
    assert found["$defs"]["TierTable"]["properties"]["standing"]["type"] == "string"
    assert found["additionalProperties"] is False


def test_accounts_and_charging_are_taken_as_they_are_written(tmp_path):
    path = tmp_path / "machine.toml"
    path.write_text(
        'operators = ["olga"]\n[charging]\nby = "cores"\nfree = ["lost", "retried"]\nnodes = { "n1..n2" = 96 }\n'
        "traits = { fast = 1.5 }\nqueues = { all = 0 }\n"
        '[[accounts]]\nname = "bay"\nusers = ["ada"]\ndefault-for = ["ada"]\nleads = ["olga"]\nmail = "a@b.example"\n'
        '[[accounts]]\nname = "silt"\nparent = "bay"\nbudget = 8\neach = "quarter"\nbegins = 2026-10-01\n'
        'ends = 2027-09-30\ncarry-over = true\nat-end = "give-way"\nwarn-at = [90, 50]\n'
    )
    site = with_site_file(small_site(), path)
    assert site.rates.sizes == (("n1", 96), ("n2", 96)) and site.rates.free == ("lost", "retried")
    assert site.node_rate["n1"] == (8, 0, 0, 144_000) and site.rates.factor_of("all") == 0
    silt, bay = site.account["silt"], site.account["bay"]
    assert (silt.budget_each, silt.carries_over, silt.warn_at, silt.at_end) == ("quarter", True, (50, 90), "give-way")
    assert silt.budget_ends_ms - silt.budget_begins_ms == 365 * 86_400_000
    assert site.lineage("silt") == ("silt", "bay") and site.under("bay") == ("bay", "silt")
    assert site.default_account("ada") == "bay" and site.default_account("bo") == "silt" and bay.mail == "a@b.example"
