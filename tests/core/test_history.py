"""From order lines and stock levels to series."""

from __future__ import annotations

from datetime import date, timedelta
from decimal import Decimal as D

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from yuvrel.core.errors import BadInputError
from yuvrel.core.history import (
    SoldLine,
    bulk_lines,
    exploded,
    history,
    in_parts,
    in_periods,
    parts_of,
    seen_before_the_books,
    share_in_stock,
)

START = date(2026, 1, 5)


def line(item: int, day: int, quantity: float, **more: object) -> SoldLine:
    return SoldLine(item, 1, START + timedelta(days=day), quantity, **more)  # type: ignore[arg-type]


def test_bundles_are_sold_as_their_components_through_bundles_of_bundles() -> None:
    parts = {9: [(1, 2.0), (8, 1.0)], 8: [(1, 1.0), (2, 3.0)]}
    assert parts_of(9, parts) == {1: 3.0, 2: 3.0}
    found = exploded([line(9, 0, 2), line(2, 0, 1)], parts)
    assert [(x.item, x.quantity) for x in found] == [(1, 6.0), (2, 6.0), (2, 1.0)]


def test_promised_bundles_are_promised_components() -> None:
    parts = {9: [(1, 2.0), (2, 0.5)]}
    assert in_parts({9: D(3), 2: D(4)}, parts) == {1: D(6), 2: D("5.5")}


def test_a_bundle_that_contains_itself_is_named() -> None:
    with pytest.raises(BadInputError, match="9 > 8 > 9"):
        exploded([], {9: [(8, 1.0)], 8: [(9, 1.0)]})


@pytest.mark.parametrize("quantity", [0.0, -1.0, float("nan"), float("inf")])
def test_impossible_quantities_are_refused(quantity: float) -> None:
    with pytest.raises(BadInputError, match="sold quantity"):
        exploded([line(1, 0, quantity)], {})


def test_returns_are_no_negative_demand() -> None:
    found = history([line(1, 0, 5), line(1, 3, 5, returned=True)], [(1, 1)], START + timedelta(days=7), 7)
    assert found.series.values.tolist() == [[5.0]]


def test_a_day_counts_by_the_hours_in_stock() -> None:
    # Two units, one goes on the first noon, the last on the second noon; new goods on the fourth day at six.
    share = share_in_stock(2, [0.5, 1.5, 3.25], [-1, -1, 10], 5)
    assert share == pytest.approx([1, 0.5, 0, 0.75, 1])
    assert share_in_stock(0, [], [], 3).tolist() == [0, 0, 0]
    # What goes out and comes in at one moment leaves no gap.
    assert share_in_stock(1, [0.5, 0.5], [-1, 4], 2) == pytest.approx([1, 1])
    with pytest.raises(BadInputError):
        share_in_stock(1, [0.5], [], 2)


@given(st.lists(st.tuples(st.floats(0, 9), st.integers(-4, 4)), max_size=20), st.integers(0, 5))
def test_shares_lie_between_nothing_and_the_day(changes: list[tuple[float, int]], opening: int) -> None:
    share = share_in_stock(opening, [t for t, _ in changes], [float(c) for _, c in changes], 10)
    assert share.shape == (10,)
    assert (share >= 0).all() and (share <= 1).all()


def test_weeks_end_yesterday_and_months_are_those_of_the_calendar() -> None:
    units = np.arange(62.0)[None]
    sums, share = in_periods(units, np.ones_like(units), START + timedelta(days=62), "week")
    assert sums.shape == (1, 8)
    assert sums[0, -1] == sum(range(55, 62))
    # 5 January + 62 days = 8 March: of whole months there is February only.
    sums, share = in_periods(units, np.ones_like(units), START + timedelta(days=62), "month")
    assert sums.tolist() == [[sum(range(27, 55))]]
    assert share.tolist() == [[1.0]]
    # From the first of a month on, that month counts.
    sums, _ = in_periods(np.ones((1, 59)), np.ones((1, 59)), date(2026, 3, 1), "month")
    assert sums.tolist() == [[31.0, 28.0]]
    assert in_periods(units[:, :5], np.ones((1, 5)), START, "week")[0].shape == (1, 0)


def test_part_of_a_week_without_stock_is_scaled_up() -> None:
    seen = np.ones((1, 14))
    seen[0, 7:11] = 0
    found = history([line(1, 0, 7), line(1, 12, 3)], [(1, 1)], START + timedelta(days=14), 14, seen=seen)
    assert found.series.values[0] == pytest.approx([7, 7])  # 3 in 3 of 7 days
    assert found.series.weight[0] == pytest.approx([1, 3 / 7])


def test_a_sale_below_zero_says_there_was_demand() -> None:
    seen = np.zeros((1, 7))
    found = history([line(1, 2, 4)], [(1, 1)], START + timedelta(days=7), 7, seen=seen, period="day")
    assert found.series.weight[0].tolist() == [0, 0, 1, 0, 0, 0, 0]


def test_one_off_bulk_orders_are_found_and_set_aside_when_asked() -> None:
    lines = [line(1, day, 1 + day % 3) for day in range(28)] + [line(1, 10, 400, order="S-7")]
    (found,) = bulk_lines(lines)
    assert found.line.quantity == 400
    assert found.sentence.startswith("400 on 2026-01-15 (S-7): an order is usually 2, and anything above")
    kept = history(lines, [(1, 1)], START + timedelta(days=28), 28)
    aside = history(lines, [(1, 1)], START + timedelta(days=28), 28, set_bulk_aside=True)
    assert kept.series.values.sum() - aside.series.values.sum() == 400
    assert len(kept.bulk) == len(aside.bulk) == 1
    # Too few lines to say what is usual, and sizes that vary as such: nothing is set aside.
    assert bulk_lines(lines[:5] + lines[-1:]) == []
    varied = np.random.default_rng(1).lognormal(2, 0.8, 300)
    assert len(bulk_lines([line(2, 0, float(q)) for q in varied])) <= 2


@given(st.floats(0.01, 1000))
def test_bulk_does_not_depend_on_the_unit(factor: float) -> None:
    sizes = [1, 2, 2, 3, 1, 2, 4, 2, 1, 3, 60]
    assert [b.line.quantity for b in bulk_lines([line(1, 0, q * factor) for q in sizes])] == [pytest.approx(60 * factor)]


def test_a_successor_takes_over_the_history_of_the_whole_line() -> None:
    keys = [(1, 1), (2, 1), (3, 1)]
    lines = [line(1, 0, 5), line(2, 8, 6), line(3, 15, 7)]
    seen = np.zeros((3, 21))
    seen[0, :7] = seen[1, 7:14] = seen[2, 14:] = 1
    found = history(lines, keys, START + timedelta(days=21), 21, seen=seen, successors={(3, 1): (2, 1), (2, 1): (1, 1)})
    assert found.series.values[2].tolist() == [5, 6, 7]
    assert found.series.weight[2].tolist() == [1, 1, 1]
    assert found.series.values[1].tolist() == [5, 6, 0]
    with pytest.raises(BadInputError, match="succeed itself"):
        history(lines, keys, START, 21, seen=seen, successors={(3, 1): (2, 1), (2, 1): (3, 1)})


def test_days_before_stock_was_kept_count_from_the_first_sale_on() -> None:
    """Ten days; stock is kept from the seventh, half of which has stock: sold before as history, sold only after, never."""
    kept = [0, 0, 0, 0, 0, 0, 0.5, 1, 0, 1]
    seen = seen_before_the_books(np.array([kept, kept, kept, kept]), [2, 8, 10, 0], [6, 6, 6, 0])
    assert seen.tolist() == [[0, 0, 1, 1, 1, 1, 0.5, 1, 0, 1], kept, kept, kept]
