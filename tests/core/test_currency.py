"""Documents at a rate: each line for itself, and what is paid covers what it comes to."""

from __future__ import annotations

from decimal import Decimal as D
from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yuvrel.core.currency import at_rate, lines_at_rate, parts_at_rate
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


def test_lines_are_rounded_for_themselves_and_payments_cover_what_they_come_to() -> None:
    lines, total = lines_at_rate([D(10), D(10), D(10)], D(30), D(3), "EUR")
    assert (lines, total) == ([D("3.33")] * 3, D("9.99"))
    assert parts_at_rate([D(20), D(10)], D(30), D(3), "EUR", total) == [D("6.66"), D("3.33")]
    assert parts_at_rate([D(20)], D(30), D(3), "EUR", total) == [D("6.67")], "what is not paid in full is left as it is"
    assert lines_at_rate([D(10)], D(12), D(4), "EUR") == ([D("2.50")], D("3.00")), "what does not add up still does not"
    assert lines_at_rate([], D(0), D(3), "EUR") == ([], 0)


@pytest.mark.parametrize("rate", ["0", "-1"])
def test_a_rate_is_above_zero(rate: str) -> None:
    with pytest.raises(BadInputError, match="greater than zero"):
        at_rate(D(1), D(rate), "EUR")


AMOUNTS = st.lists(st.decimals(D("-99999"), D("99999"), places=2), min_size=1, max_size=12)
RATES = st.decimals(D("0.0001"), D(9999), places=4)


@given(AMOUNTS, RATES)
def test_each_line_is_within_half_a_cent_and_the_whole_is_their_sum(amounts: list[D], rate: D) -> None:
    """Against exact fractions."""
    found, total = lines_at_rate(amounts, sum(amounts, D(0)), rate, "EUR")
    assert all(abs(Fraction(x) - Fraction(a) / Fraction(rate)) <= Fraction(1, 200) for x, a in zip(found, amounts, strict=True))
    assert total == sum(found)


@given(AMOUNTS, RATES, st.data())
def test_a_line_comes_to_the_same_whatever_else_is_on_the_document(amounts: list[D], rate: D, data: st.DataObject) -> None:
    others = data.draw(AMOUNTS)
    alone, _ = lines_at_rate(amounts, sum(amounts, D(0)), rate, "EUR")
    beside, _ = lines_at_rate([*amounts, *others], sum([*amounts, *others], D(0)), rate, "EUR")
    assert beside[: len(amounts)] == alone


@given(AMOUNTS, RATES)
def test_payments_that_cover_a_document_there_cover_it_here(amounts: list[D], rate: D) -> None:
    total = sum(amounts, D(0))
    _, whole = lines_at_rate([total], total, rate, "EUR")
    assert sum(parts_at_rate(amounts, total, rate, "EUR", whole)) == whole
