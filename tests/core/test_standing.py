"""How a listing stands: chosen by hand, at zero, and when stock is back. The check of its docstring, and the whole table."""

from __future__ import annotations

from decimal import Decimal as D

import pytest

from yuvrel.core.standing import AtZero, Standing, standing_of


@pytest.mark.parametrize(
    "chosen, at_zero, quantity, relists, rested, stands, rests",
    [
        ("live", "stay", 0, True, False, "live", False),
        ("live", "hide", 0, True, False, "hidden", False),
        ("live", "hide", 5, True, False, "live", False),
        ("live", "hide", 5, True, True, "live", False),
        ("live", "hide", 0, False, False, "hidden", True),
        ("live", "hide", 5, False, True, "hidden", True),
        ("live", "hide", 5, False, False, "live", False),
        ("live", "end", 0, True, False, "ended", False),
        ("live", "end", 5, False, True, "ended", True),
        # What stays visible at zero has nothing to wait for, whatever it waited for before.
        ("live", "stay", 5, False, True, "live", False),
        ("hidden", "stay", 5, True, False, "hidden", False),
        ("hidden", "end", 0, False, True, "hidden", False),
        ("ended", "hide", 5, True, False, "ended", False),
    ],
)
def test_how_it_stands(
    chosen: Standing, at_zero: AtZero, quantity: int, relists: bool, rested: bool, stands: Standing, rests: bool
) -> None:
    found = standing_of(chosen, at_zero, D(quantity), relists=relists, rested=rested)
    assert (found.standing, found.rests) == (stands, rests)
    assert found.reason
