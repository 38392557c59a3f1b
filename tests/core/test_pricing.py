"""Price lists: endings, margin and markup, who follows whom, who speaks; one at a time and as columns."""

from dataclasses import replace
from datetime import date, timedelta
from decimal import Decimal

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from yuvrel.core.errors import BadInputError
from yuvrel.core.price_change import PriceRule, changed_price
from yuvrel.core.price_columns import (
    ABOVE,
    BELOW,
    NONE,
    EntryColumns,
    ItemColumns,
    TogetherColumns,
    changed_columns,
    first_that_speaks,
    floor_units,
    previous_columns,
    price_columns,
    scaled,
    under_floor,
)
from yuvrel.core.pricing import (
    Entry,
    ItemFacts,
    Method,
    PriceBook,
    PriceList,
    Rounding,
    Speaker,
    Together,
    asked_price,
    in_order_of_parents,
    margin_percent,
    net_from_cost,
    put_tax,
    rate_of,
    related,
    take_tax,
    with_ending,
)

D = Decimal
TODAY = date(2027, 3, 14)
RETAIL = PriceList(1, "Retail")
FACTS = {7: ItemFacts(D(20), D("6.00"), D("6.50"))}


def book(*lists, entries=(), items=FACTS):
    by_place: dict = {}
    for entry in entries:
        by_place.setdefault((entry.list, entry.item), []).append(entry)
    return PriceBook({one.key: one for one in lists}, by_place, items)


def test_margin_markup_tax_and_ending_of_the_design():
    # 02-domain: cost 6.00, margin 40 % -> 10.00 net (markup 8.40); tax 20 % -> 12.00; +15 % with .95 -> 13.95
    assert net_from_cost(D(6), Method.MARGIN, D(40)) == 10
    assert net_from_cost(D(6), Method.MARKUP, D(40)) == D("8.40")
    assert put_tax(D(10), D(20)) == 12
    shop = PriceList(1, "Shop", method=Method.MARGIN, percent=D(40))
    market = PriceList(2, "Market", method=Method.DERIVED, parent=1, percent=D(15), ending=D("0.95"))
    found = book(shop, market)
    assert found.price(1, 7, TODAY).amount == 12
    assert found.price(2, 7, TODAY).amount == D("13.95")
    assert [step.value for step in found.price(2, 7, TODAY).steps] == [12, D("13.80"), D("13.95")]


# Markup and margin of one price, as handbooks of retail arithmetic tabulate them: markup 25 % on cost is 20 % of the
# price, 50 is 33⅓, 100 is 50. Common practice, no source.
@pytest.mark.parametrize(("markup", "margin"), [("25", "20"), ("50", "33.33"), ("100", "50"), ("0", "0")])
def test_a_markup_and_the_margin_it_comes_to(markup, margin):
    net = net_from_cost(D(80), Method.MARKUP, D(markup))
    assert round(margin_percent(net, D(80)), 2) == D(margin)


@pytest.mark.parametrize(
    ("amount", "ending", "rounding", "expected"),
    [
        ("13.80", "0.95", "up", "13.95"),
        ("13.95", "0.95", "up", "13.95"),
        ("13.96", "0.95", "up", "14.95"),
        ("13.96", "0.95", "nearest", "13.95"),
        ("13.45", "0.95", "nearest", "13.95"),
        ("13.44", "0.95", "nearest", "12.95"),
        ("13.80", "0.95", "down", "12.95"),
        ("0.40", "0.95", "down", "0.95"),
        ("121.10", "9", "up", "129"),
        ("121.10", "9", "nearest", "119"),
        ("121.10", "99", "up", "199"),
        ("12.01", "0", "up", "13"),
        ("0.30", "0", "down", "1"),
    ],
)
def test_endings(amount, ending, rounding, expected):
    assert with_ending(D(amount), D(ending), Rounding(rounding)) == D(expected)


@given(st.decimals("0.01", "99999", places=2), st.sampled_from(["0", "0.5", "0.95", "0.99", "9", "9.95", "49"]))
def test_a_price_that_has_its_ending_stays_and_never_falls_when_rounded_up(amount, ending):
    for rounding in Rounding:
        ended = with_ending(amount, D(ending), rounding)
        assert ended > 0
        assert with_ending(ended, D(ending), rounding) == ended
    assert with_ending(amount, D(ending)) >= amount


@pytest.mark.parametrize("bad", [D("-0.05"), D(100), D("0.955")])
def test_an_ending_that_cannot_be(bad):
    with pytest.raises(BadInputError) as refused:
        PriceList(1, "Retail", ending=bad)
    assert refused.value.field == "ending"


@pytest.mark.parametrize(
    ("rule", "field"),
    [
        ({"method": Method.DERIVED}, "parent_id"),
        ({"method": Method.DERIVED, "parent": 2, "percent": D(-100)}, "percent"),
        ({"method": Method.MARGIN, "percent": D(100)}, "percent"),
        ({"method": Method.MARKUP, "percent": D(-1)}, "percent"),
        ({"rate": D(0)}, "rate"),
        ({"starts": TODAY, "ends": TODAY - timedelta(1)}, "ends_on"),
    ],
)
def test_a_rule_that_cannot_be_names_its_field(rule, field):
    with pytest.raises(BadInputError) as refused:
        PriceList(1, "One", **rule)
    assert refused.value.field == field


def test_a_circle_is_named_whichever_list_comes_first():
    ring = [PriceList(n, name, method=Method.DERIVED, parent=n % 3 + 1) for n, name in ((1, "A"), (2, "B"), (3, "C"))]
    for turn in range(3):
        with pytest.raises(BadInputError, match=r"circle: .* → .* → .* → "):
            in_order_of_parents(ring[turn:] + ring[:turn])
    with pytest.raises(BadInputError, match="circle: A → A"):
        in_order_of_parents([PriceList(1, "A", method=Method.DERIVED, parent=1)])
    with pytest.raises(BadInputError, match="not there"):
        in_order_of_parents([PriceList(1, "A", method=Method.DERIVED, parent=9)])


def test_breaks_dates_and_what_stood_before():
    entries = [
        Entry(1, 7, D(20), key=1),
        Entry(1, 7, D(18), from_quantity=D(10), key=2),
        Entry(1, 7, D(15), starts=TODAY, ends=TODAY + timedelta(6), key=3),
        Entry(1, 7, D(16), starts=TODAY - timedelta(3), ends=TODAY + timedelta(30), key=4),
    ]
    found = book(RETAIL, entries=entries)
    week = TODAY + timedelta(7)
    assert found.price(1, 7, TODAY - timedelta(9)).amount == 20
    assert (found.price(1, 7, TODAY).amount, found.price(1, 7, TODAY).previous) == (15, 20)  # began last
    assert found.price(1, 7, week).amount == 16
    assert found.price(1, 7, TODAY, D(10)).amount == 18
    assert found.price(1, 7, TODAY, D("9.999")).amount == 15
    assert found.price(1, 7, week + timedelta(30)).previous is None
    assert found.quantities(1, 7, TODAY) == [1, 10]


def test_a_previous_price_is_shown_only_when_it_is_higher():
    lower = book(RETAIL, entries=[Entry(1, 7, D(20), previous=D(18))])
    higher = book(RETAIL, entries=[Entry(1, 7, D(20), previous=D("24.50"))])
    dearer = book(RETAIL, entries=[Entry(1, 7, D(20)), Entry(1, 7, D(22), starts=TODAY)])
    assert lower.price(1, 7, TODAY).previous is None
    assert higher.price(1, 7, TODAY).previous == D("24.50")
    assert dearer.price(1, 7, TODAY).previous is None
    shop = PriceList(2, "Shop", method=Method.DERIVED, parent=1, percent=D(10))
    sale = book(RETAIL, shop, entries=[Entry(1, 7, D(20)), Entry(1, 7, D(15), ends=TODAY)])
    assert (sale.price(2, 7, TODAY).amount, sale.price(2, 7, TODAY).previous) == (D("16.50"), 22)


def test_tax_and_currency_on_the_way_to_a_derived_list():
    trade = PriceList(2, "Trade", taxed=False, method=Method.DERIVED, parent=1, percent=D(-10))
    pounds = PriceList(3, "Pounds", currency="GBP", taxed=False, method=Method.DERIVED, parent=2, rate=D("0.85"))
    yen = PriceList(4, "Yen", currency="JPY", method=Method.DERIVED, parent=1, rate=D("160.5"))
    found = book(RETAIL, trade, pounds, yen, entries=[Entry(1, 7, D("24.60"))])
    assert found.price(2, 7, TODAY).amount == D("18.45")  # 24.60 ÷ 1.2 = 20.50, less 10 %
    assert found.price(3, 7, TODAY).amount == D("15.68")  # 15.6825
    assert found.price(4, 7, TODAY).amount == 3948  # 3948.30, and the yen has no coins below one
    back = PriceList(5, "Back", method=Method.DERIVED, parent=2)
    assert book(RETAIL, trade, back, entries=[Entry(1, 7, D("24.60"))]).price(5, 7, TODAY).amount == D("22.14")


def test_no_cost_no_price_from_cost_and_nothing_below_zero():
    cost = PriceList(1, "Cost", method=Method.MARKUP, percent=D(10))
    less = PriceList(2, "Less", method=Method.DERIVED, parent=1, amount=D(-100), ending=D("0.95"))
    assert book(cost, items={7: ItemFacts(D(20), None, D(5))}).price(1, 7, TODAY) is None
    assert book(cost, less).price(2, 7, TODAY) is None
    free = PriceList(2, "Free", method=Method.DERIVED, parent=1, ending=D("0.95"))
    assert book(RETAIL, free, entries=[Entry(1, 7, D(0))]).price(2, 7, TODAY).amount == 0


LISTS = {"own": 10, "group": 11, "connection": 12, "place": 13, "company": 1}


@pytest.mark.parametrize("present", range(32))
def test_who_speaks_as_a_whole_decision_table(present):
    """Each of the 32 ways in which five lists may have a price or not: the most special that has one counts."""
    lists = [PriceList(key, name) for name, key in LISTS.items()]
    has = [name for n, name in enumerate(LISTS) if present >> n & 1]
    entries = [Entry(LISTS[name], 7, D(100 + LISTS[name])) for name in has]
    asked = asked_price(book(*lists, entries=entries), [Speaker(n, k) for n, k in LISTS.items()], 7, TODAY)
    if not has:
        assert asked.price is None
        assert asked.working("x").result == "none"
        return
    assert asked.whose == has[0]
    assert asked.price.amount == 100 + LISTS[has[0]]
    assert [why.rsplit(", ")[-1] for _, said, why in asked.heard if said] == ["counts"] + ["overruled"] * (len(has) - 1)
    assert asked.working("x").result == asked.price.amount


def test_a_list_in_another_currency_or_out_of_its_dates_is_passed_over():
    lists = [PriceList(1, "Base"), PriceList(2, "Pounds", currency="GBP"), PriceList(3, "Old", ends=TODAY - timedelta(1))]
    found = book(*lists, entries=[Entry(n, 7, D(n)) for n in (1, 2, 3)])
    asked = asked_price(found, [Speaker("connection", 2), Speaker("place", 3), Speaker("company", 1)], 7, TODAY)
    assert asked.price.amount == 1
    assert [why for _, _, why in asked.heard] == ["Pounds is in GBP", "Old is not in force", "Base, counts"]


PERCENTS = st.decimals("-95", "300", places=2)
CURRENCIES = st.sampled_from([("EUR", D(1)), ("GBP", D("0.8534")), ("JPY", D("161.203")), ("KWD", D("0.331277"))])
ENDINGS = st.sampled_from([None, D(0), D(9), D(90)])


@st.composite
def any_lists(draw):
    """A list that is typed and one worked out from cost, then up to five that follow any of those before them."""
    lists = [RETAIL, PriceList(2, "Cost", method=Method.MARGIN, percent=draw(st.decimals("0", "95", places=2)), basis="last")]
    for key in range(3, 3 + draw(st.integers(0, 5))):
        currency, rate = draw(CURRENCIES)
        places = 0 if currency == "JPY" else 2
        lists.append(
            PriceList(
                key,
                f"L{key}",
                currency,
                draw(st.booleans()),
                Method.DERIVED,
                draw(st.integers(1, key - 1)),
                draw(PERCENTS),
                draw(st.decimals("-5", "5", places=places)),
                rate,
                draw(ENDINGS),
                draw(st.sampled_from(Rounding)),
            )
        )
    return draw(st.permutations(lists))


@st.composite
def any_entries(draw, lists):
    found = []
    for key in range(draw(st.integers(0, 12))):
        one = draw(st.sampled_from(lists))
        places = 0 if one.currency == "JPY" else 2
        starts = draw(st.sampled_from([None, TODAY, TODAY - timedelta(5)]))
        price = draw(st.decimals("0", "9999", places=places))
        previous = draw(st.one_of(st.none(), st.decimals("0", "9999", places=places)))
        least = D(draw(st.sampled_from([0, 1, 10])))
        found.append(Entry(one.key, draw(st.integers(0, 2)), price, least, previous, starts, None, key))
    return found


def columns_of(lists, entries, items):
    exponents = {"EUR": 2, "GBP": 2, "JPY": 0, "KWD": 3}
    units = {one.key: 10 ** exponents[one.currency] for one in lists}
    rows = [
        (
            e.list,
            e.item,
            int(e.price * units[e.list]),
            int(e.from_quantity * 1000),
            e.starts.toordinal() if e.starts else 0,
            e.key,
            NONE if e.previous is None else int(e.previous * units[e.list]),
        )
        for e in entries
    ]
    facts = [items[n] for n in range(3)]
    cost = [[int((x or 0) * 10**6) for x in of] for of in ((f.average for f in facts), (f.last for f in facts))]
    held = ItemColumns(np.array([int(f.tax_percent * 100) for f in facts]), np.array(cost[0]), np.array(cost[1]))
    return EntryColumns.of(rows), held, units


@st.composite
def any_bundles(draw):
    """Item 2 made of both others, or item 1 made of 0 and 2 of both; or no bundle."""
    each, off = st.decimals("0.001", "9", places=3), st.decimals("0", "99.99", places=2)

    def bundle(*parts):
        return Together(tuple((part, draw(each), f"S{part}") for part in parts), draw(off))

    return draw(st.sampled_from([{}, {2: bundle(0, 1)}, {1: bundle(0), 2: bundle(0, 1)}]))


@settings(max_examples=150)
@given(st.data())
def test_columns_say_what_the_book_says_of_every_item_in_every_list(data):
    lists = data.draw(any_lists())
    entries = data.draw(any_entries(lists))
    cost = st.one_of(st.none(), st.decimals("0.000001", "5000", places=6))
    items = {n: ItemFacts(data.draw(st.decimals("0", "30", places=2)), data.draw(cost), data.draw(cost)) for n in range(3)}
    quantity = data.draw(st.sampled_from([1, 9, 10]))
    typed, facts, units = columns_of(lists, entries, items)
    bundles = data.draw(any_bundles())
    made = {
        key: ([(part, int(each * 1000)) for part, each, _ in of.parts], int(of.percent_off * 100)) for key, of in bundles.items()
    }
    more = {"quantity": quantity * 1000, "base": RETAIL.key, "together": TogetherColumns.of(made, 3) if made else None}
    found = price_columns(lists, facts, typed, TODAY, **more)
    undated = price_columns(lists, facts, typed.only(typed.starts == 0), TODAY, **more)
    before = previous_columns(found, undated, typed, 3, quantity * 1000)
    one_by_one = replace(book(*lists, entries=entries, items=items), base=RETAIL.key, together=bundles)
    for one in lists:
        for n in range(3):
            said = one_by_one.price(one.key, n, TODAY, D(quantity))
            assert found[one.key][n] == (NONE if said is None else said.amount * units[one.key])
            previous = said.previous if said else None
            assert before[one.key][n] == (NONE if previous is None else previous * units[one.key])
    order = [one.key for one in lists if one.currency == "EUR"]
    price, whose = first_that_speaks(found, order, 3)
    for n in range(3):
        asked = asked_price(one_by_one, [Speaker(str(key), key) for key in order], n, TODAY, quantity=D(quantity))
        assert price[n] == (NONE if asked.price is None else asked.price.amount * 100)
        assert whose[n] == (asked.price.list.key if asked.price else 0)


def test_what_a_price_leaves_after_tax_and_what_the_channel_keeps():
    # 12.00 with 20 % tax: net 10.00, cost 6.00; 8 % of 12.00 is 0.96, which leaves 3.04 of ten.
    made = book(RETAIL, PriceList(2, "Net", taxed=False), entries=[Entry(1, 7, D(12)), Entry(2, 7, D(10))])
    for key in (1, 2):
        left = made.left(made.price(key, 7, TODAY), 7, D(8))
        assert (left.net, left.cost, left.fee, left.percent) == (D(10), D(6), D("0.96"), D("30.4"))
    assert made.left(made.price(1, 7, TODAY), 7).percent == 40


def test_a_bundle_costs_what_its_parts_do_until_a_price_is_typed_for_it():
    # 19.95 x 2 + 7.55 = 47.45, less 10 % = 42.705.
    typed = [Entry(1, 1, D("19.95")), Entry(1, 2, D("7.55")), Entry(1, 2, D("5.00"), D(10)), Entry(1, 9, D("39.00"), D(5))]
    bundle = {9: Together(((1, D(2), "BOX"), (2, D(1), "TOOL")), D(10))}
    trade = PriceList(2, "Trade", method=Method.DERIVED, parent=1, percent=D(-20), taxed=False)
    made = replace(book(RETAIL, trade, entries=typed, items={9: ItemFacts(D(20))}), base=1, together=bundle)
    said = made.price(1, 9, TODAY)
    assert (said.amount, said.how) == (D("42.71"), Method.PARTS)
    assert [(step.label, step.value) for step in said.steps] == [
        ("BOX", D("39.90")),
        ("TOOL", D("7.55")),
        ("As a bundle", D("42.71")),
    ]
    # Ten of them are not ten of each part; its own price from five on speaks.
    assert made.price(1, 9, TODAY, D(10)).amount == 39
    # A list that follows it follows the sum: 42.71 ÷ 1.20 = 35.59, less 20 %.
    assert made.price(2, 9, TODAY).amount == D("28.47")
    assert replace(made, entries={(1, 1): typed[:1]}).price(1, 9, TODAY) is None
    with pytest.raises(BadInputError) as refused:
        Together((), D(100))
    assert refused.value.field == "percent_off"


RULES = st.one_of(
    st.builds(PriceRule, st.just("percent"), st.decimals("-99", "300", places=2), ENDINGS, st.sampled_from(Rounding)),
    st.builds(PriceRule, st.just("amount"), st.integers(-50, 50).map(D), ENDINGS, st.sampled_from(Rounding)),
    st.builds(PriceRule, st.sampled_from(["margin", "markup"]), st.decimals("0", "95", places=2), ENDINGS),
    st.builds(PriceRule, st.just("ending"), st.just(D(0)), st.sampled_from([D(0), D(9)]), st.sampled_from(Rounding)),
)


@given(st.data())
def test_a_rule_over_columns_comes_to_what_it_comes_to_for_each_item(data):
    lists = data.draw(any_lists())
    entries = data.draw(any_entries(lists))
    cost = st.one_of(st.none(), st.decimals("0.000001", "5000", places=6))
    items = {n: ItemFacts(data.draw(st.decimals("0", "30", places=2)), data.draw(cost), data.draw(cost)) for n in range(3)}
    typed, facts, units = columns_of(lists, entries, items)
    one, rule = data.draw(st.sampled_from(lists)), data.draw(RULES)
    now = price_columns(lists, facts, typed, TODAY)[one.key]
    then = changed_columns(now, rule, one, facts)
    for n in range(3):
        before = None if now[n] == NONE else D(int(now[n])) / units[one.key]
        try:
            expected = changed_price(before, rule, one, items[n])
        except BadInputError:
            assert then[n] in (BELOW, ABOVE)
        else:
            assert then[n] == (NONE if expected is None else expected * units[one.key])


@given(st.integers(1, 9), PERCENTS, st.decimals("0.01", "999", places=2))
def test_scaling_the_base_scales_what_derives_from_it_up_to_rounding(factor, percent, base):
    derived = PriceList(2, "Two", method=Method.DERIVED, parent=1, percent=percent)
    small = book(RETAIL, derived, entries=[Entry(1, 7, base)]).price(2, 7, TODAY).amount
    large = book(RETAIL, derived, entries=[Entry(1, 7, base * factor)]).price(2, 7, TODAY).amount
    assert abs(large - small * factor) <= D("0.005") * (factor + 1)


@given(st.decimals("0.01", "99999", places=2), st.decimals("0", "30", places=2))
def test_tax_taken_off_and_put_on_again(gross, percent):
    assert abs(put_tax(take_tax(gross, percent), percent) - gross) <= D("0.01")


@given(st.integers(0, 10**9), st.integers(0, 10**13), st.one_of(st.none(), st.decimals("-1000", "100", places=2)), st.booleans())
def test_below_the_floor_as_columns_and_as_one(cents, cost, floor, known):
    cost = cost if known else 0
    found = under_floor(np.array([cents, NONE]), np.array([cost, cost]), floor_units([floor, floor]))
    margin = margin_percent(D(cents) / 100, D(cost) / 10**6) if cost else None
    assert found.tolist() == [floor is not None and margin is not None and margin < floor, False]


def test_the_rate_on_the_way_to_the_companys_currency():
    pounds = PriceList(2, "Pounds", "GBP", method=Method.DERIVED, parent=1, rate=D("0.85"))
    dollars = PriceList(3, "Dollars", "USD", method=Method.DERIVED, parent=2, rate=D("1.30"))
    typed, told = PriceList(4, "Typed", "USD"), PriceList(5, "Told", "USD", rate=D("1.10"))
    cost = PriceList(6, "Cost", "JPY", method=Method.MARGIN, percent=D(10), rate=D(160))
    lists = {one.key: one for one in (RETAIL, pounds, dollars, typed, told, cost)}
    assert [rate_of(lists, key) for key in lists] == [1, D("0.85"), D("1.105"), None, D("1.10"), 160]


def test_all_that_a_change_of_a_list_can_touch():
    trade = PriceList(2, "Trade", method=Method.DERIVED, parent=1)
    staff = PriceList(3, "Staff", method=Method.DERIVED, parent=2)
    lists = {one.key: one for one in (RETAIL, trade, staff, PriceList(4, "Other"))}
    assert [sorted(related(lists, key)) for key in lists] == [[1, 2, 3], [1, 2, 3], [1, 2, 3], [4]]


def test_what_does_not_fit_64_bits_is_exact_all_the_same():
    values = np.array([10**12, 3, 0], np.int64)
    assert scaled(values, 10**12 + 1, 10**6).tolist() == [(10**12 * (10**12 + 1) * 2 + 10**6) // (2 * 10**6), 3000000, 0]
