"""Orders, shipments and invoices as documents: states, what happened to them, what is printed."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

from yuvrel.books.models import LedgerDocument
from yuvrel.core.errors import NotFoundError
from yuvrel.core.states import States
from yuvrel.documents.registry import DocumentKind, Form, Moment, Series, register
from yuvrel.people.models import AuditRow

from .models import Capture, CreditNote, Invoice, Return, SalesOrder, Shipment, TillCount

State = SalesOrder.State
WAITS = (State.RECEIVED.value, State.HELD.value, State.READY.value)
BEGUN = (State.PART_SHIPPED.value, State.SHIPPED.value)
# Of these something is still to leave.
TO_LEAVE = (*WAITS, State.PART_SHIPPED.value)

# A channel may change an order, bring a cancelled one back, and add to one that has left; each version says its state anew.
STATES = States(
    State.RECEIVED.value,
    {
        **{state: (*WAITS, *BEGUN, State.CLOSED.value, State.CANCELLED.value) for state in WAITS},
        **{state: (*BEGUN, State.HELD.value, State.CANCELLED.value) for state in BEGUN},
        State.CANCELLED.value: (*WAITS, *BEGUN, State.CANCELLED.value),
        State.CLOSED.value: (),
    },
)

Back = Return.State
BACK_STATES = States(
    Back.EXPECTED.value,
    {
        Back.EXPECTED.value: (Back.PART_RECEIVED.value, Back.RECEIVED.value, Back.CANCELLED.value),
        Back.PART_RECEIVED.value: (Back.PART_RECEIVED.value, Back.RECEIVED.value),
        Back.RECEIVED.value: (),
        Back.CANCELLED.value: (),
    },
)

# What was done to an order, as it is said in its history.
DONE = {
    "release order": "released",
    "hold order": "held",
    "cancel order": "cancelled here",
    "ship order": "shipped",
    "credit order": "credited",
    "put goods back": "its goods are back on the shelf",
    "reservation became backorder": "a reservation became a backorder",
}


def _happened(row: SalesOrder) -> list[Moment]:
    """All that happened to an order, the oldest first."""
    found = [Moment(row.placed_at, "", "placed", f"{row.connection.name}, {row.external_number}")]
    for done in AuditRow.objects.filter(subject="order", subject_id=row.pk).order_by("pk"):
        after = done.after
        if after.get("same"):
            continue
        if done.action in ("take order", "take till sale"):
            version = after.get("version", 1)
            what = "taken in" if len(found) == 1 else f"changed at the channel, version {version}"
            more = str(after.get("state", ""))
        else:
            what = DONE.get(done.action, done.action)
            units = after.get("units") or []
            more = str(after.get("why") or after.get("shipment") or after.get("credit") or ", ".join(units))
        found.append(Moment(done.at, "" if done.user_id is None else done.actor, what, more))
    for taken in Capture.objects.filter(payment__order=row).select_related("payment", "shipment").order_by("pk"):
        said = f"{taken.amount} of the {taken.payment.method.replace('_', ' ')} charged"
        if taken.told_channel_at:
            found.append(Moment(taken.told_channel_at, "", said, taken.shipment.number))
    found += [Moment(back.made_at, "", "a return is expected", back.number) for back in row.returns.all()]  # type: ignore[attr-defined]
    for note in row.credits.all():  # type: ignore[attr-defined]
        found += _refund_told(note)
    for shipment in row.shipments.all():  # type: ignore[attr-defined]
        if shipment.told_channel_at:
            found.append(Moment(shipment.told_channel_at, "", "the channel was told", shipment.number))
    return sorted(found, key=lambda one: one.at)


def _refund_told(note: CreditNote) -> list[Moment]:
    return [Moment(note.told_channel_at, "", "the channel pays it back", note.number)] if note.told_channel_at else []


def _address(order: SalesOrder) -> str:
    """Whom it goes to, a line for each part of the address."""
    parts = [
        order.customer.name if order.customer else "",
        *(str(order.ship_to.get(k, "")) for k in ("street", "city", "country")),
    ]
    return "\n".join(part for part in parts if part)


def _shipment(shipment_id: int) -> Shipment:
    return Shipment.objects.select_related("order__customer", "order__location", "invoice").get(pk=shipment_id)


def _slip(shipment_id: int) -> dict[str, Any]:
    shipment = _shipment(shipment_id)
    lines = [
        {"sku": row.order_line.sku, "title": row.order_line.title, "quantity": row.quantity}
        for row in shipment.lines.select_related("order_line").order_by("pk")  # type: ignore[attr-defined]
    ]
    order = shipment.order
    return {"number": shipment.number, "shipment": shipment, "order": order, "address": _address(order), "lines": lines}


def _bill(invoice_id: int) -> dict[str, Any]:
    """An invoice with its lines as the ledger was told them, which are never changed."""
    invoice = Invoice.objects.select_related("shipment__order__customer").get(pk=invoice_id)
    order = invoice.shipment.order
    told = LedgerDocument.objects.filter(number=invoice.number).first()
    if told is None:
        raise NotFoundError(f"What {invoice.number} said was written before the books were kept here.")
    lines = []
    for line in told.details:
        amounts = {name: Decimal(line[name]) for name in ("quantity", "net", "tax")}
        lines.append({**line, **amounts, "gross": amounts["net"] + amounts["tax"]})
    settled = f"Payable by {invoice.due_on:%-d %B %Y}." if invoice.due_on else "Paid."
    facts = {"number": invoice.number, "invoice": invoice, "order": order, "address": _address(order), "lines": lines}
    return {**facts, "settled": settled}


def _order_facts(row: SalesOrder) -> list[tuple[str, str]]:
    return [("Channel", row.connection.name), ("Customer", row.customer.name if row.customer else "")]


def _shipment_facts(row: Shipment) -> list[tuple[str, str]]:
    return [("Carrier", row.carrier), ("Tracking", row.tracking), *_order_facts(row.order)]


def _told(row: Shipment) -> list[Moment]:
    return [Moment(row.told_channel_at, "", "the channel was told")] if row.told_channel_at else []


def _invoice_facts(row: Invoice) -> list[tuple[str, str]]:
    amounts = [(name, f"{getattr(row, name.lower()):.2f} {row.shipment.order.currency}") for name in ("Net", "Tax", "Total")]
    due = [("Due", f"{row.due_on:%-d %b %Y}")] if row.due_on else []
    return [*amounts, *due, *_order_facts(row.shipment.order)]


def _return_facts(row: Return) -> list[tuple[str, str]]:
    return [("Order", row.order.number), ("Comes back to", row.location.name), ("Note", row.note), *_order_facts(row.order)]


def _credit_facts(row: CreditNote) -> list[tuple[str, str]]:
    amounts = [(name, f"{getattr(row, name.lower()):.2f} {row.order.currency}") for name in ("Net", "Tax", "Total")]
    fee = [("Kept for taking it back", f"{row.fee:.2f} {row.order.currency}")] if row.fee else []
    owed = row.total - row.refunded
    open_ = [("Set off against what is owed", f"{owed:.2f} {row.order.currency}")] if owed else []
    how = row.order.connection.name if row.tell_channel or row.external_id else "by hand"
    paid = [("Paid back", f"{row.refunded:.2f} {row.order.currency}, {how}")] if row.refunded else []
    return [*amounts, *fee, *open_, *paid, ("Note", row.note), *_order_facts(row.order)]


def _credit(note_id: int) -> dict[str, Any]:
    """A credit note with its lines, as the customer reads them."""
    note = CreditNote.objects.select_related("order__customer").get(pk=note_id)
    lines = [
        {
            "sku": row.order_line.sku,
            "title": row.order_line.title,
            **{name: getattr(row, name) for name in ("quantity", "net", "tax", "gross")},
        }
        for row in note.lines.select_related("order_line").order_by("pk")  # type: ignore[attr-defined]
    ]
    invoices = ", ".join(row.number for row in note.order.shipments.order_by("pk"))  # type: ignore[attr-defined]
    address = _address(note.order)
    return {"number": note.number, "note": note, "order": note.order, "address": address, "lines": lines, "invoices": invoices}


def _count_facts(row: TillCount) -> list[tuple[str, str]]:
    lines = [
        (
            line.method.replace("_", " ").capitalize(),
            f"{line.opening:.2f} at the start, {line.taken:.2f} taken, {line.counted:.2f} counted",
        )
        for line in row.lines.order_by("pk")  # type: ignore[attr-defined]
    ]
    return [("Till", row.connection.name), *lines]


ORDER = register(
    DocumentKind(
        "order",
        "Order",
        SalesOrder,
        "orders",
        at="placed_at",
        states=STATES,
        page="/orders/{id}",
        facts=_order_facts,
        happened=_happened,
    )
)
TILL_COUNT = register(DocumentKind("till count", "Till count", TillCount, "books", at="closed_at", facts=_count_facts))
SHIPMENT = register(
    DocumentKind(
        "shipment",
        "Shipment",
        Shipment,
        "orders",
        at="shipped_at",
        within=("order", ORDER.code),
        forms={"slip": Form("Packing slip", "packing_slip.html", _slip)},
        facts=_shipment_facts,
        moments=_told,
    )
)
INVOICE = register(
    DocumentKind(
        "invoice",
        "Invoice",
        Invoice,
        "orders",
        at="issued_on",
        within=("shipment", SHIPMENT.code),
        forms={"invoice": Form("Invoice", "invoice.html", _bill)},
        facts=_invoice_facts,
    )
)
RETURN = register(
    DocumentKind(
        "return",
        "Return",
        Return,
        "orders",
        at="made_at",
        series=Series("RT"),
        states=BACK_STATES,
        page="/orders/returns/{id}",
        within=("order", ORDER.code),
        facts=_return_facts,
    )
)
CREDIT_NOTE = register(
    DocumentKind(
        "credit note",
        "Credit note",
        CreditNote,
        "orders",
        at="issued_at",
        series=Series("CN"),
        within=("order", ORDER.code),
        forms={"credit-note": Form("Credit note", "credit_note.html", _credit)},
        facts=_credit_facts,
        moments=_refund_told,
    )
)
