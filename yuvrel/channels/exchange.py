"""Inbound: every message is kept, then applied once, however often and in whatever order it comes."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from django.db import transaction
from django.utils import timezone
from django.utils.dateparse import parse_datetime

from yuvrel.catalogue.models import Item
from yuvrel.connectors.base import Can
from yuvrel.connectors.http import NonsenseError
from yuvrel.connectors.messages import RemoteLine, RemoteOrder
from yuvrel.core.errors import RefusedError, YuvrelError
from yuvrel.people.roles import SYSTEM
from yuvrel.sales.actions import Taken, take_order, take_till_sale
from yuvrel.sales.incoming import IncomingLine, IncomingOrder

from .access import connector_for, kind_of
from .models import Connection, InboundMessage, Listing
from .runs import raise_snag, run_of, settle_snags

OVERLAP = timedelta(minutes=5)
GONE = ("cancelled", "refunded", "void")


def keep(connection: Connection, order: RemoteOrder, via: str) -> InboundMessage | None:
    """Store one version of an order; None when that version was stored before."""
    message, created = InboundMessage.objects.get_or_create(
        connection=connection,
        key=f"order:{order.external_id}:{order.version}"[:160],
        defaults={"kind": "order", "via": via, "body": order.model_dump(mode="json")},
    )
    return message if created else None


def poll(connection: Connection) -> int:
    """Take in what changed since the watermark, with an overlap; returns how many were new."""
    connector = connector_for(connection)
    since = connection.watermark
    start = parse_datetime(since)
    asked = (start - OVERLAP).isoformat() if start else since
    newest, cursor, fresh = since, "", 0
    with run_of(connection, "orders") as run:
        while True:
            page = connector.orders(asked, cursor)
            for changed_at, order in page.rows:
                newest = max(newest, str(changed_at))
                message = keep(connection, order, "poll")
                if message:
                    apply(message.pk)
                    fresh += 1
            if not page.cursor or page.cursor == cursor:
                break
            cursor = page.cursor
        run.done = run.total = fresh
        run.note(f"{fresh} new versions of orders")
    Connection.objects.filter(pk=connection.pk).update(watermark=newest, last_exchange_at=timezone.now())
    return fresh


def apply(message_id: int) -> str:
    """Apply a kept message; what cannot be applied becomes a snag. Returns what became of it."""
    message = InboundMessage.objects.select_related("connection").get(pk=message_id)
    if message.state in (InboundMessage.State.APPLIED, InboundMessage.State.REPEATED, InboundMessage.State.SKIPPED):
        return "repeated"
    connection = message.connection
    try:
        order = RemoteOrder.model_validate(message.body)
        if not _wanted(connection, order):
            return _end(message, InboundMessage.State.SKIPPED)
        with transaction.atomic():
            taken = _take(connection, order, timezone.now())
    except YuvrelError as error:
        raise_snag(
            connection,
            "order",
            f"Order {message.body.get('number')} could not be taken in",
            error.detail,
            inbound=message,
            field=error.field,
        )
        return _end(message, InboundMessage.State.SNAGGED)
    if taken.problem:
        raise_snag(
            connection,
            "order",
            f"Order {taken.order.number} is held"
            if taken.order.kind == "order"
            else f"Till sale {taken.order.number} needs a look",
            taken.problem,
            inbound=message,
            order=taken.order,
            field=taken.field,
        )
    else:
        settle_snags("order", "a later version was sound", order=taken.order)
    return _end(message, InboundMessage.State.REPEATED if taken.outcome == "repeated" else InboundMessage.State.APPLIED)


def _end(message: InboundMessage, state: str) -> str:
    message.state, message.applied_at = state, timezone.now()
    message.save(update_fields=["state", "applied_at"])
    return state


def _wanted(connection: Connection, order: RemoteOrder) -> bool:
    """Whether the connection takes in orders in this state; one it holds already is always followed."""
    if order.status in connection.order_states or order.status in GONE:
        return True
    return connection.orders.filter(external_id=order.external_id).exists()


def _take(connection: Connection, order: RemoteOrder, at: datetime) -> Taken:
    if connection.fulfils_from_id is None:
        raise RefusedError("The connection has no location that fulfils its orders.", field="fulfils_from")
    incoming = IncomingOrder(
        connection_id=connection.pk,
        location_id=connection.fulfils_from_id,
        prefix=connection.prefix,
        external_id=order.external_id,
        number=order.number,
        version=order.version,
        placed_at=order.placed_at,
        currency=order.currency,
        total=order.total,
        paid=order.paid,
        cancelled=order.status in GONE,
        customer=order.customer,
        ship_to=order.ship_to,
        lines=resolve(connection, order.lines),
    )
    if kind_of(connection).sales_already_happened:
        return take_till_sale(SYSTEM, incoming)
    return take_order(SYSTEM, incoming, at)


def resolve(connection: Connection, lines: list[RemoteLine]) -> list[IncomingLine]:
    """Which item each line is: by its linked listing, else by an exact SKU."""
    ids = [line.listing_id for line in lines if line.listing_id]
    linked = {
        row.external_id: row.item
        for row in Listing.objects.filter(connection=connection, external_id__in=ids).select_related("item")
    }
    skus = {sku.casefold(): item for sku, item in _by_sku([line.sku for line in lines if line.sku]).items()}
    found = []
    for line in lines:
        item = None
        kind = line.kind
        if kind == "item":
            item = linked.get(line.listing_id) or skus.get(line.sku.strip().casefold())
            kind = "service" if item and item.kind == Item.Kind.SERVICE else "item"
        found.append(
            IncomingLine(
                kind=kind,
                title=line.title,
                quantity=line.quantity,
                amount=line.amount,
                tax_percent=line.tax_percent,
                external_id=line.external_id,
                sku=item.sku if item else line.sku,
                item_id=item.pk if item else None,
                decimals=item.decimals if item else 3,
            )
        )
    return found


def _by_sku(skus: list[str]) -> dict[str, Item]:
    wanted = [sku.strip() for sku in skus]
    return {item.sku: item for item in Item.objects.filter(sku__in=wanted, active=True)}


def take_event(connection: Connection, body: dict[str, Any]) -> InboundMessage | None:
    """Keep the order in a verified webhook; None when there is nothing new in it."""
    if Can.WEBHOOKS not in kind_of(connection).can:
        raise NonsenseError("This kind of connection sends no webhooks.")
    order = connector_for(connection).read_event(body)
    return keep(connection, order, "webhook") if order else None


@transaction.atomic
def try_again(message: InboundMessage) -> str:
    """Apply a snagged message once more, with what has been put right since."""
    connection = message.connection
    order = RemoteOrder.model_validate(message.body)
    existing = connection.orders.select_for_update().filter(external_id=order.external_id).first()
    if existing and existing.kind == "order" and existing.state == "held" and existing.external_version == order.version:
        existing.external_version = order.version - 1
        existing.save(update_fields=["external_version"])
    message.state = InboundMessage.State.NEW
    message.save(update_fields=["state"])
    return apply(message.pk)
