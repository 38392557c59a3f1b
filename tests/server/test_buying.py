"""Purchase orders: drafted, sent, answered, received in parts; the UBL document against the OASIS schema."""

from __future__ import annotations

from datetime import date
from decimal import Decimal as D
from io import BytesIO

import pytest
from django.test import Client
from lxml import etree
from pypdf import PdfReader

from tests.invariants import assert_invariants
from tests.ubl import ubl_schema
from tests.world import NOW, make_item, make_supplier, make_user
from yuvrel.books.models import ExchangeRate, JournalEntry
from yuvrel.buying.actions import Answer, Arrived, Wanted, acknowledge, cancel, change_draft, draft, receive, send
from yuvrel.buying.documents import PURCHASE_ORDER
from yuvrel.buying.models import PriceBreak, PurchaseOrder, Supplier, SupplierItem
from yuvrel.channels.outbound import purchase_document
from yuvrel.connectors.http import NonsenseError
from yuvrel.connectors.ubl import build_order, read_order_response
from yuvrel.core.errors import BadInputError, NotFoundError, RefusedError, StaleError
from yuvrel.documents.printing import printed
from yuvrel.people.models import Location
from yuvrel.people.roles import SYSTEM, Role
from yuvrel.planning.queries import one_line, replenishment
from yuvrel.stock.models import CostChange, ItemCost, StockBalance

pytestmark = pytest.mark.django_db


def _order(item: object, place: Location, units: int = 30) -> PurchaseOrder:
    (order,) = draft(SYSTEM, [Wanted(item.pk, place.pk, D(units))], NOW)  # type: ignore[attr-defined]
    return order


def test_receiving_in_two_parts_moves_the_average(company: Location) -> None:
    """10 at 2.00 then 20 at 3.00 make 2.67, and the cost history says how."""
    item = make_item()
    make_supplier(item, price="2.00")
    first = _order(item, company, 10)
    send(SYSTEM, first.pk, 1, NOW)
    receive(SYSTEM, first.pk, [Arrived(first.lines.get().pk, D(10))], NOW)
    PriceBreak.objects.update(price="3.00")
    second = _order(item, company, 20)
    send(SYSTEM, second.pk, 1, NOW)
    assert StockBalance.objects.get(item=item).incoming == 20
    line = second.lines.get()
    receive(SYSTEM, second.pk, [Arrived(line.pk, D(8))], NOW)
    assert (PurchaseOrder.objects.get(pk=second.pk).state, StockBalance.objects.get(item=item).incoming) == ("part-received", 12)
    receive(SYSTEM, second.pk, [Arrived(line.pk, D(12))], NOW)
    assert (PurchaseOrder.objects.get(pk=second.pk).state, StockBalance.objects.get(item=item).incoming) == ("received", 0)
    newest = CostChange.objects.latest("pk")
    assert round(newest.average_after, 2) == D("2.67")
    assert ItemCost.objects.get(item=item).value == D("80.00")
    lines = {row.account.role: row.amount for row in JournalEntry.objects.latest("pk").lines.select_related("account")}
    assert lines == {"inventory": D("36.00"), "received_not_billed": D("-36.00")}
    assert_invariants()


def test_foreign_prices_come_in_at_the_rate_of_the_day(company: Location) -> None:
    item = make_item()
    make_supplier(item, currency="PLN", price="10.00")
    order = _order(item, company, 3)
    send(SYSTEM, order.pk, 1, NOW)
    receipt = receive(SYSTEM, order.pk, [Arrived(order.lines.get().pk, D(3))], NOW)
    assert receipt.rate == 4
    assert receipt.lines.get().value == D("7.50")


def test_more_than_was_ordered_is_refused_and_nothing_is_half_done(company: Location) -> None:
    item = make_item()
    make_supplier(item)
    order = _order(item, company, 5)
    with pytest.raises(RefusedError, match="nothing can be received"):
        receive(SYSTEM, order.pk, [Arrived(order.lines.get().pk, D(1))], NOW)
    send(SYSTEM, order.pk, 1, NOW)
    with pytest.raises(RefusedError, match="only 5 are still ordered"):
        receive(SYSTEM, order.pk, [Arrived(order.lines.get().pk, D(6))], NOW)
    assert StockBalance.objects.get(item=item).on_hand == 0


def test_goods_that_expire_need_their_lot(company: Location) -> None:
    item = make_item(expiry_tracked=True)
    make_supplier(item)
    order = _order(item, company, 5)
    send(SYSTEM, order.pk, 1, NOW)
    line = order.lines.get().pk
    with pytest.raises(BadInputError, match="give its lot"):
        receive(SYSTEM, order.pk, [Arrived(line, D(5))], NOW)
    receive(SYSTEM, order.pk, [Arrived(line, D(5), "L9", date(2027, 9, 1))], NOW)
    assert_invariants()


def test_a_stale_edit_is_refused(company: Location) -> None:
    item = make_item()
    make_supplier(item)
    order = _order(item, company)
    line = order.lines.get().pk
    change_draft(SYSTEM, order.pk, 1, {line: (D(12), D("1.80"))}, None)
    with pytest.raises(StaleError):
        change_draft(SYSTEM, order.pk, 1, {line: (D(99), D("1.80"))}, None)
    assert order.lines.get().quantity == 12
    with pytest.raises(StaleError):
        send(SYSTEM, order.pk, 1, NOW)


def test_a_draft_is_numbered_however_many_suppliers_and_places_there_are(company: Location) -> None:
    item = make_item()
    supplier = make_supplier(item)
    far = Location.objects.create(pk=2_000_000_000, company=company.company, code="far", name="Far")
    SupplierItem.objects.filter(item=item).update(supplier=Supplier.objects.create(pk=2_000_000_001, code="big", name="Big"))
    supplier.delete()
    at = NOW.replace(microsecond=123_457)
    (order,) = draft(SYSTEM, [Wanted(item.pk, far.pk, D(6))], at)
    assert order.number == "PO-1001"


def test_price_breaks_are_all_units(company: Location) -> None:
    item = make_item()
    make_supplier(item, price="0.75")
    terms = SupplierItem.objects.get(item=item)
    # Breaks of Snyder and Shen (2019), example 3.5: 0/400/800 at 0.75/0.72/0.68.
    PriceBreak.objects.create(supplier_item=terms, from_quantity=400, price="0.72")
    PriceBreak.objects.create(supplier_item=terms, from_quantity=800, price="0.68")
    assert [_order(item, company, n).lines.get().price for n in (399, 400, 800)] == [D("0.75"), D("0.72"), D("0.68")]


def test_the_suppliers_answer_counts_once(company: Location) -> None:
    item = make_item("A-1")
    make_supplier(item)
    order = _order(item, company, 10)
    send(SYSTEM, order.pk, 1, NOW)
    answer = Answer("OR-1", accepted=True, quantities={"A-1": D(8)}, expected_on=date(2027, 4, 2))
    assert [acknowledge(SYSTEM, order.number, answer, NOW) for _ in range(2)] == ["accepted", "repeated"]
    order.refresh_from_db()
    assert (order.state, order.expected_on, order.lines.get().confirmed) == ("acknowledged", date(2027, 4, 2), D(8))
    with pytest.raises(NotFoundError):
        acknowledge(SYSTEM, "PO-nope", answer, NOW)


def test_refused_or_cancelled_orders_stop_being_incoming(company: Location) -> None:
    item = make_item()
    make_supplier(item)
    refused, given_up = _order(item, company, 10), _order(item, company, 4)
    send(SYSTEM, refused.pk, 1, NOW)
    send(SYSTEM, given_up.pk, 1, NOW)
    acknowledge(SYSTEM, refused.number, Answer("no", accepted=False), NOW)
    assert StockBalance.objects.get(item=item).incoming == 4
    cancel(SYSTEM, given_up.pk, 2)
    assert StockBalance.objects.get(item=item).incoming == 0


def test_the_order_is_valid_against_the_oasis_schema(company: Location) -> None:
    """OASIS UBL 2.1 (2013), maindoc/UBL-Order-2.1.xsd."""
    item = make_item("A<&>1", barcodes=("2100000000012",))
    make_supplier(item, currency="PLN", price="12.345678", address={"street": "ul. Kuta 4", "city": "Stavrin", "country": "PL"})
    order = _order(item, company, 7)
    document = build_order(purchase_document(order))
    schema = ubl_schema("Order")
    assert schema.validate(etree.fromstring(document)), schema.error_log
    broken = document.replace(b"<cbc:IssueDate>", b"<cbc:IssueTime>").replace(b"</cbc:IssueDate>", b"</cbc:IssueTime>")
    assert not schema.validate(etree.fromstring(broken))


def test_order_responses_are_read_and_nonsense_is_named() -> None:
    for bad in (b"not xml", b"<Order/>"):
        with pytest.raises(NonsenseError):
            read_order_response(bad)
    bomb = b'<!DOCTYPE x [<!ENTITY a SYSTEM "file:///etc/passwd">]><OrderResponse>&a;</OrderResponse>'
    with pytest.raises(NonsenseError) as caught:
        read_order_response(bomb)
    assert "root:" not in str(caught.value)


def test_the_same_order_as_pdf(company: Location) -> None:
    item = make_item("A-1")
    make_supplier(item)
    order = _order(item, company, 7)
    text = PdfReader(BytesIO(printed(PURCHASE_ORDER, "order", order.pk))).pages[0].extract_text()
    assert order.number in text
    assert "14.00" in text


def test_the_replenishment_sheet_in_a_fixed_number_of_queries(company: Location, django_assert_max_num_queries: object) -> None:
    for _ in range(12):
        make_supplier(make_item(on_hand=4))
    with django_assert_max_num_queries(19):  # type: ignore[operator]
        lines = replenishment(NOW.date())
    assert len(lines) == 12
    with pytest.raises(NotFoundError):
        one_line(999_999, company.pk, NOW.date())


def test_the_page_says_what_an_order_is_worth_and_what_else_is_open(company: Location, client: Client) -> None:
    """Of 300 PLN 100 have come once 10 of 30 have; the other 200 are 50.00 EUR at 4 to the euro."""
    item = make_item()
    make_supplier(item, currency="PLN", price="10.00", email="desk@stavrin.example", lead_days=1)
    ExchangeRate.objects.update(day=date(2026, 1, 1))
    first, other, gone = (_order(item, company) for _ in range(3))
    for order in (first, other, gone):
        send(SYSTEM, order.pk, order.version, NOW)
    cancel(SYSTEM, gone.pk, PurchaseOrder.objects.get(pk=gone.pk).version)
    receive(SYSTEM, first.pk, [Arrived(first.lines.get().pk, D(10))], NOW)
    client.force_login(make_user(Role.BUYER))
    told = client.get(f"/api/v1/purchase-orders/{first.pk}").json()
    assert (told["total"], told["came"], told["to_come"], told["in_base"]) == ("300.00", "100.00", "200.00", "50.00")
    steps = client.get(f"/api/v1/workings/purchase-order/{first.pk}").json()["steps"]
    assert [(step["op"], step["value"]) for step in steps] == [
        ("+", "300"),
        ("", "300"),
        ("−", "100"),
        ("", "200"),
        ("÷", "4"),
        ("", "50"),
    ]
    assert (told["supplier_email"], told["lead_days"]) == ("desk@stavrin.example", 1)
    assert [one["number"] for one in told["also_open"]] == [PurchaseOrder.objects.get(pk=other.pk).number]
    ExchangeRate.objects.all().delete()
    told = client.get(f"/api/v1/purchase-orders/{other.pk}").json()
    assert (told["rate"], told["in_base"], told["to_come"], told["came"]) == (None, None, "300.00", "0.00")
    assert client.get(f"/api/v1/workings/purchase-order/{other.pk}").json()["steps"][-1]["value"] == "300"
