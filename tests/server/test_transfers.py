"""Goods between places: what leaves is out of the one, on the way, and in the other, in units, lots and value."""

from __future__ import annotations

import json
from datetime import timedelta
from decimal import Decimal as D
from io import BytesIO
from typing import Any

import pytest
from django.db import IntegrityError, transaction
from django.test import Client
from django.utils import timezone
from pypdf import PdfReader

from tests.invariants import assert_invariants
from tests.world import NOW, give, incoming, make_connection, make_item, make_supplier, order_line
from yuvrel.books.models import JournalLine, Period
from yuvrel.buying.actions import Wanted
from yuvrel.buying.actions import draft as buy
from yuvrel.buying.actions import send as order
from yuvrel.buying.arrivals import arrivals, incoming_working
from yuvrel.catalogue.models import Item
from yuvrel.catalogue.obstacles import obstacles
from yuvrel.catalogue.products import retire
from yuvrel.channels.jobs import relay_now
from yuvrel.core.errors import BadInputError, ForbiddenError, NotFoundError, RefusedError, StaleError
from yuvrel.people.models import Location
from yuvrel.people.queries import company_day
from yuvrel.people.roles import SYSTEM, Actor, Role
from yuvrel.planning.queries import one_line
from yuvrel.sales.actions import take_order, take_till_sale
from yuvrel.sales.models import SalesOrder
from yuvrel.sales.queries import committed_working
from yuvrel.server.item_page import around
from yuvrel.stock import transfers
from yuvrel.stock.actions import OpeningRow, adjust, take_opening
from yuvrel.stock.models import DocumentReservation, ItemCost, LotBalance, StockBalance, Transfer
from yuvrel.stock.transfer_queries import transfer_page
from yuvrel.stock.transfers import Load

pytestmark = pytest.mark.django_db
DAY = NOW.date() + timedelta(days=2)


@pytest.fixture
def wagon(company: Location) -> Location:
    return Location.objects.get(code="wagon")


def _drafted(source: Location, to: Location, **units: int) -> Transfer:
    loads = [Load(Item.objects.get(sku=sku).pk, D(n)) for sku, n in units.items()]
    return transfers.draft(SYSTEM, source.pk, to.pk, loads, DAY)


def _sent(source: Location, to: Location, **units: int) -> Transfer:
    row = _drafted(source, to, **units)
    return transfers.send(SYSTEM, row.pk, row.version, NOW)


def _line(row: Transfer, sku: str) -> int:
    found: int = row.lines.get(item__sku=sku).pk  # type: ignore[attr-defined]
    return found


def _stand(sku: str, place: Location) -> tuple[D, D]:
    row = StockBalance.objects.filter(item__sku=sku, location=place).first()
    return (row.on_hand, row.incoming) if row else (D(0), D(0))


def _booked(role: str) -> D:
    return sum(JournalLine.objects.filter(account__role=role).values_list("amount", flat=True), D(0))


def test_goods_leave_travel_and_arrive(company: Location, wagon: Location) -> None:
    make_item("A", on_hand=10, cost="2.00")
    row = _drafted(company, wagon, A=4)
    assert (row.number, row.state, _stand("A", company)) == ("TR-1001", "draft", (10, 0))
    row = transfers.send(SYSTEM, row.pk, row.version, NOW)
    assert (row.state, _stand("A", company), _stand("A", wagon)) == ("sent", (6, 0), (0, 4))
    assert (_booked("in_transit"), ItemCost.objects.get().value) == (D("8.00"), D("12.00"))
    assert_invariants()
    row = transfers.receive(SYSTEM, row.pk, {_line(row, "A"): D(3)}, NOW)
    assert (row.state, _stand("A", wagon), _booked("in_transit")) == ("part-received", (3, 1), D("2.00"))
    assert_invariants()
    row = transfers.receive(SYSTEM, row.pk, {_line(row, "A"): D(1)}, NOW)
    assert (row.state, _stand("A", wagon), _booked("in_transit")) == ("received", (4, 0), 0)
    assert ItemCost.objects.get().value == D("20.00")
    assert_invariants()


def test_what_was_bought_meanwhile_changes_the_average_and_not_what_is_on_the_way(company: Location, wagon: Location) -> None:
    """Ten at 2.00; four leave (8.00); four more come in at 5.00: 12.00 + 20.00 over ten; with the four back 40.00 ÷ 14."""
    item = make_item("A", on_hand=10, cost="2.00")
    row = _sent(company, wagon, A=4)
    give(item, 4, cost="5.00", place=company)
    row = transfers.receive(SYSTEM, row.pk, {_line(row, "A"): D(4)}, NOW)
    cost = ItemCost.objects.get()
    assert (cost.quantity, cost.value) == (14, D("40.00"))
    assert_invariants()


def test_lots_travel_with_their_units_the_first_to_expire_first(company: Location, wagon: Location) -> None:
    item = make_item("A", expiry_tracked=True)
    for code, days, units in (("late", 90, 5), ("soon", 10, 3)):
        rows = [OpeningRow(item.pk, company.pk, D(units), D("1.10"), code, company_day(NOW) + timedelta(days=days))]
        take_opening(SYSTEM, rows, NOW)
    row = _sent(company, wagon, A=4)
    row = transfers.receive(SYSTEM, row.pk, {_line(row, "A"): D(2)}, NOW)
    row = transfers.receive(SYSTEM, row.pk, {_line(row, "A"): D(2)}, NOW)
    lots = {(one.lot.code, one.location_id): one.on_hand for one in LotBalance.objects.select_related("lot")}
    assert lots == {("late", company.pk): 4, ("soon", company.pk): 0, ("soon", wagon.pk): 3, ("late", wagon.pk): 1}
    assert_invariants()


def test_what_is_promised_to_orders_does_not_leave(company: Location, wagon: Location) -> None:
    item = make_item("A", on_hand=5)
    take_order(SYSTEM, incoming(make_connection(), order_line(item, 2)), NOW)
    with pytest.raises(RefusedError, match=r"A: 3 are free at .*, 4 are to go"):
        _sent(company, wagon, A=4)
    assert _sent(company, wagon, A=3).state == "sent"
    assert_invariants()


def test_what_arrives_serves_who_waits_there(company: Location, wagon: Location) -> None:
    item = make_item("A", on_hand=5)
    shop = make_connection(fulfils_from=wagon)
    waits = take_order(SYSTEM, incoming(shop, order_line(item, 2)), NOW).order
    assert waits.state == "received"
    row = _sent(company, wagon, A=3)
    transfers.receive(SYSTEM, row.pk, {_line(row, "A"): D(3)}, NOW)
    relay_now()
    assert SalesOrder.objects.get(pk=waits.pk).state == "ready"
    assert_invariants()


def test_arriving_where_more_was_sold_than_was_there_trues_the_cost_up(company: Location, wagon: Location) -> None:
    item = make_item("A", on_hand=4, cost="2.00")
    row = _sent(company, wagon, A=4)
    till = make_connection("till", fulfils_from=company)
    take_till_sale(SYSTEM, incoming(till, order_line(item, 1)))
    give(item, 1, cost="3.00", place=company)
    take_till_sale(SYSTEM, incoming(till, order_line(item, 2)))
    transfers.receive(SYSTEM, row.pk, {_line(row, "A"): D(4)}, NOW)
    assert _booked("in_transit") == 0
    assert_invariants()


def test_what_is_lost_on_the_way_is_written_off_and_the_rest_arrives(company: Location, wagon: Location) -> None:
    make_item("A", on_hand=10, cost="2.00")
    row = _sent(company, wagon, A=4)
    line = _line(row, "A")
    row = transfers.receive(SYSTEM, row.pk, {line: D(1)}, NOW)
    row = transfers.give_up(SYSTEM, row.pk, row.version, {line: D(1)}, "damaged", NOW)
    assert (row.state, _stand("A", wagon), _booked("damage")) == ("part-received", (1, 2), D("2.00"))
    row = transfers.give_up(SYSTEM, row.pk, row.version, {line: D(2)}, "lost", NOW)
    assert (row.state, _stand("A", wagon), _booked("shrinkage"), _booked("in_transit")) == ("received", (1, 0), D("4.00"), 0)
    assert_invariants()
    with pytest.raises(RefusedError, match="is received; nothing of it is on the way"):
        transfers.receive(SYSTEM, row.pk, {line: D(1)}, NOW)


def test_a_transfer_called_back_is_where_it_was(company: Location, wagon: Location) -> None:
    make_item("A", on_hand=10, cost="2.00")
    row = _sent(company, wagon, A=4)
    row = transfers.cancel(SYSTEM, row.pk, row.version, NOW)
    assert (row.state, _stand("A", company), _stand("A", wagon), _booked("in_transit")) == ("cancelled", (10, 0), (0, 0), 0)
    assert_invariants()
    begun = _sent(company, wagon, A=4)
    begun = transfers.receive(SYSTEM, begun.pk, {_line(begun, "A"): D(1)}, NOW)
    with pytest.raises(RefusedError, match="is part-received; it cannot become cancelled"):
        transfers.cancel(SYSTEM, begun.pk, begun.version, NOW)
    unsent = _drafted(company, wagon, A=1)
    assert transfers.cancel(SYSTEM, unsent.pk, unsent.version, NOW).state == "cancelled"
    assert_invariants()


@pytest.mark.parametrize(
    ("units", "error", "said"),
    [
        ({}, BadInputError, "Enter the quantity"),
        ({"A": D(0)}, BadInputError, "Enter the quantity"),
        ({"A": D(-1)}, BadInputError, "cannot be negative"),
        ({"A": D("0.5")}, BadInputError, "counted with 0 decimals"),
        ({"A": D(5)}, RefusedError, "5 is more than the 4 on the way"),
        ({"?": D(1)}, BadInputError, "not on this transfer"),
    ],
)
def test_what_cannot_arrive_is_named_and_nothing_is_moved(
    company: Location, wagon: Location, units: dict[str, D], error: type[Exception], said: str
) -> None:
    make_item("A", on_hand=10)
    row = _sent(company, wagon, A=4)
    wanted = {_line(row, sku) if sku == "A" else 0: quantity for sku, quantity in units.items()}
    with pytest.raises(error, match=said):
        transfers.receive(SYSTEM, row.pk, wanted, NOW)
    assert (_stand("A", wagon), Transfer.objects.get().state) == ((0, 4), "sent")


def test_a_draft_is_changed_until_it_leaves(company: Location, wagon: Location) -> None:
    for sku in "AB":
        make_item(sku, on_hand=9)
    row = _drafted(company, wagon, A=4)
    b = Item.objects.get(sku="B").pk
    row = transfers.add_load(SYSTEM, row.pk, row.version, Load(b, D(2)))
    with pytest.raises(RefusedError, match="is on this transfer already"):
        transfers.add_load(SYSTEM, row.pk, row.version, Load(b, D(2)))
    with pytest.raises(StaleError):
        transfers.change_draft(SYSTEM, row.pk, 1, {})
    changed = {_line(row, "A"): D(0), _line(row, "B"): D(7)}
    row = transfers.change_draft(SYSTEM, row.pk, row.version, changed, DAY + timedelta(days=1), "with the jars")
    assert [(line.item.sku, line.quantity) for line in row.lines.all()] == [("B", 7)]  # type: ignore[attr-defined]
    row = transfers.send(SYSTEM, row.pk, row.version, NOW)
    for refused in (
        lambda: transfers.add_load(SYSTEM, row.pk, row.version, Load(b, D(1))),
        lambda: transfers.change_draft(SYSTEM, row.pk, row.version, {}),
        lambda: transfers.send(SYSTEM, row.pk, row.version, NOW),
    ):
        with pytest.raises(RefusedError, match="is sent"):
            refused()


def test_what_a_draft_cannot_be(company: Location, wagon: Location) -> None:
    item = make_item("A", on_hand=9)
    for source, to, loads, said in (
        (company.pk, company.pk, [], "two different places"),
        (company.pk, 0, [], "no such location"),
        (company.pk, wagon.pk, [Load(0, D(1))], "no such item"),
        (company.pk, wagon.pk, [Load(item.pk, D(0))], "Enter how many"),
    ):
        with pytest.raises((BadInputError, NotFoundError), match=said):
            transfers.draft(SYSTEM, source, to, loads, DAY)
    empty = transfers.draft(SYSTEM, company.pk, wagon.pk, [], DAY)
    with pytest.raises(RefusedError, match="nothing on this transfer"):
        transfers.send(SYSTEM, empty.pk, empty.version, NOW)
    with pytest.raises(ForbiddenError):
        transfers.draft(Actor("V", Role.VIEWER), company.pk, wagon.pk, [], DAY)


def test_a_closed_period_refuses_and_nothing_has_left(company: Location, wagon: Location) -> None:
    make_item("A", on_hand=9)
    row = _drafted(company, wagon, A=4)
    Period.objects.create(month=company_day(NOW).replace(day=1), closed_at=NOW)
    with pytest.raises(RefusedError, match="is closed"):
        transfers.send(SYSTEM, row.pk, row.version, NOW)
    assert (_stand("A", company), Transfer.objects.get().state) == ((9, 0), "draft")


def test_who_looks_ahead_sees_transfers_beside_purchase_orders(company: Location, wagon: Location) -> None:
    item = make_item("A", on_hand=9)
    make_supplier(item)
    bought = buy(SYSTEM, [Wanted(item.pk, wagon.pk, D(6))], NOW)[0]
    order(SYSTEM, bought.pk, bought.version, NOW)
    row = _sent(company, wagon, A=4)
    found = arrivals([item.pk])
    assert [(one.number, one.units, one.location_id) for one in found] == [
        (row.number, 4, wagon.pk),
        (bought.number, 6, wagon.pk),
    ]
    assert arrivals([item.pk], [company.pk]) == [] == arrivals([item.pk], until=DAY - timedelta(days=1))
    working = incoming_working(item.pk, wagon.pk)
    assert [(step.label, step.value, step.link) for step in working.steps] == [
        (row.number, 4, f"/shelf/transfers/{row.pk}"),
        (bought.number, 6, f"/buying/orders/{bought.pk}"),
        ("Incoming", 10, ""),
    ]
    assert one_line(item.pk, wagon.pk, company_day(NOW)).balance.incoming == 10


def _send(client: Client, method: str, path: str, body: Any) -> Any:
    return getattr(client, method)(f"/api/v1/transfers{path}", json.dumps(body), content_type="application/json")


def test_the_whole_way_over_the_api(company: Location, wagon: Location, manager: Client) -> None:
    item = make_item("A", on_hand=9, cost="2.00")
    body = {"source_id": company.pk, "destination_id": wagon.pk, "expected_on": f"{DAY}", "note": "for Saturday"}
    made = _send(manager, "post", "", {**body, "lines": [{"item_id": item.pk, "quantity": "4"}]}).json()["id"]
    page = manager.get(f"/api/v1/transfers/{made}").json()
    line = page["lines"][0]
    assert (page["state"], page["note"], line["free"], line["quantity"]) == ("draft", "for Saturday", "9", "4")
    page = _send(manager, "post", f"/{made}/send", {"version": page["version"]}).json()
    assert (page["state"], page["value"], page["lines"][0]["left"]) == ("sent", "8.00", "4")
    units = [{"line_id": line["id"], "quantity": "3"}]
    page = _send(manager, "post", f"/{made}/receive", {"lines": units}).json()
    rows = manager.get("/api/v1/transfers?state=open").json()["rows"]
    assert [(row["number"], row["units"], row["left"], row["source"]) for row in rows] == [("TR-1001", "4", "1", company.name)]
    lost = {"version": page["version"], "reason": "lost", "lines": [{"line_id": line["id"], "quantity": "1"}]}
    page = _send(manager, "post", f"/{made}/give-up", lost).json()
    assert (page["state"], page["value"]) == ("received", "0.00")
    assert [one["what"] for one in page["history"]] == ["drafted", "sent", "received", "written off"]
    assert len(page["entries"]) == 3
    paper = manager.get(f"/api/v1/documents/transfer/{made}/forms/note").content
    text = PdfReader(BytesIO(paper)).pages[0].extract_text()
    assert all(word in text for word in ("TR-1001", "The Wagon", "for Saturday", "A"))
    assert manager.get("/api/v1/transfers?state=open").json()["rows"] == []


def test_the_sheet_takes_the_same_number_of_queries_for_any_number_of_rows(
    company: Location, wagon: Location, manager: Client, django_assert_max_num_queries: Any
) -> None:
    make_item("A", on_hand=90)
    for _ in range(12):
        _sent(company, wagon, A=1)
    with django_assert_max_num_queries(12):
        assert len(manager.get("/api/v1/transfers").json()["rows"]) == 12


def test_counting_the_source_while_goods_are_on_the_way_leaves_them_there(company: Location, wagon: Location) -> None:
    item = make_item("A", on_hand=9, cost="2.00")
    row = _sent(company, wagon, A=4)
    adjust(SYSTEM, item_id=item.pk, location_id=company.pk, reason="count", at=NOW, counted=D(4))
    transfers.receive(SYSTEM, row.pk, {_line(row, "A"): D(4)}, NOW)
    assert (_stand("A", company), _stand("A", wagon)) == ((4, 0), (4, 0))
    assert_invariants()


def test_what_is_late_waits_on_today_and_an_item_that_moves_is_not_retired(
    company: Location, wagon: Location, manager: Client
) -> None:
    item = make_item("A", on_hand=4)
    row = transfers.draft(SYSTEM, company.pk, wagon.pk, [Load(item.pk, D(4))], timezone.now().date() - timedelta(days=3))
    assert [one.said for one in obstacles(item.pk) if "Transfer" in one.said] == ["Transfer TR-1001 is to move it."]
    assert not any("late" in one["what"] for one in manager.get("/api/v1/today").json()["waits"])
    transfers.send(SYSTEM, row.pk, row.version, NOW)
    waits = {one["link"]: one["what"] for one in manager.get("/api/v1/today").json()["waits"]}
    assert waits["/shelf/transfers?state=open"] == "transfer is late"
    with pytest.raises(RefusedError, match=r"Transfer TR-1001 is to move it\."):
        retire(SYSTEM, item.pk, Item.objects.get(pk=item.pk).version)


def _committed(sku: str, place: Location) -> D:
    return StockBalance.objects.get(item__sku=sku, location=place).committed


def test_the_goods_of_a_draft_are_reserved_and_nobody_else_gets_them(company: Location, wagon: Location) -> None:
    a, b = make_item("A", on_hand=10, cost="2.00"), make_item("B", on_hand=2)
    shop = make_connection()
    take_order(SYSTEM, incoming(shop, order_line(b, 1)), NOW)
    row = _drafted(company, wagon, A=8, B=3)
    row, short = transfers.reserve(SYSTEM, row.pk, row.version)
    assert (short, _committed("A", company), _committed("B", company)) == (["2 B"], 8, 2)
    assert_invariants()
    # An order gets what is left, and waits for the rest; the Working says who has it.
    taken = take_order(SYSTEM, incoming(shop, order_line(a, 5)), NOW)
    assert taken.order.state == "received"
    steps = committed_working(a.pk, company.pk).steps
    assert [(step.label, step.value) for step in steps][-2:] == [("TR-1001", D(8)), ("Committed", D(10))]
    assert [one["state"] for one in around(a.pk, company_day(NOW))["waiting"]] == ["reserved", "reserved", "backordered"]
    # Less is to go: what is over is free again, and the order gets it.
    row = transfers.change_draft(SYSTEM, row.pk, row.version, {_line(row, "A"): D(6), _line(row, "B"): D(1)})
    relay_now()
    taken.order.refresh_from_db()
    assert (taken.order.state, _committed("A", company), _committed("B", company)) == ("received", 10, 2)
    # What is reserved for it can leave, though nothing is free.
    row = transfers.send(SYSTEM, row.pk, row.version, NOW)
    assert (_stand("A", company), _committed("A", company), _committed("B", company)) == ((4, 0), 4, 1)
    assert not DocumentReservation.objects.exists()
    assert_invariants()


def test_what_is_reserved_is_released_by_hand_or_with_the_draft(company: Location, wagon: Location) -> None:
    make_item("A", on_hand=3)
    row = _drafted(company, wagon, A=3)
    with pytest.raises(RefusedError, match="Nothing is reserved"):
        transfers.release(SYSTEM, row.pk, row.version)
    row, short = transfers.reserve(SYSTEM, row.pk, row.version)
    assert not short
    with pytest.raises(StaleError):
        transfers.release(SYSTEM, row.pk, row.version - 1)
    row = transfers.release(SYSTEM, row.pk, row.version)
    assert _committed("A", company) == 0
    row, _ = transfers.reserve(SYSTEM, row.pk, row.version)
    other = _drafted(company, wagon, A=1)
    with pytest.raises(RefusedError, match="Nothing of it is free at"):
        transfers.reserve(SYSTEM, other.pk, other.version)
    with pytest.raises(RefusedError, match="0 are free"):
        transfers.send(SYSTEM, other.pk, other.version, NOW)
    transfers.cancel(SYSTEM, row.pk, row.version, NOW)
    assert (_committed("A", company), DocumentReservation.objects.count()) == (0, 0)
    said = [(one["what"], one["more"]) for one in transfer_page(row.pk, company_day(NOW))["history"]]
    assert said == [
        ("drafted", ""),
        ("goods reserved", "3 A"),
        ("goods released", ""),
        ("goods reserved", "3 A"),
        ("cancelled", ""),
    ]
    assert_invariants()


def test_when_goods_are_missing_a_transfer_gives_way_before_an_order(company: Location, wagon: Location) -> None:
    a = make_item("A", on_hand=10)
    taken = take_order(SYSTEM, incoming(make_connection(), order_line(a, 4)), NOW)
    row = _drafted(company, wagon, A=5)
    row, _ = transfers.reserve(SYSTEM, row.pk, row.version)
    adjust(SYSTEM, item_id=a.pk, location_id=company.pk, reason="lost", at=NOW, change=D(-4))
    relay_now()
    taken.order.refresh_from_db()
    assert (taken.order.state, _committed("A", company)) == ("ready", 6)
    assert DocumentReservation.objects.get().quantity == 2
    adjust(SYSTEM, item_id=a.pk, location_id=company.pk, reason="lost", at=NOW, change=D(-4))
    relay_now()
    taken.order.refresh_from_db()
    assert (taken.order.state, _committed("A", company), DocumentReservation.objects.count()) == ("received", 2, 0)
    told = [one["more"] for one in transfer_page(row.pk, company_day(NOW))["history"] if one["what"].startswith("goods are")]
    assert told == ["3 A", "2 A"]
    assert_invariants()


def test_what_orders_wait_for_is_not_free_for_a_transfer(company: Location, wagon: Location) -> None:
    item = make_item("A", on_hand=2)
    row, _ = transfers.reserve(SYSTEM, _drafted(company, wagon, A=4).pk, 1)
    take_order(SYSTEM, incoming(make_connection(), order_line(item, 3)), NOW)
    adjust(SYSTEM, item_id=item.pk, location_id=company.pk, reason="found", at=NOW, change=D(4))
    # Before anybody has worked on what was found: three of the four are owed to the order.
    row, short = transfers.reserve(SYSTEM, row.pk, row.version)
    assert (short, _committed("A", company)) == (["1 A"], 3)
    relay_now()
    assert _committed("A", company) == 6
    assert_invariants()


def test_the_database_itself_reserves_no_more_than_is_there(company: Location, wagon: Location) -> None:
    item = make_item("A", on_hand=2)
    row = _drafted(company, wagon, A=3)
    with pytest.raises(IntegrityError, match="more is reserved than is on hand"), transaction.atomic():
        DocumentReservation.objects.create(
            item=item, location=company, quantity=3, document=row.number, document_kind="transfer", document_id=row.pk
        )
