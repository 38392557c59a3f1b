"""Edits of an order that has left in part: what is followed, and why the rest is not."""

from __future__ import annotations

from dataclasses import replace
from decimal import Decimal as D

import pytest

from yuvrel.core.edits import Begun, Edited, obstacle

HALF = Begun("Smoker", "item", 1, D(2), D(2), D("40.00"), D("9.20"))
OPEN = Begun("Gloves", "item", 2)
POSTAGE = Begun("Postage", "shipping", None, D(0), D(1), D("5.61"), D("1.29"))
HERE = {"1": HALF, "2": OPEN, "3": POSTAGE}
THERE = {
    "1": Edited("Smoker", "item", 1, D(4), D("80.00"), D("18.40")),
    "2": Edited("Gloves", "item", 2, D(1), D("20.00"), D("4.60")),
    "3": Edited("Postage", "shipping", None, D(1), D("5.61"), D("1.29")),
}
WHOLE = {"1": replace(THERE["1"], quantity=D(2), net=D("40.00"), tax=D("9.20")), "3": THERE["3"]}
WRAP = {"4": Edited("Gift wrapping", "surcharge", None, D(1), D("2.85"), D("0.65"))}


@pytest.mark.parametrize(
    "edited",
    [
        THERE,
        WHOLE,
        THERE | WRAP,
        THERE | {"1": replace(THERE["1"], quantity=D(9), net=D("180.00"))},
        THERE | {"2": replace(THERE["2"], item_id=7)},
        WHOLE | {"5": Edited("Veil", "item", 3, D(1), D("18.90"), D("4.35"))} | WRAP,
    ],
)
def test_what_has_not_left_may_be_anything(edited: dict[str, Edited]) -> None:
    assert obstacle(HERE, edited) == ""


@pytest.mark.parametrize(
    ("edited", "said"),
    [
        (THERE | {"1": replace(THERE["1"], quantity=D(1))}, "Of Smoker, 2 have left"),
        ({"2": THERE["2"], "3": THERE["3"]}, "Of Smoker, 2 have left"),
        (THERE | {"1": replace(THERE["1"], item_id=7)}, "made another thing of it"),
        (THERE | {"1": replace(THERE["1"], quantity=D(2), net=D("39.00"))}, "Smoker is invoiced; the channel charges another"),
        (THERE | {"1": replace(THERE["1"], quantity=D(3), net=D("30.00"))}, "comes to less now"),
        (THERE | {"3": replace(THERE["3"], net=D("7.00"))}, "Postage is invoiced"),
        ({"1": THERE["1"], "2": THERE["2"]}, "Postage is invoiced"),
        (WHOLE | WRAP, "Everything has left; Gift wrapping would never be invoiced"),
    ],
)
def test_what_has_left_or_is_invoiced_stands(edited: dict[str, Edited], said: str) -> None:
    assert said in obstacle(HERE, edited)


def test_an_order_of_nothing_is_not_followed() -> None:
    assert obstacle({"2": OPEN}, {}) == "The channel names nothing to send any more."
