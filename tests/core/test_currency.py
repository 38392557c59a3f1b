"""Amounts at a rate: the sum is what the whole comes to, whatever the parts round to."""

from __future__ import annotations

from decimal import Decimal as D
from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yuvrel.core.currency import all_at_rate, at_rate
from yuvrel.core.errors import BadInputError


@pytest.mark.parametrize(
    ("amount", "rate", "currency", "found"),
    [
        ("45.00", "0.8531", "EUR", "52.75"),
        ("0.01", "4.25", "EUR", "0.00"),
        ("-10.00", "0.8", "EUR", "-12.50"),
        ("1", "160.5", "EUR", "0.01"),
        ("12.34", "0.0065", "JPY", "1898"),
    ],
)
def test_an_amount_at_a_rate(amount: str, rate: str, currency: str, found: str) -> None:
    assert at_rate(D(amount), D(rate), currency) == D(found)


def test_what_rounding_leaves_over_goes_to_the_largest() -> None:
    assert all_at_rate([D(10), D(10), D(10)], D(3), "EUR") == [D("3.34"), D("3.33"), D("3.33")]
    assert all_at_rate([D("1.00"), D("-0.50"), D("9.00")], D(3), "EUR") == [D("0.33"), D("-0.17"), D("3.01")]
    assert all_at_rate([], D(3), "EUR") == []


@pytest.mark.parametrize("rate", ["0", "-1"])
def test_a_rate_is_above_zero(rate: str) -> None:
    with pytest.raises(BadInputError, match="greater than zero"):
        at_rate(D(1), D(rate), "EUR")


AMOUNTS = st.lists(st.decimals(D("-99999"), D("99999"), places=2), min_size=1, max_size=12)
RATES = st.decimals(D("0.0001"), D(9999), places=4)


@given(AMOUNTS, RATES)
def test_parts_come_to_the_whole_and_each_is_near_its_own(amounts: list[D], rate: D) -> None:
    """Against exact fractions: each part but the largest within half a cent, the largest within half a cent for each."""
    found = all_at_rate(amounts, rate, "EUR")
    assert sum(found) == at_rate(sum(amounts, D(0)), rate, "EUR")
    off = sorted(abs(Fraction(part) - Fraction(amount) / Fraction(rate)) for part, amount in zip(found, amounts, strict=True))
    assert all(one <= Fraction(1, 200) for one in off[:-1])
    assert off[-1] <= Fraction(len(amounts) + 1, 200)
