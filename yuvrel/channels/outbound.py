"""Outbound: shipments to channels, documents to the ledger, orders to suppliers; each told once."""

from __future__ import annotations

import json
from collections.abc import Iterable
from datetime import datetime, timedelta
from decimal import Decimal
from hashlib import sha256
from typing import Any

from django.db.models import Sum
from django.utils import timezone

from yuvrel.books.actions import mark_refused
from yuvrel.buying.actions import Answer, acknowledge, delivered, supplier_of
from yuvrel.buying.models import PurchaseOrder
from yuvrel.connectors.base import Connector, capable, read
from yuvrel.connectors.capabilities import Capability, Captures, Purchases, Refunds, Shipments
from yuvrel.connectors.http import ConnectorError
from yuvrel.connectors.messages import CaptureNotice, Raw, RefundNotice, ShipmentNotice, SupplierAnswer, Unreadable
from yuvrel.connectors.registry import KINDS
from yuvrel.connectors.ubl import OrderDocument, OrderedLine, Party, build_order
from yuvrel.core.errors import RefusedError, YuvrelError
from yuvrel.core.money import round_money
from yuvrel.people.epochs import keys_of
from yuvrel.people.queries import company
from yuvrel.people.roles import SYSTEM
from yuvrel.sales.models import Capture, CreditNote, Invoice, Shipment, ShipmentLine
from yuvrel.sales.rules import order_rules, order_rules_of

from . import ledger_known, order_states
from .credentials import connector_as, connector_for
from .ledger_out import send_document, send_order
from .models import Connection, Feed, InboundMessage, OutboundMessage
from .quarantine import attempt, ends_the_run, read_row, set_aside
from .queueing import queue
from .runs import account_failed, account_works, raise_snag, run_of, settle_snags
from .schedules import feed_of, read_whole

TRIES_BEFORE_A_SNAG = 6
LONGEST_PAUSE = 600
REFUSED = {
    "ledger": "The ledger did not take a document",
    "ledger_order": "The ledger did not take an order",
    ledger_known.CONTACT: "The ledger did not take a contact",
    "shipment": "The channel did not take a shipment",
    "capture": "The channel did not charge a payment",
    order_states.STATE: "The channel did not take how an order stands",
    "refund": "The channel did not pay a customer back",
    "purchase_order": "The supplier did not take an order",
}
WAITING = OutboundMessage.State.WAITING
ANSWER = "answer"


def queue_shipments(shipment_ids: Iterable[int]) -> set[int]:
    """Queue shipments for the channels whose orders they fulfil, where these are told."""
    woken: set[int] = set()
    shipments = list(Shipment.objects.filter(pk__in=list(shipment_ids)).select_related("order__connection"))
    rules = order_rules_of({shipment.order.connection for shipment in shipments})
    for shipment in shipments:
        connection = shipment.order.connection
        if Capability.SHIPMENTS in KINDS[connection.kind].can and rules[connection.pk].shipments != "no":
            woken |= queue("shipment", [shipment.pk], connection)
        if Capability.CAPTURES in KINDS[connection.kind].can:
            taken = list(shipment.captures.values_list("pk", flat=True))  # type: ignore[attr-defined]
            woken |= queue("capture", taken, connection) if taken else set()
    return woken


def queue_refunds(note_ids: Iterable[int]) -> set[int]:
    """Queue credit notes that their order's channel is to pay back."""
    woken: set[int] = set()
    rows = CreditNote.objects.filter(pk__in=list(note_ids), tell_channel=True, external_id="")
    for note in rows.select_related("order__connection"):
        if note.order.connection.pays_back:
            woken |= queue("refund", [note.pk], note.order.connection)
    return woken


def queue_purchase_orders(order_ids: Iterable[int]) -> set[int]:
    """Queue purchase orders for suppliers with an inbox; the others go by PDF and mail. One that was found there after a
    restore is there already."""
    woken: set[int] = set()
    for order in (
        PurchaseOrder.objects.filter(pk__in=list(order_ids), delivered_at=None)
        .select_related("supplier")
        .prefetch_related("supplier__inboxes__connection")
    ):
        if order.supplier.inbox:
            woken |= queue("purchase_order", [order.pk], order.supplier.inbox)
    return woken


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
                row.answer = {"id": _send(connector, row)}
            except (ConnectorError, YuvrelError) as error:
                _failed(connection, row, error)
                run.note(f"{row.kind} {row.subject_id}: {error}")
                if isinstance(error, ConnectorError) and error.whole_connection:
                    account_failed(connection, "deliver", error)
                    break
                continue
            # What was asked for anew while it was on its way goes out once more.
            was = OutboundMessage.objects.filter(pk=row.pk, next_try_at=row.next_try_at)
            was.update(state=OutboundMessage.State.SENT, sent_at=timezone.now(), last_error="", answer=row.answer)
            settle_snags("delivery", "delivered", outbound=row)
            sent += 1
        run.done, run.taken, run.failed = sent, sent, len(rows) - sent
        run.note(f"{sent} of {len(rows)} delivered")
    if sent:
        account_works(connection, "deliver")
    return sent


def _send(connector: Connector, row: OutboundMessage) -> str:
    """Send one message. It is not one transaction: nothing outside is called inside one.

    Raises YuvrelError or ConnectorError; anything unforeseen sets this message aside and is logged.
    """
    try:
        return SENDERS[row.kind](connector, row)
    except (YuvrelError, ConnectorError):
        raise
    except Exception as error:
        if ends_the_run(error):
            raise
        raise set_aside(error, f"{row.kind} {row.subject_id} for {row.connection.name}") from error


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


def _send_shipment(connector: Connector, row: OutboundMessage) -> str:
    shipment = Shipment.objects.select_related("order__connection").get(pk=row.subject_id)
    invoice = Invoice.objects.filter(shipment=shipment).first()
    tracked = order_rules(shipment.order.connection).shipments != "plain"
    lines = _in_their_units(shipment)
    left = any(x.shipped < x.quantity for x in shipment.order.lines.filter(kind__in=("item", "service")))
    notice = ShipmentNotice(
        order_id=shipment.order.external_id,
        key=f"shipment-{shipment.number}",
        carrier=shipment.carrier if tracked else "",
        tracking=shipment.tracking if tracked else "",
        invoice=invoice.number if invoice else "",
        lines=lines,
        complete=not left,
    )
    external = capable(connector, Shipments).fulfil(notice)
    Shipment.objects.filter(pk=shipment.pk).update(told_channel_at=timezone.now())
    return str(external)


def _in_their_units(shipment: Shipment) -> list[tuple[str, Decimal]]:
    """What left, as the channel counts it: of a tray that left in two parcels the second one is told."""
    rows = list(shipment.lines.select_related("order_line"))
    packs = [row.order_line_id for row in rows if row.order_line.units > 1]
    sums = ShipmentLine.objects.filter(order_line__in=packs, shipment__pk__lt=shipment.pk).values_list("order_line")
    before = dict(sums.annotate(total=Sum("quantity")).order_by())
    told = []
    for row in rows:
        units, had = row.order_line.units, before.get(row.order_line_id, Decimal(0))
        count = (had + row.quantity) // units - had // units if units > 1 else row.quantity
        if count:
            told.append((row.order_line.external_id, count))
    return told


def _send_capture(connector: Connector, row: OutboundMessage) -> str:
    capture = Capture.objects.select_related("payment__order", "shipment").get(pk=row.subject_id)
    notice = CaptureNotice(
        order_id=capture.payment.order.external_id,
        payment_id=capture.payment.external_id,
        # By what the channel calls the payment: a restored database has other ids of its own.
        key=f"capture-{capture.shipment.number}-{capture.payment.external_id}",
        amount=capture.amount if capture.stated is None else capture.stated,
    )
    external = capable(connector, Captures).capture(notice)
    Capture.objects.filter(pk=capture.pk).update(told_channel_at=timezone.now())
    return str(external)


def _send_refund(connector: Connector, row: OutboundMessage) -> str:
    note = CreditNote.objects.select_related("order").get(pk=row.subject_id)
    rate, currency = note.order.rate, note.order.stated_currency
    lines = [
        (
            line.order_line.external_id,
            line.quantity // line.order_line.units,
            round_money(line.gross * rate, currency) if currency else line.gross,
        )
        for line in note.lines.select_related("order_line").order_by("pk")  # type: ignore[attr-defined]
    ]
    notice = RefundNotice(
        order_id=note.order.external_id,
        key=note.number,
        amount=note.refunded if note.stated is None else note.stated,
        note=note.note,
        lines=lines,
    )
    external = capable(connector, Refunds).refund(notice)
    # The order that tells of it may have come before this answer, and has said so then.
    CreditNote.objects.filter(pk=note.pk, external_id="").update(external_id=external, told_channel_at=timezone.now())
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


def _send_purchase(connector: Connector, row: OutboundMessage) -> str:
    order = PurchaseOrder.objects.select_related("supplier", "location").get(pk=row.subject_id)
    key = keys_of("buying_purchaseorder")(order.number, order.pk)
    receipt = capable(connector, Purchases).place_order(key, build_order(purchase_document(order)))
    delivered(order.pk, timezone.now())
    return str(receipt)


SENDERS = {
    "ledger": send_document,
    "ledger_order": send_order,
    ledger_known.CONTACT: ledger_known.send_contact,
    "shipment": _send_shipment,
    order_states.STATE: order_states.send_state,
    "capture": _send_capture,
    "refund": _send_refund,
    "purchase_order": _send_purchase,
}


def read_answers(connection: Connection, at: datetime) -> int:
    """Read the supplier's answers since the last one, each by itself. Returns how many were new."""
    connector = connector_as(connection, Purchases)
    feed = feed_of(connection, "answers")
    with run_of(connection, "answers") as run:
        page = connector.answers(feed.watermark if feed.watermark.isdigit() else "0")
        for raw in page.rows:
            run.taken += _take_answer(connection, read_row(connector.read_answer, raw), at)
            if raw.at.isdigit():
                Feed.objects.filter(pk=feed.pk).update(watermark=raw.at)
        run.done = run.total = len(page.rows)
        run.note(f"{run.taken} new answers")
        read_whole(feed)
    return run.taken


def _take_answer(connection: Connection, answer: SupplierAnswer | Unreadable, at: datetime) -> bool:
    """Note an answer; one that cannot be read or fits no order is kept with its snag. Whether it was new."""
    supplier = supplier_of(connection.pk)
    name = supplier.name if supplier else connection.name
    if isinstance(answer, Unreadable):
        message = _keep_answer(connection, answer.body)
        if message:
            raise_snag(
                connection, "answer", f"An answer of {name} cannot be read", answer.detail, inbound=message, field=answer.field
            )
        return False
    try:
        return (
            attempt(lambda: acknowledge(SYSTEM, answer.order_number, _answer(answer), at), f"an answer of {name}") != "repeated"
        )
    except YuvrelError as error:
        message = _keep_answer(connection, answer.model_dump(mode="json"))
        if message:
            title = f"An answer of {name} could not be taken in"
            raise_snag(connection, "answer", title, error.detail, inbound=message, field=error.field)
        return False


def _keep_answer(connection: Connection, body: dict[str, Any]) -> InboundMessage | None:
    """An answer that waits for a decision, kept as it came; None when it was kept before."""
    digest = sha256(json.dumps(body, sort_keys=True, default=str).encode()).hexdigest()[:24]
    row, created = InboundMessage.objects.get_or_create(
        connection=connection,
        key=f"answer:{digest}",
        defaults={"kind": ANSWER, "via": "poll", "body": body, "state": InboundMessage.State.SNAGGED},
    )
    return row if created else None


def answer_again(message: InboundMessage, at: datetime) -> str:
    """Take a kept answer once more. Raises RefusedError saying why it still cannot be."""
    connection = message.connection
    found = read_row(connector_as(connection, Purchases).read_answer, Raw(body=message.body))
    if isinstance(found, Unreadable) and "order_number" in message.body:
        found = read_row(lambda body: read(SupplierAnswer, body), Raw(body=message.body))
    if isinstance(found, Unreadable):
        raise RefusedError(f"It still cannot be read: {found.detail}", field="body")
    outcome = acknowledge(SYSTEM, found.order_number, _answer(found), at)
    InboundMessage.objects.filter(pk=message.pk).update(state=InboundMessage.State.APPLIED, applied_at=at)
    settle_snags("answer", "it was taken in", inbound=message)
    return outcome


def _answer(answer: SupplierAnswer) -> Answer:
    return Answer(answer.reference, answer.accepted, answer.note, answer.lines, answer.expected_on)
