"""What one event moves is written together: it takes as many statements with thirty lines as with two, and comes to the
same as one event for each line."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable
from datetime import date
from decimal import Decimal as D

import pytest
from django.db import connection
from django.test.utils import CaptureQueriesContext

from tests.invariants import assert_invariants
from tests.world import NOW, give, incoming, make_connection, make_item, make_supplier, order_line
from yuvrel.buying.actions import Arrived, Wanted, draft, receive, send
from yuvrel.buying.models import PriceBreak, SupplierItem
from yuvrel.catalogue.models import Item
from yuvrel.channels.models import Connection
from yuvrel.people.models import Location
from yuvrel.people.roles import SYSTEM
from yuvrel.sales.actions import ship, take_order, take_till_sale
from yuvrel.stock import transfers
from yuvrel.stock.actions import OpeningRow, take_opening
from yuvrel.stock.counts import Counted, count_all
from yuvrel.stock.models import CostChange, ItemCost, LotBalance, StockMove
from yuvrel.stock.moving import Cause, Moving, lock_balances

pytestmark = pytest.mark.django_db
Event = Callable[[list[Item], Location, Connection], Callable[[], object]]


def _sale(items: list[Item], place: Location, shop: Connection) -> Callable[[], object]:
    return lambda: take_till_sale(SYSTEM, incoming(shop, *(order_line(item) for item in items)))


def _shipment(items: list[Item], place: Location, shop: Connection) -> Callable[[], object]:
    order = take_order(SYSTEM, incoming(shop, *(order_line(item) for item in items)), NOW).order
    return lambda: ship(SYSTEM, order.pk, at=NOW)


def _receipt(items: list[Item], place: Location, shop: Connection) -> Callable[[], object]:
    supplier = make_supplier(items[0])
    for item in items[1:]:
        terms = SupplierItem.objects.create(supplier=supplier, item=item)
        PriceBreak.objects.create(supplier_item=terms, price=D("2.00"))
    (order,) = draft(SYSTEM, [Wanted(item.pk, place.pk, D(3)) for item in items], NOW)
    send(SYSTEM, order.pk, order.version, NOW)
    arrived = [Arrived(line.pk, D(2), f"L{line.pk}", date(2027, 5, 1)) for line in order.lines.all()]
    return lambda: receive(SYSTEM, order.pk, arrived, NOW)


def _transfer(items: list[Item], place: Location, shop: Connection) -> Callable[[], object]:
    stall = Location.objects.get(code="wagon")
    loads = [transfers.Load(item.pk, D(1)) for item in items]
    row = transfers.draft(SYSTEM, place.pk, stall.pk, loads, NOW.date())
    return lambda: transfers.send(SYSTEM, row.pk, row.version, NOW)


def _count(items: list[Item], place: Location, shop: Connection) -> Callable[[], object]:
    return lambda: count_all(SYSTEM, place, [Counted(item.pk, D(2 + n % 5)) for n, item in enumerate(items)], NOW, "")


@pytest.mark.parametrize("event", [_sale, _shipment, _receipt, _transfer, _count])
def test_an_event_takes_as_many_statements_however_many_lines_it_has(company: Location, event: Event) -> None:
    shop = make_connection("till" if event is _sale else "web_shop")
    taken = []
    for lines in (2, 30):
        items = [make_item(f"{lines}-{n}", on_hand=4) for n in range(lines)]
        carry_out = event(items, company, shop)
        with CaptureQueriesContext(connection) as asked:
            carry_out()
        taken.append(Counter(re.sub(r"\d+", "#", str(one["sql"]))[:60] for one in asked.captured_queries))
    few, many = taken
    assert many.total() <= few.total(), many - few
    assert_invariants()


def test_lots_that_an_event_moves_are_known_to_its_later_moves(company: Location) -> None:
    """Twice three of an item whose lots hold four and five: the second three begin with the one left of the first lot, and
    what came in meanwhile to a lot that expires before it leaves first."""
    patty = make_item("PAT", expiry_tracked=True)
    rows = [
        OpeningRow(patty.pk, company.pk, D(n), D("2.00"), code, date(2027, m, 1)) for n, code, m in ((4, "A", 5), (5, "B", 9))
    ]
    take_opening(SYSTEM, rows, NOW)
    lock_balances([(patty.pk, company.pk)])
    with Moving([patty.pk], Cause("lost", "T-1", NOW)) as moving:
        moving.take_out(patty.pk, company.pk, D(3))
        moving.take_out(patty.pk, company.pk, D(3))
        moving.put_in(patty.pk, company.pk, D(2), D("5.00"), LotBalance.objects.get(lot__code="A").lot)
        moving.take_out(patty.pk, company.pk, D(3))
    out = StockMove.objects.filter(document="T-1").order_by("pk").values_list("lot__code", "quantity", "value")
    assert list(out) == [
        ("A", D(-3), D("-6.00")),
        ("A", D(-1), D("-2.00")),
        ("B", D(-2), D("-4.00")),
        ("A", D(2), D("5.00")),
        ("A", D(-2), D("-4.40")),
        ("B", D(-1), D("-2.20")),
    ]
    assert {row.lot.code: row.on_hand for row in LotBalance.objects.all()} == {"A": 0, "B": 2}
    cost = ItemCost.objects.get(item=patty)
    assert (cost.quantity, cost.value) == (2, D("4.40"))
    assert CostChange.objects.filter(item=patty).count() == 3, "the opening of both lots and what came in"


def test_an_event_that_fails_moves_nothing(company: Location) -> None:
    item = make_item("A", on_hand=4)
    give(item, 2, "3.00")
    before = list(ItemCost.objects.values())
    with pytest.raises(ZeroDivisionError), Moving([item.pk], Cause("lost", "T-1", NOW)) as moving:
        moving.take_out(item.pk, company.pk, D(3))
        raise ZeroDivisionError
    assert not StockMove.objects.filter(document="T-1").exists()
    assert list(ItemCost.objects.values()) == before
