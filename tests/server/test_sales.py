"""Orders: once per version, reserved, shipped in parts, till sales below zero, races."""

from __future__ import annotations

from decimal import Decimal as D

import pytest

from tests.invariants import assert_invariants
from tests.world import NOW, give, incoming, make_bundle, make_connection, make_item, order_line
from yuvrel.books.models import JournalEntry, LedgerDocument
from yuvrel.core.errors import BadInputError, RefusedError
from yuvrel.documents.queries import time_line
from yuvrel.people.models import Location
from yuvrel.people.roles import SYSTEM
from yuvrel.sales.actions import hold, put_back, release, ship, take_order, take_till_sale
from yuvrel.sales.allocation import fill_backorders, give_up_short
from yuvrel.sales.documents import ORDER
from yuvrel.sales.earnings import earnings
from yuvrel.sales.incoming import IncomingLine
from yuvrel.sales.models import OrderLine, Reservation, SalesOrder
from yuvrel.sales.queries import order_sheet
from yuvrel.sales.queries import orders as orders_found
from yuvrel.sales.rules import order_rules
from yuvrel.stock.actions import adjust
from yuvrel.stock.models import StockBalance


def _lines(kind: str) -> dict[str, D]:
    entry = JournalEntry.objects.filter(kind=kind).latest("pk")
    return {line.account.role: line.amount for line in entry.lines.select_related("account")}


@pytest.mark.django_db
def test_an_order_is_reserved_and_its_extras_are_lines_of_their_own(company: Location) -> None:
    item = make_item(on_hand=5)
    extras = [order_line(None, amount="-2.46", kind="discount"), order_line(None, amount="6.90", kind="shipping")]
    taken = take_order(SYSTEM, incoming(make_connection(), order_line(item, 2, "24.60"), *extras), NOW)
    assert (taken.outcome, taken.order.state) == ("new", "ready")
    assert [line.kind for line in taken.order.lines.order_by("pk")] == ["item", "discount", "shipping"]
    assert sum(line.net + line.tax for line in taken.order.lines.all()) == taken.order.total == D("29.04")
    assert StockBalance.objects.get(item=item).committed == 2
    assert _lines("prepayment") == {"clearing": D("29.04"), "prepayments": D("-29.04")}
    assert_invariants()


@pytest.mark.django_db
def test_versions_apply_once_in_whatever_order_they_come(company: Location) -> None:
    item, shop = make_item(on_hand=9), make_connection()
    first = incoming(shop, order_line(item, 2), external_id="a", number="7")
    third = incoming(shop, order_line(item, 5), external_id="a", number="7", version=3)
    second = incoming(shop, order_line(item, 4), external_id="a", number="7", version=2)
    outcomes = [take_order(SYSTEM, x, NOW).outcome for x in (first, third, second, third, first)]
    assert outcomes == ["new", "changed", "repeated", "repeated", "repeated"]
    assert StockBalance.objects.get(item=item).committed == 5
    assert SalesOrder.objects.count() == 1
    assert_invariants()


@pytest.mark.django_db
def test_a_cancelled_order_gives_everything_back(company: Location) -> None:
    item, shop = make_item(on_hand=9), make_connection()
    take_order(SYSTEM, incoming(shop, order_line(item, 2), external_id="a", number="7"), NOW)
    gone = incoming(shop, order_line(item, 2), external_id="a", number="7", version=2, cancelled=True)
    taken = take_order(SYSTEM, gone, NOW)
    assert taken.order.state == "cancelled"
    assert StockBalance.objects.get(item=item).committed == 0
    assert _lines("prepayment") == {"clearing": D("-12.30"), "prepayments": D("12.30")}
    assert_invariants()


@pytest.mark.django_db
def test_goods_of_a_cancelled_order_wait_until_they_are_put_back(company: Location) -> None:
    item, shop = make_item(on_hand=9), make_connection(cancelled_goods="wait")
    late = order_line(item, 4)
    orders = {
        name: take_order(SYSTEM, incoming(shop, line, external_id=name, number=name), NOW).order
        for name, line in (("a", order_line(item, 6)), ("b", late))
    }

    def cancel(name: str, line: IncomingLine, version: int) -> None:
        waits = order_rules(shop).goods_wait
        gone = incoming(shop, line, external_id=name, number=name, version=version, cancelled=True, goods_wait=waits)
        take_order(SYSTEM, gone, NOW)

    def shelf() -> tuple[D, D]:
        fill_backorders([item.pk])
        assert_invariants()
        balance = StockBalance.objects.get(item=item)
        return balance.committed, balance.backordered

    # Six and three of four are reserved. What was owed is owed no more; what was reserved stays so, said twice or not.
    cancel("b", late, 2)
    cancel("b", late, 3)
    assert shelf() == (9, 0)
    assert list(orders_found("", "back", None)) == [orders["b"]]
    with pytest.raises(RefusedError, match="nothing is to be put back"):
        put_back(SYSTEM, orders["a"].pk)
    # One is missed at a count: it is taken from these, and no customer waits for it.
    yard = Location.objects.get(code="tannery-yard")
    adjust(SYSTEM, item_id=item.pk, location_id=yard.pk, reason="lost", at=NOW, change=D(-1))
    give_up_short(SYSTEM, [item.pk])
    assert shelf() == (8, 0)
    assert put_back(SYSTEM, orders["b"].pk)[1] == 2
    assert shelf() == (6, 0) and not orders_found("", "back", None).exists()
    with pytest.raises(RefusedError, match="nothing is to be put back"):
        put_back(SYSTEM, orders["b"].pk)
    # An order that comes back to life reserves anew.
    cancel("a", order_line(item, 6), 2)
    take_order(SYSTEM, incoming(shop, order_line(item, 5), external_id="a", number="a", version=3), NOW)
    assert shelf() == (5, 0)
    assert "its goods are back on the shelf" in [one.what for one in time_line(ORDER, orders["b"])]


@pytest.mark.django_db
def test_of_an_order_cancelled_after_a_part_had_left_the_rest_is_put_back(company: Location) -> None:
    part = make_item(on_hand=20)
    kit, shop = make_bundle("KIT", {part: 3}), make_connection(cancelled_goods="wait")
    line = order_line(kit, 4)
    order = take_order(SYSTEM, incoming(shop, line, external_id="a", number="a"), NOW).order
    ship(SYSTEM, order.pk, at=NOW, quantities={order.lines.get().pk: D(1)})
    gone = incoming(shop, line, external_id="a", number="a", version=2, cancelled=True, goods_wait=True)
    take_order(SYSTEM, gone, NOW)
    balance = StockBalance.objects.get(item=part)
    assert (balance.on_hand, balance.committed) == (17, 9)
    assert_invariants()
    assert put_back(SYSTEM, order.pk)[1] == 9
    assert StockBalance.objects.get(item=part).committed == 0
    assert_invariants()


@pytest.mark.django_db
@pytest.mark.parametrize(
    ("change", "field", "said"),
    [
        ({"total": D("12.70")}, "total", "0.40 less"),
        ({"currency": "ZZZ"}, "currency", "ISO 4217"),
        ({"currency": "USD"}, "currency", "sells in EUR"),
    ],
)
def test_an_order_that_is_not_sound_is_held_and_says_why(
    company: Location, change: dict[str, object], field: str, said: str
) -> None:
    taken = take_order(SYSTEM, incoming(make_connection(), order_line(make_item(on_hand=5)), **change), NOW)
    assert (taken.order.state, taken.field) == ("held", field)
    assert said in taken.problem
    assert not JournalEntry.objects.filter(kind="prepayment").exists()
    with pytest.raises(RefusedError):
        ship(SYSTEM, taken.order.pk, at=NOW)


@pytest.mark.django_db
def test_releasing_books_the_difference_as_its_own_line(company: Location) -> None:
    order = take_order(SYSTEM, incoming(make_connection(), order_line(make_item(on_hand=5)), total=D("12.70")), NOW).order
    released = release(SYSTEM, order.pk, NOW)
    assert released.state == "ready"
    assert sum(line.net + line.tax for line in released.lines.all()) == D("12.70")
    assert _lines("prepayment")["clearing"] == D("12.70")
    held = hold(SYSTEM, order.pk, "customer rang")
    assert held.state == "held"
    release(SYSTEM, order.pk, NOW)
    assert JournalEntry.objects.filter(kind="prepayment").count() == 1
    assert_invariants()


@pytest.mark.django_db
def test_an_unknown_item_holds_the_order_and_reserves_the_rest(company: Location) -> None:
    item = make_item(on_hand=5)
    taken = take_order(SYSTEM, incoming(make_connection(), order_line(item, 2), order_line(None)), NOW)
    assert (taken.order.state, taken.field) == ("held", "item")
    assert StockBalance.objects.get(item=item).committed == 2
    with pytest.raises(RefusedError, match="has no item"):
        release(SYSTEM, taken.order.pk, NOW)


@pytest.mark.django_db
def test_shipping_in_two_parts_posts_cost_and_revenue_once_each(company: Location) -> None:
    item = make_item(on_hand=3, cost="3.3333")
    postage = order_line(None, amount="6.90", kind="shipping")
    order = take_order(SYSTEM, incoming(make_connection(), order_line(item, 3, "30.75"), postage), NOW).order
    line = order.lines.get(kind="item")
    first = ship(SYSTEM, order.pk, at=NOW, quantities={line.pk: D(1)}, carrier="Packhorse", tracking="P1")
    assert SalesOrder.objects.get().state == "part-shipped"
    assert _lines("cost") == {"cost_of_sales": D("3.33"), "inventory": D("-3.33")}
    assert _lines("invoice")["shipping_income"] == D("-5.61")
    second = ship(SYSTEM, order.pk, at=NOW)
    assert SalesOrder.objects.get().state == "shipped"
    assert first.invoice.total + second.invoice.total == order.total
    assert second.number == f"{order.number}-2"
    assert {d.kind for d in LedgerDocument.objects.filter(number__startswith=order.number)} == {"invoice"}
    with pytest.raises(RefusedError):
        ship(SYSTEM, order.pk, at=NOW)
    assert_invariants()


@pytest.mark.django_db
def test_no_more_is_shipped_than_is_reserved(company: Location) -> None:
    item = make_item(on_hand=2)
    order = take_order(SYSTEM, incoming(make_connection(), order_line(item, 5)), NOW).order
    line = order.lines.get()
    assert order.state == "received"
    for quantity, said in ((3, "2 are reserved"), (6, "more than the 5 left"), (-1, "greater than zero")):
        with pytest.raises(BadInputError, match=said) as refusal:
            ship(SYSTEM, order.pk, at=NOW, quantities={line.pk: D(quantity)})
        assert refusal.value.field == f"quantities.{line.pk}"
    ship(SYSTEM, order.pk, at=NOW)
    assert OrderLine.objects.get().shipped == 2
    assert_invariants()


@pytest.mark.django_db
def test_backorders_are_filled_oldest_first_when_goods_come(company: Location) -> None:
    item, shop = make_item(on_hand=1), make_connection()
    older = take_order(SYSTEM, incoming(shop, order_line(item, 3)), NOW).order
    newer = take_order(SYSTEM, incoming(shop, order_line(item, 2)), NOW).order
    give(item, 3)
    assert fill_backorders([item.pk]) == {older.pk, newer.pk}
    states = {o.pk: o.state for o in SalesOrder.objects.all()}
    assert (states[older.pk], states[newer.pk]) == ("ready", "received")
    balance = StockBalance.objects.get(item=item)
    assert (balance.committed, balance.backordered) == (4, 1)
    assert_invariants()


@pytest.mark.django_db
def test_a_kit_reserves_and_ships_its_parts(company: Location) -> None:
    frame, tool = make_item(on_hand=7, cost="1.00"), make_item(on_hand=2, cost="4.00")
    kit = make_bundle("KIT", {frame: 3, tool: 1})
    order = take_order(SYSTEM, incoming(make_connection(), order_line(kit, 2, "40.00")), NOW).order
    assert {(r.item_id, r.quantity) for r in Reservation.objects.all()} == {(frame.pk, D(6)), (tool.pk, D(2))}
    shipment = ship(SYSTEM, order.pk, at=NOW, quantities={order.lines.get().pk: D(1)})
    assert shipment.lines.get().cost == D("7.00")
    assert_invariants()


@pytest.mark.django_db
def test_a_till_sale_is_recorded_even_below_zero(company: Location) -> None:
    item, till = make_item(on_hand=1, cost="2.00"), make_connection("till")
    taken = take_till_sale(SYSTEM, incoming(till, order_line(item, 3, "36.90")))
    assert taken.order.state == "closed"
    assert StockBalance.objects.get(item=item).on_hand == -2
    assert _lines("invoice")["clearing"] == D("36.90")
    assert _lines("cost") == {"cost_of_sales": D("6.00"), "inventory": D("-6.00")}
    assert take_till_sale(SYSTEM, incoming(till, order_line(item, 3), external_id=taken.order.external_id)).outcome == "repeated"
    assert_invariants()


@pytest.mark.django_db
def test_profit_and_sheet(company: Location, django_assert_max_num_queries: object) -> None:
    shop = make_connection(fee_percent=D("2"), fee_fixed=D("0.25"))
    for _ in range(5):
        take_order(SYSTEM, incoming(shop, order_line(make_item(on_hand=5), 1, "12.30")), NOW)
    with django_assert_max_num_queries(13):  # type: ignore[operator]
        sheet = order_sheet("", "waiting", None, "", 50)
    assert len(sheet["rows"]) == 5
    one = SalesOrder.objects.select_related("connection")[:1].get()
    # 10.00 net - 2.00 cost - (2 % of 12.30 = 0.25, + 0.25) = 7.50
    assert earnings([one])(one).contribution == D("7.50")
