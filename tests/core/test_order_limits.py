"""How many of a thing one order may hold."""

from __future__ import annotations

from decimal import Decimal as D

from hypothesis import given
from hypothesis import strategies as st

from yuvrel.core.order_limits import OrderLimits

COUNTS = st.none() | st.integers(1, 60).map(D)
LIMITS = st.builds(OrderLimits, COUNTS, COUNTS, COUNTS)


def test_a_group_speaks_before_everybody_and_inherits_the_rest() -> None:
    everybody = OrderLimits(least=D(2), most=D(20))
    clubs = everybody.for_group(OrderLimits(least=D(12), step=D(6)))
    assert clubs == OrderLimits(D(12), D(6), D(20))
    assert everybody.for_group(OrderLimits()) == everybody


def test_minimum_and_maximum_are_kept_in_whole_steps() -> None:
    assert OrderLimits(D(10), D(6), D(20)).in_steps() == OrderLimits(D(12), D(6), D(18))
    assert OrderLimits(None, D(6), D(4)).in_steps() == OrderLimits(None, D(6), D(6)), "one step can always be ordered"
    assert OrderLimits(D(30), None, D(20)).in_steps() == OrderLimits(D(20), None, D(20))


def test_of_trays_as_many_as_come_to_whole_steps() -> None:
    limits = OrderLimits(D(20), D(18), D(100))
    assert limits.in_packs(12) == OrderLimits(D(2), D(3), D(8)), "three trays of twelve are two steps of eighteen"
    assert limits.in_packs(1) == limits
    assert OrderLimits(most=D(5)).in_packs(12) == OrderLimits(most=D(1))


@given(limits=LIMITS, units=st.integers(1, 24), trays=st.integers(1, 60))
def test_what_trays_allow_their_units_do(limits: OrderLimits, units: int, trays: int) -> None:
    packed = limits.in_packs(units)
    if limits.most is None or limits.most >= units:
        assert not packed.allows(D(trays)) or limits.allows(D(trays * units))


@given(limits=LIMITS)
def test_something_can_always_be_ordered(limits: OrderLimits) -> None:
    whole = limits.in_steps()
    assert any(whole.allows(D(count)) for count in range(1, 3601))
    assert whole.in_steps() == whole


@given(limits=LIMITS, count=st.integers(1, 200).map(D))
def test_what_whole_steps_allow_the_limits_did_unless_they_could_not_be_kept(limits: OrderLimits, count: D) -> None:
    possible = any(limits.allows(D(n)) for n in range(1, 3601))
    if possible:
        assert limits.in_steps().allows(count) == limits.allows(count)
