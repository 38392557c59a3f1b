"""Goods between two places: nothing of their units or value stays behind, whatever arrives in whatever order."""

from __future__ import annotations

from decimal import Decimal as D

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yuvrel.core import postings
from yuvrel.core.errors import RefusedError
from yuvrel.core.postings import Role
from yuvrel.core.transit import Part, still_out, take

SENT = [Part(1, D(4), D("10.00")), Part(2, D(3), D("7.51")), Part(None, D(2), D("5.00"))]


def test_parts_arrive_in_the_order_in_which_they_left() -> None:
    assert take(SENT, D(5)) == [Part(1, D(4), D("10.00")), Part(2, D(1), D("2.50"))]
    left = still_out(SENT, take(SENT, D(5)))
    assert left == [Part(2, D(2), D("5.01")), Part(None, D(2), D("5.00"))]
    assert take(left, D(4)) == left
    assert still_out(SENT, SENT) == []


def test_no_more_is_settled_than_left() -> None:
    with pytest.raises(RefusedError, match="Only 9 are on the way"):
        take(SENT, D(10))
    with pytest.raises(RefusedError, match="5 are settled of 4 that left"):
        still_out(SENT, [Part(1, D(5), D("12.50"))])
    with pytest.raises(RefusedError, match="More is settled than left"):
        still_out(SENT, [Part(9, D(1), D("1.00"))])


PARTS = st.lists(
    st.tuples(st.sampled_from([None, 1, 2, 3]), st.integers(1, 40), st.integers(0, 9999)), min_size=1, max_size=6
).map(lambda drawn: [Part(lot, D(units), D(cents) / 100) for lot, units, cents in drawn])


@given(PARTS, st.data())
def test_whatever_arrives_units_and_value_add_up_to_what_left(sent: list[Part], data: st.DataObject) -> None:
    settled: list[Part] = []
    while out := still_out(sent, settled):
        on_the_way = sum(part.units for part in out)
        units = D(data.draw(st.integers(1, int(on_the_way))))
        now = take(out, units)
        assert sum(part.units for part in now) == units
        assert all(part.value >= 0 for part in now)
        settled += now
    assert sum(part.units for part in settled) == sum(part.units for part in sent)
    assert sum(part.value for part in settled) == sum(part.value for part in sent)


def test_what_a_transfer_posts() -> None:
    """Goods in transit against Inventory, and back on arrival."""
    out = postings.sent_off([(7, D("12.00"))])
    assert [(line.role, line.amount) for line in out] == [(Role.IN_TRANSIT, D("12.00")), (Role.INVENTORY, D("-12.00"))]
    back = postings.arrived([(7, D("11.00"), D("1.00"))])
    assert [(line.role, line.amount) for line in back] == [
        (Role.INVENTORY, D("11.00")),
        (Role.COST_OF_SALES, D("1.00")),
        (Role.IN_TRANSIT, D("-12.00")),
    ]
    gone = postings.lost_on_the_way("damaged", [(7, D("12.00"))])
    assert [(line.role, line.amount) for line in gone] == [(Role.DAMAGE, D("12.00")), (Role.IN_TRANSIT, D("-12.00"))]
    with pytest.raises(RefusedError, match="Reason must be one of"):
        postings.lost_on_the_way("eaten", [(7, D("12.00"))])
