"""Policies: how waiting jobs affect one another in the plan."""

from typing import Literal

from msgspec import Struct

PolicyName = Literal["planned", "easy", "first-come"]


class Policy(Struct, frozen=True):
    """``all_hold_places``: every waiting job holds its place; else only the first does. ``strict``: jobs start in order."""

    all_hold_places: bool
    strict: bool


POLICIES: dict[PolicyName, Policy] = {
    "planned": Policy(all_hold_places=True, strict=False),
    "easy": Policy(all_hold_places=False, strict=False),
    "first-come": Policy(all_hold_places=False, strict=True),
}
