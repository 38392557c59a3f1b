"""Replenishment: handbook examples, the domain's check values, and what must always hold."""

from __future__ import annotations

from dataclasses import replace
from datetime import date
from decimal import Decimal as D

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from bench import simulated
from yuvrel.core import lotsize, policytest
from yuvrel.core.errors import BadInputError
from yuvrel.core.forecast import forecast, make_series, quantile
from yuvrel.core.forecast.spread import stays_below
from yuvrel.core.network import Place, plan
from yuvrel.core.outlook import Outlook, paths_of
from yuvrel.core.overstock import Month, budget_left, open_to_buy, overstock, ranked
from yuvrel.core.replenish import Policy, Position, Suggestion, SupplierTerms, lost_to_expiry, suggest


def steady(rate: float, days: int = 60, deviation: float = 0.0) -> Outlook:
    return Outlook(np.full(days, rate), deviation * np.sqrt(np.arange(1, days + 1)))


def ask(outlook: Outlook, position: Position, policy: Policy, **more: object) -> Suggestion:
    return suggest(outlook, position, policy, subject="hive", **more)  # type: ignore[arg-type]


UNITS = {"safety": "units", "safety_figure": D(0)}


# Snyder and Shen, Fundamentals of Supply Chain Theory, 2nd ed. (Wiley 2019), the numbered examples.
def test_example_3_1_economic_quantity() -> None:
    assert lotsize.economic_quantity(8, 0.225, 1300) == (pytest.approx(304.0468, abs=5e-5), pytest.approx(68.4105, abs=5e-5))


def test_example_3_5_all_units_discount() -> None:
    found = lotsize.all_units_quantity(8, 0.3, 1300, [(0, 0.75), (400, 0.72), (800, 0.68)])
    assert found == (800, pytest.approx(978.60))


def test_example_3_9_dated_lots() -> None:
    assert lotsize.dated_lots(500, 2, [90, 120, 80, 70]) == ([210, 0, 150, 0], 1380)


def test_example_4_3_newsvendor() -> None:
    assert lotsize.newsvendor(0.18, 0.70, 50, 8) == (pytest.approx(56.6040, abs=5e-5), pytest.approx(1.9976, abs=5e-5))


def test_example_5_1_reorder_point_and_quantity() -> None:
    found = lotsize.reorder_point_and_quantity(8, 0.225, 7.5, 1300, 1300 / 12, 150 / 12**0.5)
    assert found == (pytest.approx(213.97, abs=0.005), pytest.approx(318.59, abs=0.005))


def test_normal_loss() -> None:
    assert lotsize.normal_loss(1) == pytest.approx(0.083315, abs=5e-7)


@pytest.mark.parametrize(
    "wrong",
    [
        lambda: lotsize.economic_quantity(8, 0, 1300),
        lambda: lotsize.economic_quantity(8, 0.2, float("nan")),
        lambda: lotsize.all_units_quantity(8, 0.3, 1300, [(400, 0.72)]),
        lambda: lotsize.dated_lots(500, 2, [90, -1]),
        lambda: lotsize.reorder_point_and_quantity(8, 0.225, 1e-6, 1300, 100, 40),
    ],
)
def test_impossible_costs_are_refused(wrong: object) -> None:
    with pytest.raises(BadInputError):
        wrong()  # type: ignore[operator]


@given(st.lists(st.integers(0, 60), min_size=1, max_size=8), st.integers(1, 300), st.integers(0, 5))
def test_dated_lots_cost_no_more_than_one_order_or_one_each(demand: list[int], fixed: int, holding: int) -> None:
    orders, cost = lotsize.dated_lots(fixed, holding, demand)
    assert sum(orders) == sum(demand)
    assert cost <= fixed * len(demand)
    assert cost <= fixed + holding * sum(k * d for k, d in enumerate(demand))


# The domain's check values.
def test_the_worked_example_on_a_forecast_path() -> None:
    found = ask(steady(1.2), Position(D(25), D(4), arrivals=[(10, D(10))]), Policy(21, 30, "units", D(8), pack=D(12)))
    assert (found.need, found.quantity) == (D("38.2"), D(48))
    assert [(s.label, s.value) for s in found.working.steps[:2]] == [("Demand, 51 days", D("61.2")), ("Safety stock", D(8))]


def test_open_to_buy() -> None:
    month = Month("May 2027", D(50000), D(2000), D(60000), D(55000), D(20000))
    found = open_to_buy(month, D("0.45"))
    assert (found.at_retail, found.at_cost) == (D(37000), D("20350.00"))
    assert found.working.result == D("20350.00")
    assert budget_left([found], [D(400)]) == [D("19950.00")]
    for bad in (D(1), D("-0.1"), D("nan")):
        with pytest.raises(BadInputError):
            open_to_buy(month, bad)


def test_safety_stock_of_an_uncertain_lead_time() -> None:
    # Demand N(50, 8) a day, lead time N(7, 1.5), 95 %: 128.18 (recomputation, agrees with simulation).
    policy = Policy(7, 0, lead_deviation_days=D("1.5"))
    assert ask(steady(50, deviation=8), Position(D(0)), policy).safety_stock == D("128.2")
    assert ask(steady(50, deviation=8), Position(D(0)), policy).reorder_point == D("478.2")


# Parts of the sum, one at a time; common practice, no source.
def test_promises_for_later_and_what_other_places_need_raise_the_need() -> None:
    position = Position(D(10), backordered=D(2), preorders=[(5, D(3)), (90, D(50))], transfers=D(4), to_feed=D(6))
    found = ask(steady(1.0), position, Policy(5, 15, **UNITS))
    assert found.need == D(20) + 2 + 3 + 6 - 10 - 4
    labels = [step.label for step in found.working.steps]
    assert {"Backorders", "Pre-orders due", "To feed other places", "Transfers on the way"} <= set(labels)


def test_days_of_safety_and_a_path_that_is_not_flat() -> None:
    rising = Outlook(np.arange(1.0, 61.0), np.zeros(60))
    found = ask(rising, Position(D(0)), Policy(4, 6, "days", D(3)))
    assert found.terms.demand == D(55)
    assert found.safety_stock == D("16.5")  # three days of 5.5
    assert found.reorder_point == D(10) + D("16.5")
    # 21 units sell in six days of 1 + 2 + ... + 6, not in 21 ÷ mean.
    assert ask(rising, Position(D(21)), Policy(4, 6, **UNITS)).cover_days == D(6)
    assert ask(rising, Position(D(21)), Policy(4, 6, **UNITS)).out_on(date(2026, 11, 23)) == date(2026, 11, 29)
    assert ask(steady(0.0), Position(D(21)), Policy(4, 6, **UNITS)).out_on(date(2026, 11, 23)) is None
    # Beyond the path the mean of its last 28 days goes on.
    assert ask(steady(2.0, days=10), Position(D(100)), Policy(4, 6, **UNITS)).cover_days == D(50)


def test_min_max() -> None:
    policy = Policy(5, 0, method="min_max", reorder_point=D(10), order_up_to=D(40), pack=D(6))
    assert ask(steady(1.0), Position(D(11)), policy).quantity == 0
    found = ask(steady(1.0), Position(D(10), D(2), arrivals=[(3, D(1))]), policy)
    assert (found.need, found.quantity) == (D(31), D(36))
    with pytest.raises(BadInputError, match="below the reorder point"):
        Policy(5, 0, method="min_max", reorder_point=D(10), order_up_to=D(9))


def test_price_breaks_are_taken_when_they_pay() -> None:
    offer = SupplierTerms(((D(1), D("1.00")), (D(100), D("0.85")), (D(5000), D("0.84"))))
    found = ask(steady(3.0), Position(D(0)), Policy(10, 20, pack=D(10), **UNITS), offer=offer)
    assert (found.terms.packed, found.quantity, found.price) == (D(90), D(100), D("0.85"))
    assert "up to a price break" in [step.label for step in found.working.steps]
    # A cent on five thousand does not pay for years of keeping them, nor a break that keeping costs more than it saves.
    dear = SupplierTerms(offer.breaks, holding_rate=D(20))
    assert ask(steady(0.01), Position(D(0)), Policy(0, 3000, **UNITS), offer=dear).quantity == D(30)


def test_never_more_than_is_sold_before_it_expires() -> None:
    keeps = SupplierTerms(keeps_days=20)
    found = ask(steady(2.0, days=90), Position(D(6)), Policy(10, 60, pack=D(6), **UNITS), offer=keeps)
    # Sold in the 30 days until it expires: 60, of which 6 are here: 54 in whole packs.
    assert (found.terms.packed, found.quantity) == (D(138), D(54))
    assert "no more than" in [step.label for step in found.working.steps]
    # Where even the minimum would expire there is nothing to order.
    none = ask(steady(0.1, days=90), Position(D(0)), Policy(10, 300, minimum=D(24), **UNITS), offer=keeps)
    assert none.quantity == 0
    assert "expires" in none.working.steps[-1].note


def test_lots_that_expire_unsold_are_no_stock() -> None:
    lots = [(5, D(20)), (30, D(15)), (400, D(5))]
    # Two a day: 10 of the first 20 by day 5, then 15 of the second by day 13, then the rest.
    assert lost_to_expiry(lots, steady(2.0)) == D(10)
    found = ask(steady(2.0), Position(D(40), lots=lots), Policy(10, 20, **UNITS))
    assert found.need == D(60) - (40 - 10)


def test_overstock_in_units_months_and_money() -> None:
    found = ask(steady(1.0), Position(D(100), arrivals=[(3, D(20))]), Policy(10, 20, **UNITS))
    result = overstock(found, D("4.00"), D("9.99"))
    assert (result.units, result.months) == (D(90), D("3.0"))  # 90 ÷ 30.4 a month
    assert (result.at_cost, result.at_retail) == (D("360.00"), D("899.10"))
    dead = overstock(ask(steady(0.0), Position(D(5)), Policy(10, 20, **UNITS)), D(1), D(300))
    assert (dead.months, dead.units) == (None, D(5))
    assert ranked([result, dead]) == [1, 0]


# Places that feed one another.
def place(stock: int, rate: float, **more: object) -> Place:
    return Place("p", steady(rate), Position(D(stock)), Policy(5, 15, **UNITS), **more)  # type: ignore[arg-type]


def test_a_fed_place_is_filled_by_transfer_and_its_feeder_buys_for_both() -> None:
    found = plan({1: place(30, 1.0), 2: place(4, 0.5), 3: place(0, 1.0)}, {2: 1, 3: 2})
    assert found[3].suggestion.quantity == D(20) and found[3].source == 2
    assert found[2].suggestion.quantity == D(10) + 20 - 4
    assert found[1].source is None
    assert found[1].suggestion.need == D(20) + 26 - 30
    assert found[3].now == D(4)  # what place 2 has
    assert found[2].now == D(26)
    assert found[3].suggestion.working.title == "How many should come from p?"


def test_the_place_that_runs_out_first_is_sent_first() -> None:
    found = plan({1: place(12, 0.0), 2: place(15, 1.0), 3: place(2, 1.0)}, {2: 1, 3: 1})
    assert (found[3].now, found[2].now) == (D(12), D(0))


def test_circles_and_unknown_places_are_named() -> None:
    with pytest.raises(BadInputError, match="circle: Yard > Stall"):
        plan({1: replace(place(1, 1), name="Yard"), 2: replace(place(1, 1), name="Stall")}, {1: 2, 2: 1})
    with pytest.raises(BadInputError, match="no place 7"):
        plan({1: place(1, 1)}, {1: 7})


# What must always hold.
amounts = st.integers(0, 300)


@given(
    amounts,
    st.integers(1, 500),
    amounts,
    st.integers(0, 60),
    st.integers(1, 30),
    st.integers(0, 120),
    st.sampled_from([None, 10, 60]),
)
def test_more_stock_never_raises_a_suggestion(
    stock: int, rate: int, more: int, least: int, pack: int, owed: int, keeps: int | None
) -> None:
    offer = SupplierTerms(((D(1), D("2.00")), (D(60), D("1.80")), (D(200), D("1.50"))), keeps_days=keeps)
    policy = Policy(7, 21, minimum=D(least), pack=D(pack))
    path = steady(rate / 50, deviation=rate / 80)
    here, there = (ask(path, Position(D(x), backordered=D(owed)), policy, offer=offer).quantity for x in (stock, stock + more))
    assert there <= here
    assert here % pack == 0
    assert here == 0 or here >= least


@pytest.mark.parametrize(
    "wrong",
    [
        lambda: Position(D("nan")),
        lambda: Position(D(1), backordered=D("inf")),
        lambda: Position(D(1), committed=D(-1)),
        lambda: Position(D(1), arrivals=[(1, D(-2))]),
        lambda: Policy(-1, 5),
        lambda: Policy(1, 5, pack=D(0)),
        lambda: Policy(1, 5, safety_figure=D(1)),
        lambda: Policy(1, 5, minimum=D("nan")),
        lambda: Policy(1, 5, pack=D("nan")),
        lambda: Policy(1, 5, safety_figure=D("nan")),
        lambda: Policy(1, 5, lead_deviation_days=D("inf")),
        lambda: SupplierTerms(((D(1), D("nan")),)),
        lambda: SupplierTerms(((D(1), D(-2)),)),
        lambda: SupplierTerms(holding_rate=D("inf")),
    ],
)
def test_positions_policies_and_offers_that_cannot_be_are_refused(wrong: object) -> None:
    with pytest.raises(BadInputError):
        wrong()  # type: ignore[operator]


# Quantiles and forecast paths.
@given(st.floats(0.01, 500), st.floats(0.01, 300), st.floats(0.02, 0.98))
def test_quantiles_are_those_of_the_gamma_distribution(mean: float, deviation: float, level: float) -> None:
    shape = (mean / deviation) ** 2
    if not 1e-3 < shape < 800:
        return
    expected = stats.gamma.ppf(level, shape, scale=mean / shape)
    assert quantile(np.array([mean]), np.array([deviation]), level)[0] == pytest.approx(expected, rel=1e-6, abs=1e-9)


@given(st.integers(0, 10**6), st.sampled_from([0.05, 0.1, 0.8, 0.95, 0.98]))
def test_staying_below_a_quantile_is_told_without_working_it_out(seed: int, level: float) -> None:
    chance = np.random.default_rng(seed)
    mean = np.exp(chance.normal(0, 3, 400))
    deviation = mean * np.exp(chance.normal(0, 1.5, 400))
    actual = np.where(chance.random(400) < 0.3, 0, np.round(chance.gamma(1, mean)))
    assert (stays_below(actual, mean, deviation, level) == (actual <= quantile(mean, deviation, level))).all()


def test_a_forecast_becomes_a_path_of_days() -> None:
    units = np.random.default_rng(3).poisson(14, (40, 80)).astype(float)
    found = forecast(make_series(units, None, 52), 6)
    path = paths_of(found, "week")[0].outlook(found.choice.sentence(0))
    assert path.reach == 42
    assert path.total(21) == pytest.approx(found.mean[0, :3].sum())
    assert path.spread(28) == pytest.approx(found.spread.total[0, 3])
    level = found.totals(0.95)[0, 3]
    assert path.safety(0.95, 28) == pytest.approx(level - path.total(28), rel=1e-6)
    assert path.safety(0.95, 28, normal=True) == pytest.approx(1.644854 * path.spread(28), rel=1e-5)
    assert path.safety(0.95, 28, 3.0) > path.safety(0.95, 28)
    assert path.until(path.total(17.5)) == pytest.approx(17.5)
    with pytest.raises(BadInputError):
        path.safety(1.0, 10)


# Policies run over the past.
def test_a_policy_run_by_hand() -> None:
    # Lead 1, point 2, up to 6, starts with 4; demand 3 each period.
    # p0: 4-3=1, order 5. p1: nothing yet, serves 1, short 2 (owed), position 0-2+5=3: no order.
    # p2: 5 come, 2 owed, 3 serve all, 0 left: order 6. p3: short 3, owed 3, position -3+6=3. p4: 6 come, 3 owed, 3 serve: 0.
    demand = np.full((1, 5), 3.0)
    levels = policytest.Levels(np.full((1, 5), 2.0), np.full((1, 5), 6.0))
    found = policytest.run(demand, levels, policytest.Rules(lead=1), np.array([4.0]), unit_cost=2.0)
    assert found.short[0] == 5
    assert found.fill_rate[0] == pytest.approx(10 / 15)
    assert found.orders[0] == 3
    assert found.average_stock[0] == pytest.approx(1 / 5)
    assert found.stock_value[0] == pytest.approx(2 / 5)
    assert found.cycle_service[0] == 0
    lost = policytest.run(demand, levels, policytest.Rules(lead=1, backorders=False, pack=4, minimum=8), np.array([4.0]))
    # p0: 4-3=1, order 8. p1: serves 1, loses 2. p2: 8 come, 5 left. p3: 2 left, order 8. p4: serves 2, loses 1.
    assert (lost.orders[0], lost.short[0]) == (2, 3)


def test_enough_stock_serves_all_and_none_serves_nothing() -> None:
    demand = np.random.default_rng(1).poisson(4, (20, 50)).astype(float)
    high, none = (policytest.Levels(np.full(demand.shape, x), np.full(demand.shape, x)) for x in (1e6, -1.0))
    rules = policytest.Rules(lead=2)
    assert (policytest.run(demand, high, rules, np.full(20, 1e6)).fill_rate == 1).all()
    assert (policytest.run(demand, none, rules, np.zeros(20)).fill_rate == 0).all()
    with pytest.raises(BadInputError):
        policytest.run(demand * np.nan, high, rules, np.zeros(20))
    with pytest.raises(BadInputError):
        policytest.run(demand, policytest.Levels(demand[:1], demand[:1]), rules, np.zeros(20))


def test_a_higher_service_level_serves_more_and_holds_more() -> None:
    rng = np.random.default_rng(7)
    mean, shape = simulated.skewed(40, 108, rng, (0.1, 0.4), (1.5, 4.0))
    series = make_series(simulated.draw(mean, shape, rng), None, 52)
    rows = [policytest.replay(series, policytest.Rules(lead=3), level, 4, begin=92).summary() for level in (0.8, 0.98)]
    assert rows[0]["fill rate"] < rows[1]["fill rate"]
    assert rows[0]["average stock"] < rows[1]["average stock"]
    # A review every period and orders of four weeks: few cycles are at risk for long, so service lies above the level.
    assert rows[1]["cycle service"] > 0.93
    with pytest.raises(BadInputError):
        policytest.replay(series, policytest.Rules(lead=3), 0.9, 4, begin=108)
