"""Changes of an account, as they are typed in Ledger."""

import pytest

from lazy_quarry.app.ledger.account_change import AccountChange, parse_change
from lazy_quarry.core.units import HOUR_MS
from lazy_quarry.errors import BadValue


@pytest.mark.parametrize(
    ("text", "change"),
    [
        ("add noor", AccountChange("silt", "add", other="noor")),
        (" remove   noor ", AccountChange("silt", "remove", other="noor")),
        ("grant 1,500 a late cruise", AccountChange("silt", "grant", 1500 * HOUR_MS, why="a late cruise")),
        ("grant -2.5: not used", AccountChange("silt", "grant", -5 * HOUR_MS // 2, why="not used")),
        ("grant 5 to the crew", AccountChange("silt", "grant", 5 * HOUR_MS, why="to the crew")),
        ("move 200 to reeds for it", AccountChange("silt", "move", 200 * HOUR_MS, "reeds", "for it")),
    ],
)
def test_a_change_in_words(text, change):
    assert parse_change(text, "silt") == change


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("grant", "write"),
        ("grant many x", "no number of core-hours"),
        ("grant 5", "say why"),
        ("move 5 away", "to which account"),
        ("move 5 to reeds", "say why"),
        ("add", "write"),
        ("add a b", "write"),
    ],
)
def test_a_change_that_cannot_be_read_is_answered_with_how_to_write_one(text, told):
    with pytest.raises(BadValue, match=told):
        parse_change(text, "silt")
