"""What a credit note comes to: goods after their share of the discount, charges, the fee, and the cost that comes back."""

from __future__ import annotations

import random
from decimal import Decimal as D

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yuvrel.core.credits import Sold, Wanted, cost_back, credit_parts, credit_working, left, worth
from yuvrel.core.errors import BadInputError, RefusedError, UnbalancedError
from yuvrel.core.postings import credit_note, goods_back

SUIT = Sold(1, "item", "Suit", D(2), D(2), D("60.00"), D("13.80"), D(23))
GLOVES = Sold(2, "item", "Gloves", D(1), D(1), D("40.00"), D("9.20"), D(23))
COUPON = Sold(3, "discount", "Coupon", D(1), D(1), D("-10.00"), D("-2.30"), D(23))
POSTAGE = Sold(4, "shipping", "Postage", D(1), D(1), D("5.00"), D("1.15"), D(23))
ORDER = (SUIT, GLOVES, COUPON, POSTAGE)


def test_goods_bear_the_discount_by_what_they_cost() -> None:
    assert worth(ORDER) == {1: (D("54.00"), D("12.42")), 2: (D("36.00"), D("8.28")), 4: (D("5.00"), D("1.15"))}


def test_one_of_two_brings_half_and_the_second_the_rest() -> None:
    odd = Sold(1, "item", "Odd", D(3), D(3), D("10.00"), D("2.30"), D(23))
    found = []
    for taken in range(3):
        parts, _ = credit_parts([odd], {1: Wanted(D(1))})
        (part,) = parts
        found.append((part.net, part.tax))
        odd = Sold(
            1, "item", "Odd", D(3), D(3), D("10.00"), D("2.30"), D(23), D(taken + 1), odd.credited_net + part.net,
            odd.credited_tax + part.tax,
        )  # fmt: skip
    # 10.00 and 2.30 by thirds, each rounded as it adds up.
    assert found == [(D("3.33"), D("0.77")), (D("3.34"), D("0.76")), (D("3.33"), D("0.77"))]
    assert left(odd, (D("10.00"), D("2.30"))) == (0, 0)


def test_a_fee_is_kept_with_tax_of_the_dearest_line() -> None:
    parts, credit = credit_parts(ORDER, {1: Wanted(D(2)), 4: Wanted(gross=D("6.15"))}, D("12.30"))
    assert [(part.line_id, part.gross) for part in parts] == [(1, D("66.42")), (4, D("6.15"))]
    # Common practice, no source: the fee for taking goods back is a service at the rate of the sale.
    assert (credit.goods, credit.shipping, credit.fee, credit.tax) == (D("54.00"), D("5.00"), D("10.00"), D("11.27"))
    assert (credit.net, credit.total) == (D("49.00"), D("60.27"))
    lines = credit_note(credit, {"clearing": D("50.27"), "receivable": D("10.00")})
    assert {(line.role, line.amount) for line in lines} == {
        ("sales_returns", D("54.00")),
        ("shipping_income", D("5.00")),
        ("surcharge_income", D("-10.00")),
        ("output_tax", D("11.27")),
        ("clearing", D("-50.27")),
        ("receivable", D("-10.00")),
    }
    working = credit_working("CN-1", [("Suit", D(2), D("66.42")), ("Postage", D(0), D("6.15"))], D("12.30"), D("60.27"), "EUR")
    assert [(step.op, step.value) for step in working.steps] == [
        ("+", D("66.42")), ("+", D("6.15")), ("-", D("12.30")), ("", D("60.27")),
    ]  # fmt: skip


def test_an_amount_alone_lowers_the_price_and_the_units_bring_what_is_left() -> None:
    parts, _ = credit_parts(ORDER, {2: Wanted(gross=D("4.92"))})
    assert [(part.quantity, part.net, part.tax) for part in parts] == [(0, D("4.00"), D("0.92"))]
    lowered = Sold(2, "item", "Gloves", D(1), D(1), D("40.00"), D("9.20"), D(23), D(0), D("4.00"), D("0.92"))
    ((part,), _) = credit_parts((SUIT, lowered, COUPON), {2: Wanted(D(1))})
    assert (part.net, part.tax) == (D("32.00"), D("7.36"))


def test_what_has_been_paid_may_be_a_cent_more_than_is_left() -> None:
    ((part,), credit) = credit_parts(ORDER, {2: Wanted(D(1), D("44.30"), D("0.02"))})
    assert (part.gross, credit.total) == (D("44.30"), D("44.30"))
    with pytest.raises(BadInputError):
        credit_parts(ORDER, {2: Wanted(D(1), D("44.31"), D("0.02"))})


@pytest.mark.parametrize(
    "wanted, fee, field, said",
    [
        ({1: Wanted(D(3))}, "0", "lines.1", "Suit: 2 can be credited, not 3."),
        ({1: Wanted(D(-1))}, "0", "lines.1", "not −1"),
        ({2: Wanted(gross=D("44.29"))}, "0", "lines.2", "44.28 can be credited with tax"),
        ({3: Wanted(D(1))}, "0", "lines.3", "cannot|not one that can"),
        ({9: Wanted(D(1))}, "0", "lines.9", "not one that can be credited"),
        ({1: Wanted()}, "0", "lines", "Enter what is credited"),
        ({2: Wanted(D(1))}, "44.29", "fee", "between nothing and the 44.28"),
        ({2: Wanted(D(1))}, "-1", "fee", "between nothing"),
    ],
)
def test_what_cannot_be_credited_is_refused_by_name(wanted: dict[int, Wanted], fee: str, field: str, said: str) -> None:
    with pytest.raises(BadInputError, match=said) as refused:
        credit_parts(ORDER, wanted, D(fee))
    assert refused.value.field == field


def test_of_what_has_not_left_nothing_is_credited() -> None:
    half = Sold(1, "item", "Suit", D(2), D(1), D("60.00"), D("13.80"), D(23))
    ((part,), _) = credit_parts([half], {1: Wanted(D(1))})
    assert (part.net, part.tax) == (D("30.00"), D("6.90"))
    with pytest.raises(BadInputError, match="1 can be credited, not 2"):
        credit_parts([half], {1: Wanted(D(2))})


def test_a_credit_is_settled_against_what_settles_sales() -> None:
    _, credit = credit_parts(ORDER, {2: Wanted(D(1))})
    with pytest.raises(RefusedError, match="against sales"):
        credit_note(credit, {"sales": credit.total})
    with pytest.raises(UnbalancedError):
        credit_note(credit, {"clearing": credit.total + 1})


def test_goods_come_back_at_the_cost_at_which_they_left() -> None:
    assert [cost_back(D("10.00"), D(3), D(n), w, D(1), "EUR") for n, w in ((0, D(0)), (1, D("3.33")), (2, D("6.66")))] == [
        D("3.33"), D("3.33"), D("3.34"),
    ]  # fmt: skip
    lines = goods_back([(7, D("3.33"), D(0)), (8, D("2.00"), D("1.50"))], [(7, D("3.34"))])
    sums: dict[str, D] = {}
    for line in lines:
        sums[line.role] = sums.get(line.role, D(0)) + line.amount
    assert sums == {"inventory": D("5.33"), "write_off": D("3.34"), "cost_of_sales": D("-8.67")}


LINES = st.lists(st.tuples(st.integers(1, 9), st.integers(1, 50_000), st.sampled_from([0, 9, 23])), min_size=1, max_size=5)


@given(LINES, st.integers(0, 90), st.randoms(use_true_random=False))
def test_whatever_comes_back_in_whatever_parts_the_whole_order_is_given_back_once(
    lines: list[tuple[int, int, int]], percent: int, order: random.Random
) -> None:
    """All units of all lines, one by one in any order, give back exactly what the order came to."""
    sold = []
    for number, (units, cents, rate) in enumerate(lines, 1):
        net = D(cents) / 100
        sold.append(Sold(number, "item", "x", D(units), D(units), net, (net * rate / 100).quantize(D("0.01")), D(rate)))
    off = [-(sum(getattr(line, name) for line in sold) * percent / 100).quantize(D("0.01")) for name in ("net", "tax")]
    coupon = Sold(99, "discount", "Coupon", D(1), D(1), off[0], off[1])
    total = sum(line.net + line.tax for line in (*sold, coupon))
    units = [line.id for line in sold for _ in range(int(line.quantity))]
    order.shuffle(units)
    given_back = D(0)
    state = {line.id: line for line in sold}
    for line_id in units:
        line = state[line_id]
        try:
            ((part,), credit) = credit_parts([*state.values(), coupon], {line_id: Wanted(D(1))})
            net, tax, gross = part.net, part.tax, credit.total
        except BadInputError:
            net = tax = gross = D(0)  # a unit that came to nothing
        given_back += gross
        state[line_id] = Sold(
            line.id, line.kind, line.title, line.quantity, line.shipped, line.net, line.tax, line.tax_percent,
            line.credited + 1, line.credited_net + net, line.credited_tax + tax,
        )  # fmt: skip
    assert given_back == total
