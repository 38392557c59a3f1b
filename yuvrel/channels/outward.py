"""Outbound: shipments to channels, documents to the ledger, orders to suppliers; each told once."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date, datetime, timedelta
from decimal import Decimal

from django.db import transaction
from django.db.models import Sum
from django.utils import timezone

from yuvrel.books.actions import mark_refused, mark_sent
from yuvrel.books.models import LedgerDocument
from yuvrel.buying.actions import Answer, acknowledge, delivered, supplier_of
from yuvrel.buying.models import PurchaseOrder
from yuvrel.connectors.base import Can
from yuvrel.connectors.http import ConnectorError
from yuvrel.connectors.messages import LedgerDoc, ShipmentNotice, SupplierAnswer, Unreadable
from yuvrel.connectors.registry import KINDS
from yuvrel.connectors.ubl import OrderDocument, OrderedLine, Party, build_order
from yuvrel.core.errors import RefusedError, YuvrelError
from yuvrel.people.queries import company
from yuvrel.people.roles import SYSTEM
from yuvrel.sales.models import Shipment

from .access import connector_for
from .models import Connection, OutboundMessage
from .runs import account_failed, account_works, raise_snag, run_of, settle_snags

TRIES_BEFORE_A_SNAG = 6
LONGEST_PAUSE = 600
REFUSED = {
    "ledger": "The ledger did not take a document",
    "shipment": "The channel did not take a shipment",
    "purchase_order": "The supplier did not take an order",
}
WAITING = OutboundMessage.State.WAITING


def _live(can: Can) -> Connection | None:
    kinds = [kind for kind, c in KINDS.items() if can in c.can]
    return Connection.objects.filter(kind__in=kinds, state=Connection.State.LIVE).order_by("pk").first()


def queue_ledger(document_ids: Iterable[int]) -> set[int]:
    """Queue ledger documents for the live ledger, if there is one. Returns the connections to wake."""
    ledger = _live(Can.DOCUMENTS)
    return _queue("ledger", document_ids, ledger) if ledger else set()


def queue_shipments(shipment_ids: Iterable[int]) -> set[int]:
    """Queue shipments for the channels whose orders they fulfil."""
    woken: set[int] = set()
    for shipment in Shipment.objects.filter(pk__in=list(shipment_ids)).select_related("order__connection"):
        connection = shipment.order.connection
        if Can.FULFILMENTS in KINDS[connection.kind].can:
            woken |= _queue("shipment", [shipment.pk], connection)
    return woken


def queue_purchase_orders(order_ids: Iterable[int]) -> set[int]:
    """Queue purchase orders for suppliers with an inbox; the others go by PDF and mail."""
    woken: set[int] = set()
    for order in PurchaseOrder.objects.filter(pk__in=list(order_ids)).select_related("supplier__inbox"):
        if order.supplier.inbox:
            woken |= _queue("purchase_order", [order.pk], order.supplier.inbox)
    return woken


def _queue(kind: str, subjects: Iterable[int], connection: Connection) -> set[int]:
    now = timezone.now()
    OutboundMessage.objects.bulk_create(
        [OutboundMessage(connection=connection, kind=kind, subject_id=i, next_try_at=now) for i in subjects],
        ignore_conflicts=True,
    )
    return {connection.pk}


def deliver(connection: Connection) -> int:
    """Send what is due on a connection, oldest first. Returns how many went out.

    A passing fault is tried again later with growing pauses, for as long as it takes; a refusal of
    one message becomes a snag at once. When the whole connection is at fault, the rest waits too.
    """
    if connection.state != Connection.State.LIVE:
        return 0
    rows = list(
        OutboundMessage.objects.filter(connection=connection, state=WAITING, next_try_at__lte=timezone.now()).order_by("pk")[:500]
    )
    if not rows:
        return 0
    connector = connector_for(connection)
    sent = 0
    with run_of(connection, "deliver") as run:
        run.total = len(rows)
        for row in rows:
            try:
                row.answer = {"id": SENDERS[row.kind](connector, row)}
            except (ConnectorError, YuvrelError) as error:
                _failed(connection, row, error)
                run.note(f"{row.kind} {row.subject_id}: {error}")
                if isinstance(error, ConnectorError) and error.whole_connection:
                    account_failed(connection, "deliver", error)
                    break
                continue
            row.state, row.sent_at, row.last_error = OutboundMessage.State.SENT, timezone.now(), ""
            row.save()
            settle_snags("delivery", "delivered", outbound=row)
            sent += 1
        run.done = sent
        run.note(f"{sent} of {len(rows)} delivered")
    if sent:
        account_works(connection, "deliver")
    return sent


def _failed(connection: Connection, row: OutboundMessage, error: Exception) -> None:
    """Note a failure. When the whole connection is at fault, it is the connection that pauses, not the message."""
    row.last_error = str(error)[:500]
    whole = isinstance(error, ConnectorError) and error.whole_connection
    passing = isinstance(error, ConnectorError) and error.passing
    if not whole:
        row.attempts = min(1000, row.attempts + 1)
    if passing and not whole:
        row.next_try_at = timezone.now() + timedelta(seconds=min(LONGEST_PAUSE, 2**row.attempts))
    if not passing and not whole:
        row.state = OutboundMessage.State.SNAGGED
        if row.kind == "ledger":
            mark_refused([row.subject_id])
    if row.state == OutboundMessage.State.SNAGGED or row.attempts == TRIES_BEFORE_A_SNAG:
        raise_snag(connection, "delivery", REFUSED[row.kind], str(error), outbound=row)
    row.save()


def ledger_message(document: LedgerDocument, accounts: dict[str, str]) -> LedgerDoc:
    """A document in the ledger's own account codes. Raises RefusedError when a role is not mapped."""
    sums = document.entry.lines.values("account__role").annotate(total=Sum("amount")).order_by("account__role")
    codes: dict[str, Decimal] = {}
    for row in sums:
        code = accounts.get(row["account__role"])
        if not code:
            raise RefusedError(f"No ledger account is mapped for {row['account__role']}.", field="accounts")
        codes[code] = codes.get(code, Decimal(0)) + row["total"]
    return LedgerDoc(
        number=document.number,
        kind=document.kind,
        date=document.entry.date.isoformat(),
        contact=document.contact,
        memo=f"{document.entry.document} {document.entry.memo}".strip(),
        details=document.details,
        lines=[(code, amount) for code, amount in codes.items() if amount],
    )


def _send_ledger(connector: object, row: OutboundMessage) -> str:
    document = LedgerDocument.objects.select_related("entry").get(pk=row.subject_id)
    external = connector.post_document(ledger_message(document, row.connection.accounts))  # type: ignore[attr-defined]
    mark_sent(document.pk, external, timezone.now())
    return str(external)


def _send_shipment(connector: object, row: OutboundMessage) -> str:
    shipment = Shipment.objects.select_related("order").get(pk=row.subject_id)
    lines = [(line.order_line.external_id, line.quantity) for line in shipment.lines.select_related("order_line")]
    left = any(x.shipped < x.quantity for x in shipment.order.lines.filter(kind__in=("item", "service")))
    notice = ShipmentNotice(
        order_id=shipment.order.external_id,
        key=f"shipment-{shipment.number}",
        carrier=shipment.carrier,
        tracking=shipment.tracking,
        lines=lines,
        complete=not left,
    )
    external = connector.fulfil(notice)  # type: ignore[attr-defined]
    Shipment.objects.filter(pk=shipment.pk).update(told_channel_at=timezone.now())
    return str(external)


def purchase_document(order: PurchaseOrder) -> OrderDocument:
    """A purchase order as the canonical document behind UBL and PDF."""
    seller, place = order.supplier, order.location
    us = company()
    lines = order.lines.select_related("item").prefetch_related("item__barcodes").order_by("pk")
    return OrderDocument(
        number=order.number,
        issued_on=(order.sent_at or order.made_at).date(),
        currency=order.currency,
        buyer=Party(name=us.name),
        deliver_to=Party(name=place.name, street=place.name),
        seller=Party(
            name=seller.name,
            street=seller.address.get("street", ""),
            city=seller.address.get("city", ""),
            country=seller.address.get("country", "IE"),
        ),
        expected_on=order.expected_on,
        lines=[
            OrderedLine(
                id=str(n),
                sku=line.item.sku,
                supplier_code=line.supplier_code,
                title=line.item.title,
                gtin=next((b.gtin for b in line.item.barcodes.all()), ""),
                quantity=line.quantity,
                unit=line.item.unit,
                price=line.price,
            )
            for n, line in enumerate(lines, 1)
        ],
    )


def _send_purchase(connector: object, row: OutboundMessage) -> str:
    order = PurchaseOrder.objects.select_related("supplier", "location").get(pk=row.subject_id)
    receipt = connector.place_order(order.number, build_order(purchase_document(order)))  # type: ignore[attr-defined]
    delivered(order.pk, timezone.now())
    return str(receipt)


SENDERS = {"ledger": _send_ledger, "shipment": _send_shipment, "purchase_order": _send_purchase}


def read_answers(connection: Connection, at: datetime) -> int:
    """Read the supplier's answers since the last one. Returns how many were new."""
    supplier = supplier_of(connection.pk)
    page = connector_for(connection).answers(connection.watermark if connection.watermark.isdigit() else "0")
    fresh = 0
    for seq, answer in page.rows:
        if isinstance(answer, Unreadable):
            title = f"An answer of {supplier.name if supplier else connection.name} cannot be read"
            raise_snag(connection, "answer", title, answer.detail, field=answer.field)
            Connection.objects.filter(pk=connection.pk).update(watermark=seq)
            continue
        try:
            with transaction.atomic():
                fresh += acknowledge(SYSTEM, answer.order_number, _answer(answer), at) != "repeated"
        except YuvrelError as error:
            raise_snag(
                connection,
                "answer",
                f"An answer of {supplier.name if supplier else connection.name} fits no order",
                error.detail,
                field=error.field,
            )
        Connection.objects.filter(pk=connection.pk).update(watermark=seq)
    Connection.objects.filter(pk=connection.pk).update(last_exchange_at=at)
    return fresh


def _answer(answer: SupplierAnswer) -> Answer:
    day = date.fromisoformat(answer.expected_on) if answer.expected_on else None
    return Answer(answer.reference, answer.accepted, answer.note, answer.lines, day)
