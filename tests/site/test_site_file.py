"""The site file says what a machine's own finding can't: accounts, tiers, limits, windows, what standing goes by."""

import pytest

from lazy_quarry.site.site_file import SiteFileError, with_site_file
from tests.conftest import small_site

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


def test_all_that_it_says_is_taken_and_the_rest_stays(tmp_path):
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
        ("policy = ", "is not TOML"),
        ('policy = "quick"', "policy: Input should be 'planned', 'easy' or 'first-come'"),
        ("depth = 3", "depth: there is no such key"),
        ("[[tiers]]\nname = 's'\nstanding = 6", 'tiers.1.standing: write it as a duration, such as "6h"'),
        ("[limits.everyone]\ncores = -1", "limits.everyone.cores: Input should be greater than or equal to 0"),
        (
            "[[windows]]\nbegins = 2026-12-01T06:00:00Z\nends = 2026-12-01T05:00:00Z",
            "windows.1: it ends before it begins",
        ),
        (
            "[[windows]]\nbegins = 2026-12-01T06:00:00Z\nends = 2026-12-01T07:00:00Z\nnodes = 'x9'",
            "windows.1: there is no node x9",
        ),
    ],
)
def test_what_is_wrong_is_told_with_its_place(tmp_path, text, told):
    path = tmp_path / "machine.toml"
    path.write_text(text)
    with pytest.raises(SiteFileError) as fault:
        with_site_file(small_site(), path)
    assert str(path) in str(fault.value)
    assert told in str(fault.value)
