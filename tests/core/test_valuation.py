"""First in, first out, against units counted one by one; and both ways of valuing side by side."""

from __future__ import annotations

from decimal import Decimal as D

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yuvrel.core.cost import VALUATIONS, CostState, FirstInFirstOut, Layer, MovingAverage, as_kept, from_kept, layers_of
from yuvrel.core.errors import BadInputError

FIFO = FirstInFirstOut()


def test_the_first_that_came_leave_first() -> None:
    """Worked by hand after IAS 2, paragraph 27: 100 at 10.00, 100 at 12.00, then 150 leave and 50 stay."""
    state = FIFO.receive(CostState(), D(100), D(1000), came="GR-1").after
    state = FIFO.receive(state, D(100), D(1200), came="GR-2").after
    change = FIFO.issue(state, D(150))
    assert change.moved == D("-1600.00")
    assert change.after.layers == (Layer(D(50), D(600), "GR-2"),)
    assert (change.after.quantity, change.after.value, change.after.average) == (D(50), D(600), D(12))
    # The same at the average: 150 at 11.00.
    average = MovingAverage()
    state = average.receive(average.receive(CostState(), D(100), D(1000)).after, D(100), D(1200)).after
    assert average.issue(state, D(150)).moved == D("-1650.00")


def test_the_last_unit_of_a_layer_takes_its_last_cent() -> None:
    """3 for 10.00: 3.33, 3.34 (of 6.67 for two), 3.33; nothing is left over."""
    state = FIFO.receive(CostState(), D(3), D("10.00")).after
    moved = []
    for _ in range(3):
        change = FIFO.issue(state, D(1))
        state = change.after
        moved.append(-change.moved)
    assert moved == [D("3.33"), D("3.34"), D("3.33")]
    assert (state.quantity, state.value, state.layers) == (D(0), D("0.00"), ())


def test_below_zero_units_leave_at_the_last_layer_and_are_trued_up() -> None:
    """2 at 3.00 are there and 5 leave: 6.00 and three more at 3.00. Then 10 for 40.00: three cover what is owed, 12.00
    where 9.00 had left, so 3.00 go to cost of sales, and seven worth 28.00 stay as one layer."""
    state = FIFO.receive(CostState(), D(2), D("6.00")).after
    short = FIFO.issue(state, D(5))
    assert (short.moved, short.after.quantity, short.after.value, short.after.layers) == (D("-15.00"), D(-3), D("-9.00"), ())
    change = FIFO.receive(short.after, D(10), D("40.00"), came="GR-2")
    assert (change.true_up, change.after.layers) == (D("3.00"), (Layer(D(7), D("28.00"), "GR-2"),))


def test_what_was_there_when_it_was_chosen_is_one_layer() -> None:
    average = MovingAverage()
    state = average.receive(average.receive(CostState(), D(1), D("1.00")).after, D(1), D("4.00")).after
    assert layers_of(state) == (Layer(D(2), D("5.00")),)
    assert FIFO.issue(state, D(1)).moved == D("-2.50")
    # Kept layers of an earlier time, from which units have left since at the average, say nothing any more.
    state = FIFO.receive(FIFO.receive(CostState(), D(1), D("1.00")).after, D(1), D("4.00")).after
    left = average.issue(state, D(1)).after
    assert left.layers == ()
    assert FIFO.issue(left, D(1)).moved == D("-2.50")


@pytest.mark.parametrize("way", VALUATIONS)
@pytest.mark.parametrize(("units", "worth"), [(D(0), D(1)), (D(-1), D(1)), (D(1), D(-1))])
def test_what_cannot_move_is_refused(way: str, units: D, worth: D) -> None:
    with pytest.raises(BadInputError):
        VALUATIONS[way].receive(CostState(), units, worth)
    if units <= 0:
        with pytest.raises(BadInputError):
            VALUATIONS[way].issue(CostState(D(1), D(1), D(1), (Layer(D(1), D(1)),)), units)


MOVES = st.lists(st.tuples(st.booleans(), st.integers(1, 9), st.integers(0, 5000)), min_size=1, max_size=40)


@given(MOVES)
def test_layers_agree_with_units_counted_one_by_one(moves: list[tuple[bool, int, int]]) -> None:
    """Every unit at a whole cent, never below zero: then nothing is rounded and each unit keeps its own price."""
    shelf: list[int] = []
    state = CostState()
    for comes, units, cents in moves:
        if comes:
            shelf += [cents] * units
            state = FIFO.receive(state, D(units), D(cents * units) / 100).after
        elif len(shelf) >= units:
            left, shelf = shelf[:units], shelf[units:]
            change = FIFO.issue(state, D(units))
            assert change.moved == -D(sum(left)) / 100
            state = change.after
        assert (state.quantity, state.value) == (len(shelf), D(sum(shelf)) / 100)
        assert sum((one.quantity for one in state.layers), D(0)) == state.quantity
        assert from_kept(as_kept(state.layers)) == state.layers


@given(MOVES, st.lists(st.sampled_from(sorted(VALUATIONS)), min_size=40, max_size=40))
def test_however_the_way_is_changed_no_cent_is_lost(moves: list[tuple[bool, int, int]], ways: list[str]) -> None:
    """What came in less what left and what was trued up is what is there, below zero too; layers add up to it."""
    state, total, units_there = CostState(), D(0), 0
    for (comes, units, cents), name in zip(moves, ways, strict=False):
        way = VALUATIONS[name]
        change = way.receive(state, D(units), D(cents) / 100) if comes else way.issue(state, D(units))
        units_there += units if comes else -units
        total += change.moved
        state = change.after
        assert (state.quantity, state.value) == (units_there, total)
        if name == "fifo":
            assert (sum((one.quantity for one in state.layers), D(0)), sum((one.value for one in state.layers), D(0))) == (
                (state.quantity, state.value) if units_there > 0 else (0, 0)
            )
            assert all(one.quantity > 0 and one.value >= 0 for one in state.layers)
