"""Documents of every kind: numbers without gaps, links by kind and id, the page each has, and what is printed."""

from __future__ import annotations

from decimal import Decimal as D
from io import BytesIO
from typing import Any

import pytest
from django.db import transaction
from django.test import Client
from pypdf import PdfReader

from tests.world import NOW, incoming, make_connection, make_item, make_supplier, order_line
from yuvrel.books.models import JournalEntry
from yuvrel.buying.actions import Arrived, Wanted, cancel, change_draft, draft, receive, send
from yuvrel.buying.documents import PURCHASE_ORDER
from yuvrel.buying.models import GoodsReceipt, PurchaseOrder
from yuvrel.catalogue.models import Item
from yuvrel.core.errors import NotFoundError, RefusedError, StaleError
from yuvrel.documents.actions import lock, next_number
from yuvrel.documents.registry import KINDS, address
from yuvrel.ownership import working_for
from yuvrel.people.models import Company, Location
from yuvrel.people.roles import SYSTEM
from yuvrel.sales.actions import ship, take_order
from yuvrel.sales.documents import ORDER
from yuvrel.sales.models import Invoice, SalesOrder, Shipment
from yuvrel.stock.actions import OpeningRow, adjust, take_opening
from yuvrel.stock.documents import ADJUSTMENT, COUNT
from yuvrel.stock.models import CostChange, StockCount, StockDocument, StockMove

pytestmark = pytest.mark.django_db


def _order(item: Item, place: Location, units: int = 5) -> PurchaseOrder:
    return draft(SYSTEM, [Wanted(item.pk, place.pk, D(units))], NOW)[0]


def _received(item: Item, place: Location) -> GoodsReceipt:
    order = _order(item, place)
    send(SYSTEM, order.pk, order.version, NOW)
    return receive(SYSTEM, order.pk, [Arrived(order.lines.get().pk, D(5))], NOW)


def _shipped(item: Item) -> Shipment:
    order = take_order(SYSTEM, incoming(make_connection(), order_line(item, 2)), NOW).order
    return ship(SYSTEM, order.pk, at=NOW, carrier="Packhorse", tracking="PH-1")


def _page(client: Client, kind: str, document_id: int) -> dict[str, Any]:
    answer = client.get(f"/api/v1/documents/{kind}/{document_id}")
    assert answer.status_code == 200, answer.content
    found: dict[str, Any] = answer.json()
    return found


def test_each_kind_counts_for_itself_and_a_document_that_is_not_written_gives_its_number_back(company: Location) -> None:
    assert [next_number(ADJUSTMENT), next_number(COUNT), next_number(ADJUSTMENT)] == ["ADJ-1001", "CNT-1001", "ADJ-1002"]
    with pytest.raises(RuntimeError), transaction.atomic():
        assert next_number(ADJUSTMENT) == "ADJ-1003"
        raise RuntimeError
    assert next_number(ADJUSTMENT) == "ADJ-1003"
    with pytest.raises(ValueError, match="no numbers of its own"):
        next_number(ORDER)


def test_each_company_counts_for_itself(company: Location) -> None:
    next_number(ADJUSTMENT)
    with working_for(Company.objects.create(name="Another", base_currency="PLN")):
        assert next_number(ADJUSTMENT) == "ADJ-1001"


def test_a_document_is_loaded_under_its_lock_in_the_version_that_was_seen(company: Location) -> None:
    item = make_item("A-1")
    make_supplier(item)
    order = _order(item, company)
    assert lock(PURCHASE_ORDER, PurchaseOrder, order.pk, order.version) == order
    with pytest.raises(StaleError):
        lock(PURCHASE_ORDER, PurchaseOrder, order.pk, order.version + 1)
    with pytest.raises(NotFoundError, match="There is no such purchase order"):
        lock(PURCHASE_ORDER, PurchaseOrder, order.pk + 1)
    written = StockDocument.objects.create(kind="count", number="CNT-1", by="", happened_at=NOW)
    with pytest.raises(NotFoundError, match="There is no such adjustment"):
        lock(ADJUSTMENT, StockDocument, written.pk)


def test_a_purchase_order_takes_no_step_that_its_table_does_not_know(company: Location) -> None:
    item = make_item("A-1")
    make_supplier(item)
    order = _order(item, company)
    sent = send(SYSTEM, order.pk, order.version, NOW)
    with pytest.raises(RefusedError, match="only a draft"):
        change_draft(SYSTEM, order.pk, sent.version, {}, None)
    gone = cancel(SYSTEM, order.pk, sent.version)
    for step in (send, lambda who, pk, version, _at: cancel(who, pk, version)):
        with pytest.raises(RefusedError, match=f"{order.number} is cancelled"):
            step(SYSTEM, order.pk, gone.version, NOW)


def test_rows_name_the_document_that_caused_them(company: Location, manager: Client) -> None:
    item = make_item("A-1", on_hand=3)
    make_supplier(item)
    receipt = _received(item, company)
    move = StockMove.objects.get(document=receipt.number)
    assert (move.document_kind, move.document_id, move.link) == ("receipt", receipt.pk, f"/buying/documents/receipt/{receipt.pk}")
    for row in (CostChange.objects.get(document=receipt.number), JournalEntry.objects.get(document=receipt.number)):
        assert row.link == move.link
    page = _page(manager, "receipt", receipt.pk)
    assert (page["name"], page["number"], page["within"]) == ("Goods receipt", "GR-1001", receipt.order.number)
    assert page["within_link"] == f"/buying/orders/{receipt.order_id}"
    assert page["moved"] == 1
    assert [(one["sku"], one["quantity"], one["value"]) for one in page["moves"]] == [("A-1", "5", "10.00")]
    assert [(line["name"], line["debit"], line["credit"]) for line in page["entries"][0]["lines"]] == [
        ("Inventory", "10.00", None),
        ("Goods received not billed", None, "10.00"),
    ]


def test_an_adjustment_and_a_count_are_documents_with_a_page_each(company: Location, manager: Client) -> None:
    item = make_item("A-1", on_hand=8)
    adjust(SYSTEM, item_id=item.pk, location_id=company.pk, reason="damaged", at=NOW, change=D(-2), note="dropped")
    adjust(SYSTEM, item_id=item.pk, location_id=company.pk, reason="count", at=NOW, counted=D(5))
    adjust(SYSTEM, item_id=item.pk, location_id=company.pk, reason="count", at=NOW, counted=D(5))
    broken = StockDocument.objects.get(kind="adjustment")
    page = _page(manager, "adjustment", broken.pk)
    assert {fact["label"]: fact["value"] for fact in page["facts"]} == {
        "Reason": "Damaged",
        "Location": company.name,
        "Note": "dropped",
        "By": "Yuvrel",
    }
    assert [one["quantity"] for one in page["moves"]] == ["-2"]
    counts = StockCount.objects.order_by("pk")
    assert [row.document.number for row in counts] == ["CNT-1001", "CNT-1002"]
    first, agreed = (_page(manager, "count", row.document_id) for row in counts)
    assert [one["quantity"] for one in first["moves"]] == ["-1"]
    assert (agreed["moves"], agreed["entries"]) == ([], []), "a count that agrees is written down and moves nothing"
    assert manager.get(f"/api/v1/documents/adjustment/{counts[0].document_id}").status_code == 404


def test_a_document_that_moved_much_says_how_much(company: Location, manager: Client) -> None:
    item = make_item("A-1")
    take_opening(SYSTEM, [OpeningRow(item.pk, company.pk, D(1), D(2)) for _ in range(501)], NOW)
    page = _page(manager, "opening", StockDocument.objects.get(kind="opening").pk)
    assert (len(page["moves"]), page["moved"]) == (500, 501)


def test_a_shipment_and_its_invoice_on_screen_and_on_paper(company: Location, manager: Client) -> None:
    item = make_item("A-1", on_hand=9)
    shipment = _shipped(item)
    page = _page(manager, "shipment", shipment.pk)
    assert page["within_link"] == f"/orders/{shipment.order_id}"
    assert [entry["kind"] for entry in page["entries"]] == ["cost"]
    invoice = Invoice.objects.get()
    assert [entry["kind"] for entry in _page(manager, "invoice", invoice.pk)["entries"]] == ["invoice"]
    (slip,) = page["forms"]
    (bill,) = _page(manager, "invoice", invoice.pk)["forms"]
    for form, said in (
        (slip, ["Packing slip", item.sku, "PH-1"]),
        (bill, ["Invoice", f"{invoice.total}", item.sku]),
    ):
        answer = manager.get(form["path"])
        assert answer["Content-Type"] == "application/pdf"
        text = PdfReader(BytesIO(answer.content)).pages[0].extract_text()
        assert all(word in text for word in [shipment.number, *said]), text


def test_what_a_kind_does_not_have_is_said(company: Location, manager: Client) -> None:
    shipment = _shipped(make_item("A-1", on_hand=9))
    for path, said in (
        (f"shipment/{shipment.pk}/forms/label", "A shipment is not printed as label."),
        ("parcel/1", "There is no kind of document called parcel."),
        (f"shipment/{shipment.pk + 1}", "There is no such shipment."),
        (f"shipment/{shipment.pk + 1}/forms/slip", "There is no such shipment."),
    ):
        answer = manager.get(f"/api/v1/documents/{path}")
        assert (answer.status_code, answer.json()["detail"]) == (404, said)
    assert address("parcel", 1) == address("receipt", None) == ""


def test_a_purchase_order_tells_what_happened_to_it(company: Location, manager: Client) -> None:
    item = make_item("A-1")
    make_supplier(item)
    receipt = _received(item, company)
    page = manager.get(f"/api/v1/purchase-orders/{receipt.order_id}").json()
    assert [(one["what"], one["more"]) for one in page["history"]] == [
        ("drafted", ""),
        ("sent", ""),
        ("received", "GR-1001"),
    ]


def test_every_kind_has_what_its_declaration_promises(company: Location) -> None:
    for kind in KINDS.values():
        fields = {field.name for field in kind.model._meta.get_fields()}
        assert {kind.at, "number"} <= fields, kind.code
        assert kind.within is None or (kind.within[0] in fields and kind.within[1] in KINDS)
        if kind.states is not None:
            told = {value for value, _ in kind.model._meta.get_field("state").choices}
            assert set(kind.states.follows) == told, f"{kind.code}: the table and the column name the same states"
    assert set(KINDS) >= {"order", "shipment", "invoice", "purchase order", "receipt", "adjustment", "count", "opening"}
    assert SalesOrder.State.CLOSED in ORDER.states.ends()  # type: ignore[union-attr]
