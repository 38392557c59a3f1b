"""The arithmetic against figures from outside: worked examples, standards, reference libraries."""

from __future__ import annotations

from decimal import Decimal as D
from fractions import Fraction

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from yuvrel.core import cost, postings
from yuvrel.core.availability import OfferRule, Shelf, bundle_pool, offer, offer_for, pool_of, reserve
from yuvrel.core.demand import velocities
from yuvrel.core.errors import BadInputError, RefusedError, UnbalancedError
from yuvrel.core.gtin import normal_gtin
from yuvrel.core.money import allocate, floor_to, minor_unit, price_for_margin, round_money, split_tax
from yuvrel.core.orders import Profit
from yuvrel.core.outlook import Outlook, flat, safety_stock
from yuvrel.core.places import split
from yuvrel.core.replenish import Policy, Position, suggest, to_packs


# Costs. The three figures below are the product's own check values, worked by hand from IAS 2.25-27.
def test_moving_average_of_two_receipts() -> None:
    state = cost.receive(cost.CostState(), D(10), D("20.00")).after
    state = cost.receive(state, D(20), D("60.00")).after
    assert (state.quantity, state.value) == (D(30), D("80.00"))
    assert round_money(state.average) == D("2.67")
    assert state.average == D("2.666667")


def test_receipt_after_selling_below_zero_trues_up() -> None:
    state = cost.CostState(D(0), D(0), D("2.00"))
    sold = cost.issue(state, D(3))
    assert sold.moved == D("-6.00")
    received = cost.receive(sold.after, D(10), D("25.00"))
    assert received.true_up == D("1.50")
    assert (received.after.quantity, received.after.value) == (D(7), D("17.50"))
    assert received.moved == D("23.50")


def test_a_receipt_that_covers_only_part_of_the_shortfall() -> None:
    short = cost.CostState(D(-3), D("-6.00"), D("2.00"))
    change = cost.receive(short, D(2), D("5.00"))
    assert change.true_up == D("1.00")
    assert (change.after.quantity, change.after.value) == (D(-1), D("-2.00"))


def test_the_last_unit_takes_all_of_the_value() -> None:
    state = cost.CostState(D(3), D("10.00"), D("3.333333"))
    first = cost.issue(state, D(1))
    second = cost.issue(first.after, D(1))
    third = cost.issue(second.after, D(1))
    assert [-c.moved for c in (first, second, third)] == [D("3.33"), D("3.34"), D("3.33")]
    assert (third.after.quantity, third.after.value) == (D(0), D(0))


events = st.lists(st.tuples(st.booleans(), st.integers(1, 50), st.integers(0, 9999)), min_size=1, max_size=40)


@given(events)
def test_value_never_drifts_from_the_sum_of_what_moved(rows: list[tuple[bool, int, int]]) -> None:
    """Against exact fractions: the value is the sum of what moved, and the average stays within
    half a cent a unit of the exact moving average while stock is above zero."""
    state, moved = cost.CostState(), D(0)
    exact_quantity, exact_value, pure = Fraction(0), Fraction(0), True
    for coming, units, cents in rows:
        if coming:
            value = D(cents) / 100 * units
            change = cost.receive(state, D(units), value)
            exact_value += Fraction(cents * units, 100)
            exact_quantity += units
        else:
            change = cost.issue(state, D(units))
            pure = pure and units <= exact_quantity
            if pure:
                exact_value -= exact_value * units / exact_quantity
                exact_quantity -= units
        moved += change.moved
        state = change.after
        assert state.value == moved
        assert state.quantity != 0 or state.value == 0
        if pure and state.quantity > 0:
            assert abs(Fraction(state.value) - exact_value) <= Fraction(len(rows), 200)


@pytest.mark.parametrize(("quantity", "value"), [(D(0), D(1)), (D(-1), D(1)), (D(1), D("-0.01"))])
def test_impossible_receipts_are_refused(quantity: D, value: D) -> None:
    with pytest.raises(BadInputError):
        cost.receive(cost.CostState(), quantity, value)


# Availability: the product's own check values.
def test_offer_by_the_six_steps() -> None:
    shelves = [Shelf("Tannery Yard", D(40), D(6)), Shelf("Mill Lane", D(5), D(1))]
    rule = OfferRule(buffer=D(3), share_percent=D(50), maximum=D(15), minimum=D(2))
    assert pool_of(shelves, "available") == D(38)
    found = offer_for(shelves, rule, subject="x")
    assert found.quantity == D(15)
    assert found.working.result == D(15)


@pytest.mark.parametrize(
    ("pool", "rule", "shown"),
    [
        (D(38), OfferRule(buffer=D(3), share_percent=D(50)), D(17)),
        (D(3), OfferRule(minimum=D(4)), D(0)),
        (D(17), OfferRule(step=D(5)), D(15)),
        (D(0), OfferRule(past_zero_left=D(6)), D(6)),
        (D(2), OfferRule(buffer=D(5)), D(0)),
    ],
)
def test_each_limit_alone(pool: D, rule: OfferRule, shown: D) -> None:
    assert offer(pool, rule) == shown


def test_backorders_come_off_the_pool_and_a_short_place_lends_nothing() -> None:
    shelves = [Shelf("A", D(10), D(2), backordered=D(3)), Shelf("B", D(-4))]
    assert pool_of(shelves, "available") == D(5)
    assert pool_of([Shelf("A", D(1), incoming_due=D(9))], "projected") == D(10)
    # A channel that takes its own three off by itself is told ten on hand less the four of others.
    own = Shelf("A", D(10), D(7), own=D(3))
    assert (pool_of([own], "on_hand"), pool_of([own], "available")) == (D(6), D(3))
    steps = offer_for([own], OfferRule("on_hand"), subject="x").working.steps
    assert steps[0].note == "10 on hand − 7 committed + 3 of its own orders, which it takes off itself"


def test_bundle_is_limited_by_its_scarcest_part() -> None:
    assert bundle_pool([(D(10), D(1)), (D(7), D(2)), (D(40), D(4))]) == D(3)
    with pytest.raises(BadInputError):
        bundle_pool([])


@given(st.integers(0, 500), st.integers(0, 50), st.integers(0, 100), st.integers(1, 12))
def test_an_offer_never_exceeds_the_pool_and_is_whole_steps(pool: int, buffer: int, share: int, step: int) -> None:
    shown = offer(D(pool), OfferRule(buffer=D(buffer), share_percent=D(share), step=D(step)))
    assert 0 <= shown <= pool
    assert shown % step == 0


@given(st.integers(0, 100), st.integers(-20, 100), st.integers(0, 100))
def test_reserving_never_takes_what_is_not_free(wanted: int, on_hand: int, committed: int) -> None:
    reserved, owed = reserve(D(wanted), D(on_hand), D(committed))
    assert reserved + owed == wanted
    assert reserved <= max(0, on_hand - committed)


# Money.
def test_minor_units_are_those_of_iso_4217() -> None:
    # ISO 4217:2015, list one: exponents of EUR 2, JPY 0, KWD 3, CLF 4.
    assert [str(minor_unit(c)) for c in ("EUR", "JPY", "KWD", "CLF")] == ["0.01", "1", "0.001", "0.0001"]
    with pytest.raises(BadInputError):
        minor_unit("ZZZ")


def test_margin_is_not_markup() -> None:
    # 6.00 / (1 - 0.40) = 10.00, whereas a markup of 40 % would be 8.40 (definition of margin).
    assert price_for_margin(D("6.00"), D(40)) == D("10.00")
    with pytest.raises(BadInputError):
        price_for_margin(D(1), D(100))


def test_half_a_cent_is_rounded_away_from_zero() -> None:
    assert [round_money(D(x)) for x in ("0.005", "-0.005", "2.675", "1.004")] == [D("0.01"), D("-0.01"), D("2.68"), D("1.00")]


@given(st.integers(-100000, 100000), st.lists(st.integers(0, 1000), min_size=1, max_size=12))
def test_shares_add_up_to_the_cent(cents: int, weights: list[int]) -> None:
    total = D(cents) / 100
    parts = allocate(total, [D(w) for w in weights])
    assert sum(parts) == total
    if sum(weights):
        for part, weight in zip(parts, weights, strict=True):
            assert abs(part - total * weight / sum(weights)) < D("0.01") * 2


@given(st.integers(0, 10**7), st.integers(0, 30))
def test_net_and_tax_add_up_to_gross(cents: int, percent: int) -> None:
    gross = D(cents) / 100
    net, tax = split_tax(gross, D(percent))
    assert net + tax == gross
    assert abs(tax - net * percent / 100) <= D("0.01")


def test_floor_to_a_step() -> None:
    assert floor_to(D("17.9"), D(5)) == D(15)
    with pytest.raises(BadInputError):
        floor_to(D(1), D(0))


# Barcodes.
def test_gtins_of_all_lengths_compare_at_fourteen_digits() -> None:
    # GS1 General Specifications, 7.9: the worked example 629104150021 has check digit 3.
    assert normal_gtin("6291041500213") == "06291041500213"
    assert normal_gtin("0 36000 29145 2") == normal_gtin("036000291452") == "00036000291452"
    assert normal_gtin("40170725") == "00000040170725"


@pytest.mark.parametrize("code", ["6291041500214", "123", "", "62910415002I3"])
def test_bad_barcodes_are_named(code: str) -> None:
    with pytest.raises(BadInputError) as refusal:
        normal_gtin(code)
    assert refusal.value.field == "barcode"


def test_the_expected_check_digit_is_told() -> None:
    with pytest.raises(BadInputError, match="should be 3"):
        normal_gtin("6291041500214")


# Demand and replenishment.
def test_velocity_leaves_out_days_without_stock() -> None:
    units = np.zeros((1, 90))
    units[0, :75] = 1.2
    in_stock = np.arange(90)[None, :] < 75
    found = velocities(units, in_stock)[0]
    assert found.per_day == D("1.2")
    assert found.days_out == 15
    assert found.naive_per_day == D("1.0")


def test_velocity_is_unbiased_on_simulated_demand_with_empty_days() -> None:
    """Simulated Poisson demand of known rate with 30 % of days masked: bias under 2 %."""
    random = np.random.default_rng(5)
    in_stock = random.random((400, 180)) > 0.3
    units = np.where(in_stock, random.poisson(1.7, (400, 180)), 0).astype(float)
    mean = np.mean([float(v.per_day) for v in velocities(units, in_stock)])
    assert abs(mean / 1.7 - 1) < 0.02
    assert abs(units.mean() / 1.7 - 0.7) < 0.02


@pytest.mark.parametrize("bad", [np.nan, np.inf, -1.0])
def test_demand_that_cannot_be_is_refused_by_name(bad: float) -> None:
    units = np.zeros((1, 5))
    units[0, 2] = bad
    with pytest.raises(BadInputError) as refusal:
        velocities(units, np.ones((1, 5), dtype=bool))
    assert refusal.value.field == "units"


def _velocity(rate: float, days: int = 90) -> Outlook:
    units = np.full((1, days), rate)
    return flat(velocities(units, np.ones((1, days), dtype=bool))[0])


def test_suggestion_of_the_worked_example() -> None:
    policy = Policy(21, 30, "units", D(8), pack=D(12))
    found = suggest(_velocity(1.2), Position(D(25), D(4), arrivals=[(10, D(10))]), policy, subject="hive")
    assert found.need == D("38.2")
    assert found.quantity == D(48)
    assert found.working.result == D(48)


def test_safety_stock_with_uncertain_lead_time() -> None:
    # Snyder and Shen, Fundamentals of Supply Chain Theory, 2nd ed. (Wiley 2019): safety stock with
    # random lead time; the figures are a recomputation: demand N(50, 8), lead N(7, 1.5), 95 %.
    assert safety_stock(0.95, 50, 8, 7, 1.5) == pytest.approx(128.18, abs=0.005)
    assert 50 * 7 + safety_stock(0.95, 50, 8, 7, 1.5) == pytest.approx(478.18, abs=0.005)


@given(st.floats(0.5, 0.999), st.floats(0, 100), st.floats(0, 30), st.floats(0, 90))
def test_safety_stock_against_scipy(level: float, mean: float, deviation: float, lead: float) -> None:
    expected = stats.norm.ppf(level) * np.sqrt(lead * deviation**2)
    assert safety_stock(level, mean, deviation, lead) == pytest.approx(max(0.0, float(expected)), rel=1e-9, abs=1e-9)


@given(st.integers(1, 400), st.integers(0, 300), st.integers(0, 60), st.integers(1, 30), st.integers(0, 90))
def test_suggestions_are_whole_packs_and_fall_with_more_stock(rate: int, stock: int, least: int, pack: int, more: int) -> None:
    policy = Policy(10, 20, minimum=D(least), pack=D(pack))
    velocity = _velocity(rate / 100)
    here = suggest(velocity, Position(D(stock)), policy, subject="x").quantity
    there = suggest(velocity, Position(D(stock + more)), policy, subject="x").quantity
    assert here % pack == 0
    assert here == 0 or here >= least
    assert there <= here


def test_packs_and_minimums() -> None:
    assert to_packs(D("38.2"), D(0), D(12)) == D(48)
    assert to_packs(D("0.1"), D(30), D(12)) == D(36)
    assert to_packs(D(0), D(30), D(12)) == D(0)
    assert to_packs(D(-4), D(0), D(1)) == D(0)


def test_cover_walks_over_dated_arrivals() -> None:
    policy = Policy(5, 10, "units", D(0))
    rate = _velocity(2.0)
    assert suggest(rate, Position(D(10)), policy, subject="x").cover_days == D("5.0")
    assert suggest(rate, Position(D(10), arrivals=[(4, D(6))]), policy, subject="x").cover_days == D("8.0")
    # What arrives after the shelf is empty does not lengthen the time until it is empty.
    assert suggest(rate, Position(D(10), arrivals=[(9, D(6))]), policy, subject="x").cover_days == D("5.0")
    assert suggest(_velocity(0.0), Position(D(10)), policy, subject="x").cover_days is None


# Postings.
@pytest.mark.parametrize("against", [postings.Role.CLEARING, postings.Role.PREPAYMENTS, postings.Role.RECEIVABLE])
def test_an_invoice_balances_whatever_it_is_settled_against(against: postings.Role) -> None:
    revenue = postings.Revenue(D("100.00"), D("5.61"), D("2.85"), D("10.00"), D("22.65"))
    lines = postings.invoice(revenue, {against: revenue.total})
    assert sum(line.amount for line in lines) == 0
    assert next(line.amount for line in lines if line.role == against) == D("121.11")


def test_bill_splits_price_and_exchange_difference() -> None:
    lines = {line.role: line.amount for line in postings.bill(D("60.00"), D("63.00"), D("14.49"), exchange=D("1.20"))}
    assert lines[postings.Role.PRICE_DIFFERENCE] == D("1.80")
    assert lines[postings.Role.EXCHANGE_DIFFERENCE] == D("1.20")
    assert lines[postings.Role.PAYABLE] == D("-77.49")
    assert lines[postings.Role.RECEIVED_NOT_BILLED] == D("60.00")


def test_receipt_with_true_up_and_adjustments_balance() -> None:
    lines = postings.receipt([(1, D("23.50"), D("1.50"))])
    assert {(line.role.value, line.amount) for line in lines} == {
        ("inventory", D("23.50")),
        ("cost_of_sales", D("1.50")),
        ("received_not_billed", D("-25.00")),
    }
    damaged = postings.adjustment("damaged", [(1, D("-7.00"), D(0))])
    assert {(line.role.value, line.amount) for line in damaged} == {("inventory", D("-7.00")), ("damage", D("7.00"))}
    with pytest.raises(RefusedError):
        postings.adjustment("whim", [])
    with pytest.raises(UnbalancedError):
        postings.balanced([postings.Line(postings.Role.BANK, D(1))])


def test_a_quantity_lies_at_the_places_of_a_channel() -> None:
    """Our rule: filled in their order by what lies there; what none holds is shown at the first."""
    assert split(35_000, {"a": 34_000, "b": 4_000}, "a") == {"a": 34_000, "b": 1_000}
    assert split(40_000, {"a": 34_000, "b": 4_000}, "a") == {"a": 36_000, "b": 4_000}
    assert split(3_000, {"a": 20_000, "b": 25_000}, "a", 12) == {"a": 1_000, "b": 2_000}
    assert split(0, {"a": -2_000, "b": 5_000}, "a") == {"a": 0, "b": 0}


def profit_of(**more: D) -> Profit:
    """The design's worked example of what an order earns."""
    facts = {"goods": D("71.14"), "discount": D("7.11"), "extras": D("8.46"), "goods_cost": D("37.68")}
    fees = {"fee_rate": D(0), "fee_fixed": D("1.85"), "gross": D("87.00")}
    return Profit(**{**facts, **fees, **more}, basis="moving average cost")


def test_the_profit_of_the_worked_example() -> None:
    of = profit_of()
    assert (of.net_revenue, of.charged, of.fees) == (D("64.03"), D("72.49"), D("1.85"))
    assert (of.contribution, of.margin_percent) == (D("32.96"), D("45.5"))
    assert profit_of(goods=D(0), discount=D(0), extras=D(0)).margin_percent is None


@given(*[st.integers(0, 999_999)] * 4, st.integers(0, 3000))
def test_the_lines_of_a_profit_add_up_to_it(credited: int, back: int, penalty: int, carrier: int, rate: int) -> None:
    cents = {"credited": credited, "cost_back": back, "penalty": penalty, "carrier": carrier}
    of = profit_of(**{name: D(value) / 100 for name, value in cents.items()}, fee_rate=D(rate) / 100)
    terms = [step for step in of.working.steps if step.kind == "term"]
    assert sum((-step.value if step.op == "-" else step.value for step in terms), D(0)) == of.contribution
    assert of.working.steps[-1].value == of.contribution == of.charged - of.cost - of.fees - of.penalty - of.carrier
