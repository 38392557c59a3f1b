"""Price lists kept by people: made, changed with rehearsal, dated, undone, sent in as a sheet."""

from __future__ import annotations

from datetime import timedelta
from decimal import Decimal as D
from typing import Any

import pytest
from django.utils import timezone

from tests.world import NOW, make_bundle, make_company, make_item
from yuvrel.catalogue.models import Category, Item, ItemPrice
from yuvrel.catalogue.products import change_items, set_parts
from yuvrel.catalogue.retail import keep_prices
from yuvrel.core.errors import BadInputError, ForbiddenError, RefusedError, StaleError
from yuvrel.core.price_change import PriceRule
from yuvrel.core.rules import Level, Rung
from yuvrel.core.sheets import table_lines
from yuvrel.events.models import Event
from yuvrel.intake import actions as intake
from yuvrel.intake.models import Intake
from yuvrel.people.roles import SYSTEM, Actor, Role
from yuvrel.pricing import queries
from yuvrel.pricing.actions import begin_day, delete_list, keep_list
from yuvrel.pricing.changes import Selection, Typed, apply_rule, rehearse_list, rehearse_rule, type_prices, undo
from yuvrel.pricing.loading import all_lists, base_list, load_book, load_columns
from yuvrel.pricing.models import PriceChange, PriceEntry, PriceList
from yuvrel.rules.actions import change
from yuvrel.stock.models import StockMove

pytestmark = pytest.mark.django_db
TODAY = NOW.date()


@pytest.fixture
def place(db: None) -> Any:
    return make_company()


def price(key: int, item: Item, day: Any = TODAY, quantity: str = "1") -> D | None:
    """What a list says of an item."""
    found = load_book([item.pk]).price(key, item.pk, day, D(quantity))
    return found.amount if found else None


def make_list(name: str, **facts: Any) -> PriceList:
    return keep_list(SYSTEM, None, 0, {"name": name, **facts})


def test_a_bundle_follows_what_its_parts_cost(place: Any) -> None:
    box, tool = make_item("BOX"), make_item("TOOL")
    keep_prices({box.pk: D("19.95"), tool.pk: D("7.55")})
    kit = make_bundle("KIT", {box: 2, tool: 1})
    crate = make_bundle("CRATE", {kit: 10})
    base = base_list()

    def own() -> dict[str, D]:
        return dict(ItemPrice.objects.values_list("item__sku", "amount"))

    def bundled(item: Item, off: str | None) -> None:
        item.refresh_from_db()
        parts = list(item.components.values_list("component_id", "quantity"))
        set_parts(SYSTEM, item.pk, item.version, parts, None if off is None else D(off))

    bundled(crate, "0")
    bundled(kit, "10")
    assert (price(base.pk, kit), price(base.pk, crate)) == (D("42.71"), D("427.10"))
    assert own() == {"BOX": D("19.95"), "TOOL": D("7.55"), "KIT": D("42.71"), "CRATE": D("427.10")}

    # A price of a part moves them at once; one for a time while it lasts, with what stood before beside it.
    type_prices(SYSTEM, base.pk, [Typed(box.pk, D("20.00"))], NOW)
    assert (own()["KIT"], own()["CRATE"]) == (D("42.80"), D("428.00"))
    type_prices(SYSTEM, base.pk, [Typed(tool.pk, D("5.00"), starts_on=TODAY, ends_on=TODAY)], NOW)
    found = load_book([crate.pk]).price(base.pk, crate.pk, TODAY)
    assert found is not None and (found.amount, found.previous) == (D("405.00"), D("428.00"))
    columns = load_columns([crate.pk], all_lists(), TODAY)
    column = columns.prices(all_lists().values())[base.pk]
    assert dict(zip(columns.ids, column.tolist(), strict=True))[crate.pk] == 40500
    assert price(base.pk, crate, TODAY + timedelta(days=1)) == 428

    # Nobody types over what follows, and a rule moves it through its parts alone.
    for wrong in (kit, crate):
        with pytest.raises(BadInputError, match="costs what its parts do"):
            type_prices(SYSTEM, base.pk, [Typed(wrong.pk, D("1.00"))], NOW)
        with pytest.raises(BadInputError, match="costs what its parts do"):
            change_items(SYSTEM, {wrong.pk: {"version": Item.objects.get(pk=wrong.pk).version, "price": D("1.00")}})
    later = TODAY + timedelta(days=1)
    said = rehearse_rule(SYSTEM, base.pk, Selection(item_ids=(box.pk,)), PriceRule("percent", D(10)), later, None, NOW)
    assert {row["sku"]: (row["now"], row["then"]) for row in said["rows"]} == {
        "BOX": (D("20.00"), D("22.00")),
        "KIT": (D("42.80"), D("46.40")),
        "CRATE": (D("428.00"), D("464.00")),
    }
    # One was chosen and two follow it; the tool that lies in the kit as well is none of them.
    assert said["items"] == 3
    made = apply_rule(SYSTEM, base.pk, Selection(), PriceRule("percent", D(10)), None, None, NOW)
    assert set(made.lines.values_list("item__sku", flat=True)) == {"BOX", "TOOL"}
    assert own() == {"BOX": D("22.00"), "TOOL": D("8.31"), "KIT": D("47.08"), "CRATE": D("470.80")}

    # With a price of its own again it keeps the last one, and a part without a price leaves it without one.
    bundled(kit, None)
    type_prices(SYSTEM, base.pk, [Typed(kit.pk, D("45.00"))], NOW)
    assert own()["CRATE"] == 450
    type_prices(SYSTEM, base.pk, [Typed(kit.pk, None)], NOW)
    assert "CRATE" not in own() and price(base.pk, crate) is None


def sent_in(kind: str, text: str) -> tuple[dict[str, int], str]:
    """What a sheet that is sent in comes to, and what is wrong in it."""
    row = intake.send(SYSTEM, kind, f"{kind}.csv", text.encode(), NOW)
    intake.work(row.pk, timezone.now)
    row.refresh_from_db()
    return row.counts, str(row.wrong)


def test_sheets_neither_hold_nor_take_the_price_of_a_bundle_that_follows_its_parts(place: Any) -> None:
    part = make_item("PART")
    kit = make_bundle("KIT", {part: 2})
    set_parts(SYSTEM, kit.pk, kit.version, [(part.pk, D(2))], D(0))
    assert base_list() and ItemPrice.objects.get(item=kit).amount == 20
    for kind, unchanged in (("prices", 1), ("items", 2)):
        text = "".join(table_lines(*intake.everything(kind)))
        assert "20.00" not in text
        counts, _ = sent_in(kind, text)
        assert (counts["unchanged"], counts["changed"], counts["wrong"]) == (unchanged, 0, 0)
    for kind, text in (("prices", "list,sku,price\nBase prices,KIT,19.00\n"), ("items", "sku,price\nKIT,19.00\n")):
        counts, said = sent_in(kind, text)
        assert counts["wrong"] == 1 and "is what its parts cost" in said
    (row,) = [one for one in queries.sheet(TODAY)["rows"] if one.base]
    assert (row.typed, row.priced) == (1, 2)


def test_base_derived_and_cost_lists_of_one_item_and_its_bundle(place: Any) -> None:
    item = make_item("A", on_hand=4, cost="6.00")
    bundle = make_bundle("B", {item: 3})
    base = base_list()
    market = make_list("Market", method="derived", percent=D(15), ending=D("0.95"))
    margin = make_list("Cost plus", method="margin", percent=D(40))
    net = make_list("Cost net", method="markup", percent=D(40), taxed=False)
    assert market.parent_id == base.pk
    assert [price(row.pk, item) for row in (base, market, margin, net)] == [10, D("11.95"), D("12.30"), D("8.40")]
    assert [price(row.pk, bundle) for row in (margin, net)] == [D("36.90"), D("25.20")]
    found = load_columns(None, all_lists(), TODAY)
    columns = found.prices(all_lists().values())
    at = found.ids.index(item.pk)
    assert [columns[row.pk][at] for row in (base, market, margin, net)] == [1000, 1195, 1230, 840]


def test_a_price_of_nothing_in_the_base_list_is_none(place: Any) -> None:
    item = make_item("A")
    keep_prices({item.pk: D(0)})
    follow = make_list("Market", method="derived", percent=D(15))
    assert price(base_list().pk, item) is None
    assert price(follow.pk, item) is None


def test_lists_cannot_follow_each_other_in_a_circle(place: Any) -> None:
    one = make_list("One", method="derived")
    two = make_list("Two", method="derived", parent_id=one.pk)
    with pytest.raises(BadInputError, match=r"One → Two → One|Two → One → Two") as refused:
        keep_list(SYSTEM, one.pk, one.version, {"parent_id": two.pk})
    assert refused.value.field == "parent_id"
    assert two.pk not in {choice["id"] for choice in queries.list_page(one.pk)["may_follow"]}
    with pytest.raises(BadInputError, match="typed"):
        keep_list(SYSTEM, base_list().pk, 1, {"method": "margin"})


@pytest.mark.parametrize(
    ("facts", "field"),
    [
        ({"name": " "}, "name"),
        ({"name": "base prices"}, "name"),
        ({"name": "X", "currency": "EUX"}, "currency"),
        ({"name": "X", "currency": "KWD"}, "currency"),
        ({"name": "X", "currency": "JPY", "ending": D("0.95")}, "ending"),
        ({"name": "X", "method": "margin", "percent": D(100)}, "percent"),
        ({"name": "X", "method": "derived", "parent_id": 99}, "parent_id"),
        ({"name": "X", "starts_on": TODAY, "ends_on": TODAY - timedelta(1)}, "ends_on"),
        ({"name": "X", "place_ids": [99]}, "place_ids"),
    ],
)
def test_a_list_that_cannot_be_names_its_field_and_is_not_kept(place: Any, facts: dict[str, Any], field: str) -> None:
    base_list()
    with pytest.raises(BadInputError) as refused:
        keep_list(SYSTEM, None, 0, facts)
    assert refused.value.field == field
    assert PriceList.objects.count() == 1


def test_who_may_and_whose_change_was_seen(place: Any) -> None:
    viewer = Actor("Vera", Role.VIEWER)
    row = make_list("Market")
    with pytest.raises(ForbiddenError):
        keep_list(viewer, None, 0, {"name": "X"})
    with pytest.raises(ForbiddenError):
        type_prices(viewer, row.pk, [], NOW)
    keep_list(SYSTEM, row.pk, row.version, {"note": "for the fair"})
    with pytest.raises(StaleError):
        keep_list(SYSTEM, row.pk, row.version, {"note": "for the shop"})


def test_the_sheet_of_lists_says_what_each_prices_and_who_sees_it(place: Any) -> None:
    item, other = make_item("A", on_hand=4, cost="6.00"), make_item("B")
    own = make_list("Own", place_ids=[place.pk])
    make_list("Late", method="derived", ends_on=TODAY - timedelta(1))
    type_prices(SYSTEM, own.pk, [Typed(item.pk, D("8.00"))], NOW)
    change(SYSTEM, Rung(Level.COMPANY, "Larkmead"), {"margin_floor": "20"}, NOW)
    told = queries.sheet(TODAY)
    rows = {row.name: row for row in told["rows"]}
    assert [row.name for row in told["rows"]] == ["Base prices", "Late", "Own"]
    assert [(row.priced, row.typed, row.below_floor, row.in_force) for row in rows.values()] == [
        (2, 2, 0, True),
        (0, 0, 0, False),
        (1, 1, 1, True),
    ]
    assert (rows["Own"].given_to, rows["Own"].margin) == (["Tannery Yard"], D("7.7"))  # 6.50 net
    assert [(row["list"], row["what"]) for row in told["changes"]] == [("Own", "A: none → 8.00")]
    assert other.price == 10


def test_a_list_in_use_stays_and_another_goes_with_its_prices(place: Any) -> None:
    item = make_item("A")
    row = make_list("Market", place_ids=[place.pk])
    child = make_list("Child", method="derived", parent_id=row.pk)
    with pytest.raises(RefusedError, match="Child"):
        delete_list(SYSTEM, row.pk, row.version, NOW)
    delete_list(SYSTEM, child.pk, child.version, NOW)
    with pytest.raises(RefusedError, match="Tannery Yard"):
        delete_list(SYSTEM, row.pk, row.version, NOW)
    row = keep_list(SYSTEM, row.pk, row.version, {"place_ids": []})
    type_prices(SYSTEM, row.pk, [Typed(item.pk, D(9))], NOW)
    delete_list(SYSTEM, row.pk, row.version, NOW)
    assert not PriceEntry.objects.exists()
    with pytest.raises(RefusedError, match="company's own"):
        delete_list(SYSTEM, base_list().pk, 1, NOW)


def test_typed_prices_breaks_dates_and_what_is_taken_away(place: Any) -> None:
    item = make_item("A")
    base, own = base_list(), make_list("Own")
    sale = Typed(item.pk, D(8), starts_on=TODAY, ends_on=TODAY + timedelta(6))
    made = type_prices(SYSTEM, base.pk, [Typed(item.pk, D(11)), Typed(item.pk, D(9), D(10)), sale], NOW)
    item.refresh_from_db()
    assert (item.price, made.items, made.what) == (11, 1, "3 prices typed")
    assert [price(base.pk, item), price(base.pk, item, TODAY - timedelta(1)), price(base.pk, item, quantity="10")] == [8, 11, 9]
    found = load_book([item.pk]).price(base.pk, item.pk, TODAY)
    assert found.previous == 11
    assert type_prices(SYSTEM, base.pk, [Typed(item.pk, D(11))], NOW) is None
    # From one on and from the first are one place.
    type_prices(SYSTEM, own.pk, [Typed(item.pk, D(7), D(1))], NOW)
    type_prices(SYSTEM, own.pk, [Typed(item.pk, D(6))], NOW)
    assert PriceEntry.objects.filter(list=own).count() == 1
    type_prices(SYSTEM, own.pk, [Typed(item.pk, None)], NOW)
    assert price(own.pk, item) is None
    assert [row["after"] for row in queries.item_prices(item.pk, TODAY)["history"][:2]] == [None, 6]


@pytest.mark.parametrize(
    "typed",
    [
        {"item_id": 99, "price": D(1)},
        {"price": D(1), "starts_on": TODAY, "ends_on": TODAY - timedelta(1)},
        {"price": D(1), "previous": D(2)},
    ],
)
def test_one_price_that_cannot_be_refuses_all(place: Any, typed: dict[str, Any]) -> None:
    item = make_item("A")
    with pytest.raises(BadInputError) as refused:
        type_prices(SYSTEM, base_list().pk, [Typed(item.pk, D(5)), Typed(**{"item_id": item.pk, **typed})], NOW)
    assert refused.value.field == "prices.1"
    item.refresh_from_db()
    assert item.price == 10


def test_a_rule_over_a_category_is_rehearsed_then_applied_then_undone(place: Any) -> None:
    jars, tools = Category.objects.create(name="Jars"), Category.objects.create(name="Tools")
    sized = Category.objects.create(name="Small jars", parent=jars)
    items = [make_item(f"J{n}", on_hand=4, cost="6.00") for n in range(3)]
    for item, group in zip(items, (jars, sized, tools), strict=True):
        item.product.category = group
        item.product.save()
    change(SYSTEM, Rung(Level.CATEGORY, "Jars", jars.pk), {"margin_floor": "35"}, NOW)
    base, market = base_list(), make_list("Market", method="derived", percent=D(15), ending=D("0.95"))
    chosen, rule = Selection(category="jars"), PriceRule("percent", D(3), D("0.95"))
    told = rehearse_rule(SYSTEM, base.pk, chosen, rule, None, None, NOW)
    assert (told["items"], told["rising"], told["falling"], told["below_floor"]) == (2, 2, 0, 2)
    assert [(row["now"], row["then"], row["margin"]) for row in told["rows"]] == [(10, D("10.95"), D("32.6"))] * 2
    assert told["others"] == [{"id": market.pk, "name": "Market", "rising": 2, "changing": 2}]
    assert set(ItemPrice.objects.values_list("amount", flat=True)) == {D(10)}
    made = apply_rule(SYSTEM, base.pk, chosen, rule, None, None, NOW)
    assert made.what == "+3 %, ending 0.95 on jars"
    assert [price(base.pk, item) for item in items] == [D("10.95"), D("10.95"), 10]
    assert [price(market.pk, item) for item in items] == [D("12.95"), D("12.95"), D("11.95")]
    with pytest.raises(RefusedError, match="Nothing would change"):
        apply_rule(SYSTEM, base.pk, chosen, PriceRule("ending", ending=D("0.95")), None, None, NOW)
    type_prices(SYSTEM, base.pk, [Typed(items[0].pk, D(20))], NOW)
    undone, kept = undo(SYSTEM, made.pk, NOW)
    assert (kept, undone.undone_by) == (1, "Yuvrel")
    assert [price(base.pk, item) for item in items] == [20, 10, 10]
    with pytest.raises(RefusedError, match="already"):
        undo(SYSTEM, made.pk, NOW)


def test_a_dated_change_begins_and_ends_by_itself_and_tells_the_channels(place: Any) -> None:
    item = make_item("A")
    base = base_list()
    type_prices(SYSTEM, base.pk, [Typed(item.pk, D(9), D(10))], NOW)
    starts, ends = TODAY + timedelta(2), TODAY + timedelta(4)
    apply_rule(SYSTEM, base.pk, Selection(q="Thing"), PriceRule("percent", D(-10)), starts, ends, NOW)
    days = [price(base.pk, item, TODAY + timedelta(n)) for n in range(6)]
    assert days == [10, 10, 9, 9, 9, 10]
    assert [price(base.pk, item, TODAY + timedelta(n), "10") for n in (1, 2)] == [9, D("8.10")]
    begin_day(TODAY)
    Event.objects.all().delete()
    told = []
    for n in range(1, 7):
        begin_day(TODAY + timedelta(n))
        begin_day(TODAY + timedelta(n))
        told.append(Event.objects.filter(kind=Event.Kind.PRICE_LIST).count())
    assert told == [0, 1, 1, 1, 2, 2]
    with pytest.raises(BadInputError) as refused:
        apply_rule(SYSTEM, base.pk, Selection(), PriceRule("percent", D(1)), None, TODAY - timedelta(1), NOW)
    assert refused.value.field == "ends_on"


def test_rules_by_amount_margin_markup_and_what_is_refused(place: Any) -> None:
    make_item("A", on_hand=4, cost="6.00")
    none = make_item("B")
    base = base_list()

    def then(rule: PriceRule) -> list[Any]:
        told = rehearse_rule(SYSTEM, base.pk, Selection(), rule, None, None, NOW)
        return [(row["sku"], row["then"]) for row in told["rows"]]

    assert sorted(then(PriceRule("amount", D("0.50")))) == [("A", D("10.50")), ("B", D("10.50"))]
    assert then(PriceRule("margin", D(40))) == [("A", D("12.30"))]
    assert then(PriceRule("markup", D(40))) == [("A", D("10.33"))]
    for by, value in (("amount", D(-11)), ("percent", D(-100)), ("margin", D(100)), ("percent", D(10) ** 9)):
        with pytest.raises(BadInputError) as refused:
            then(PriceRule(by, value))  # type: ignore[arg-type]
        assert refused.value.field == "value"
    with pytest.raises(BadInputError, match="No item is chosen"):
        rehearse_rule(SYSTEM, base.pk, Selection(q="nothing such"), PriceRule("percent", D(1)), None, None, NOW)
    assert none.price == 10


def test_another_rule_for_a_list_is_rehearsed_over_all_that_follow(place: Any) -> None:
    for n in range(3):
        make_item(f"A{n}")
    trade = make_list("Trade", method="derived", percent=D(-10))
    make_list("Trade net", method="derived", parent_id=trade.pk, taxed=False)
    told = rehearse_list(SYSTEM, trade.pk, {"percent": D(-20)}, NOW)
    assert (told["rising"], told["falling"], told["gone"]) == (0, 3, 0)
    assert [(row["now"], row["then"]) for row in told["rows"]] == [(9, 8)] * 3
    assert [(row["name"], row["changing"], row["rising"]) for row in told["others"]] == [("Trade net", 3, 0)]
    trade.refresh_from_db()
    assert trade.percent == -10


def test_margin_gained_and_lost_at_the_pace_of_the_last_90_days(place: Any) -> None:
    item = make_item("A", on_hand=40, cost="2.00")
    now = timezone.now()
    for days, units in ((10, 5), (80, 4), (100, 9)):
        StockMove.objects.create(
            item=item,
            location=place,
            quantity=-units,
            value=-2 * units,
            reason="shipment",
            document="S",
            happened_at=now - timedelta(days),
        )
    told = rehearse_rule(SYSTEM, base_list().pk, Selection(), PriceRule("amount", D("1.23")), None, None, now)
    assert (told["margin_gained"], told["margin_lost"]) == (9, 0)  # 9 units in 90 days, 1.00 more net each
    told = rehearse_rule(SYSTEM, base_list().pk, Selection(), PriceRule("amount", D("-1.23")), None, None, now)
    assert (told["margin_gained"], told["margin_lost"]) == (0, 9)


def test_the_base_price_changed_elsewhere_is_an_event(place: Any) -> None:
    item = make_item("A")
    Event.objects.all().delete()
    change_items(SYSTEM, {item.pk: {"price": D(12), "version": item.version}})
    item.refresh_from_db()
    change_items(SYSTEM, {item.pk: {"weight_grams": 5, "version": item.version}})
    assert list(Event.objects.values_list("kind", "subject_id")) == [("price", item.pk), ("text", item.pk)], (
        "its weight is no price"
    )


SHEET = """list,sku,from_quantity,from_day,until_day,price,previous
Base prices,a,,,,11.50,
Market,A,10,,,"9,00",
Market,A,,2027-03-20,2027-03-31,8.00,10.00
Market,B,,,,0.005,
Nothing,A,,,,5.00,
Market,Z,,,,5.00,
Market,B,,31.03.2027,,5.00,
"""


def test_prices_come_in_by_sheet_and_the_export_changes_nothing(place: Any) -> None:
    a, _ = make_item("A"), make_item("B")
    market = make_list("Market")

    def taken(text: str) -> dict[str, int]:
        row = intake.send(SYSTEM, "prices", "prices.csv", text.encode(), NOW)
        intake.work(row.pk, timezone.now)
        checked = Intake.objects.get(pk=row.pk)
        if checked.counts["new"] + checked.counts["changed"]:
            intake.confirm(SYSTEM, row.pk, whole=False)
            intake.work(row.pk, timezone.now)
        return dict(checked.counts)

    assert taken(SHEET) == {"new": 2, "changed": 1, "unchanged": 0, "wrong": 4}
    a.refresh_from_db()
    assert a.price == D("11.50")
    assert price(market.pk, a, quantity="10") == 9
    assert load_book([a.pk]).price(market.pk, a.pk, NOW.date().replace(day=25)).previous == 10  # type: ignore[union-attr]
    before = PriceChange.objects.count()
    assert taken(SHEET) == {"new": 0, "changed": 0, "unchanged": 3, "wrong": 4}
    assert taken("".join(table_lines(*intake.everything("prices")))) == {"new": 0, "changed": 0, "unchanged": 4, "wrong": 0}
    beside = "list,sku,from_quantity,from_day,until_day,price,previous\nBase prices,A,,,,11.50,12.00\n"
    assert taken(beside)["wrong"] == 1
    assert "the item's own price" in str(Intake.objects.latest("pk").wrong)
    assert PriceChange.objects.count() == before
