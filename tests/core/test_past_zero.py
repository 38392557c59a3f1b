"""Selling past zero: the check values of 02-domain, promises, and the kinds of settings it needs."""

from __future__ import annotations

from datetime import date, timedelta
from decimal import Decimal as D
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from yuvrel.core.availability import OfferRule, Shelf, offer, offer_for
from yuvrel.core.errors import BadInputError
from yuvrel.core.past_zero import PastZero, Sold, left_columns, promised_on, wholes
from yuvrel.core.rules import ON_CHANNELS, Setting

TODAY = date(2027, 3, 14)
UNITS = st.integers(0, 500).map(D)
PARTS = st.integers(0, 500_000).map(lambda n: D(n) / 1000)


def past(way: Any = "preorder", limit: int = 10, **more: Any) -> PastZero:
    return PastZero(way, D(limit), **more)


def test_the_check_values() -> None:
    """02-domain: on hand 4, committed 4, limit 10, 3 sold and unserved: 7; at once with 40 on the shelf: 7 as well."""
    shelf = [Shelf("Yard", D(4), D(4))]
    rule = OfferRule(past_zero_left=past().left(Sold(D(3), D(3))))
    assert offer_for(shelf, rule, subject="x").quantity == D(7)
    at_once = past("preorder_at_once")
    full = [Shelf("Yard", D(40))]
    rule = OfferRule(past_zero_left=at_once.left(Sold(D(3))), only_past_zero=True)
    worked = offer_for(full, rule, subject="x")
    assert worked.quantity == worked.working.result == D(7)


def test_served_units_count_at_once_and_not_from_zero() -> None:
    sold = Sold(all=D(6), unserved=D(2))
    assert past().left(sold) == past("backorder").left(sold) == D(8)
    assert past("preorder_at_once").left(sold) == D(4)
    assert past(limit=1).left(sold) == D(0)
    assert past().left(Sold(D("2.5"), D("2.5"))) == D(7), "whole units are for sale"


@pytest.mark.parametrize(
    ("begins", "ends", "runs"),
    [
        (None, None, True),
        (TODAY, TODAY, True),
        (TODAY + timedelta(1), None, False),
        (None, TODAY - timedelta(1), False),
        (TODAY - timedelta(9), TODAY + timedelta(9), True),
    ],
)
def test_it_runs_from_its_first_day_to_its_last(begins: date | None, ends: date | None, runs: bool) -> None:
    assert past(begins=begins, ends=ends).runs(TODAY) is runs
    assert not past("no", begins=begins, ends=ends).runs(TODAY)


def test_promises_follow_the_deliveries() -> None:
    coming = [(date(2027, 4, 2), D(10)), (date(2027, 3, 20), D(5))]
    assert promised_on(coming, D(3), D(2), TODAY, 30) == date(2027, 3, 20)
    assert promised_on(coming, D(3), D(3), TODAY, 30) == date(2027, 4, 2)
    assert promised_on(coming, D(3), D(13), TODAY, 30) == TODAY + timedelta(30)
    assert promised_on([(date(2027, 3, 1), D(5))], D(0), D(1), TODAY, 30) == TODAY + timedelta(1)


@given(st.lists(st.tuples(st.dates(TODAY, TODAY + timedelta(90)), UNITS), max_size=5), UNITS, UNITS)
def test_more_units_are_never_promised_earlier(coming: list[tuple[date, D]], owed: D, units: D) -> None:
    days = [promised_on(coming, owed, units + more, TODAY, 100) for more in range(3)]
    assert days == sorted(days)
    assert promised_on(coming, owed + 1, units, TODAY, 100) >= days[0]


@given(st.lists(st.tuples(st.booleans(), UNITS, PARTS, PARTS), min_size=1, max_size=6))
def test_what_is_left_as_columns_is_what_is_left_of_each(rows: list[tuple[bool, D, D, D]]) -> None:
    columns = [np.array([int(row[n] * 1000) for row in rows], np.int64) for n in (1, 2, 3)]
    found = left_columns(np.array([row[0] for row in rows], np.bool_), *columns)
    each = [
        PastZero("preorder_at_once" if once else "preorder", limit).left(Sold(sold, owed)) for once, limit, sold, owed in rows
    ]
    assert [D(int(n)) / 1000 for n in found] == each


@given(UNITS, st.integers(1, 12).map(D))
def test_kits_wait_whole(owed: D, each: D) -> None:
    assert (wholes(owed, each) - 1) * each < owed <= wholes(owed, each) * each


@given(UNITS, UNITS)
def test_the_shelf_never_counts_in_a_pre_order_at_once(pool: D, left: D) -> None:
    assert offer(pool, OfferRule(past_zero_left=left, only_past_zero=True)) == left
    assert offer(pool, OfferRule(past_zero_left=left)) == pool + left


DATE = Setting("d", "First day", "", "date", None, ON_CHANNELS, "g", "", limitless=True)
TEXT = Setting("t", "Text", "", "text", "Soon", ON_CHANNELS, "g", "", most=10)


def test_dates_and_texts_as_settings() -> None:
    assert DATE.take("2027-03-14") == "2027-03-14"
    assert DATE.take(None) is None
    assert DATE.said("2027-03-04") == "4 Mar 2027"
    assert TEXT.take("  Later ") == "Later"
    for setting, given_value, said in [
        (DATE, "14.3.2027", "must be a date"),
        (DATE, "2199-01-01", "out of range"),
        (TEXT, "more than ten", "at most 10"),
        (TEXT, "a\x07b", "U\\+0007"),
        (TEXT, None, "needs a value"),
    ]:
        with pytest.raises(BadInputError, match=said) as refusal:
            setting.take(given_value)
        assert refusal.value.field == setting.name
