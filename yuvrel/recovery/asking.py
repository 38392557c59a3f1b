"""What the other ends hold beyond a backup: asked one by one, compared with what is here."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import datetime, timedelta
from typing import Any

from django.db import transaction
from django.db.models import Q

from yuvrel.books.models import LedgerDocument
from yuvrel.buying.models import PurchaseOrder
from yuvrel.channels import inbound
from yuvrel.channels.credentials import connector_as, kind_of
from yuvrel.channels.models import Connection
from yuvrel.connectors.base import pages
from yuvrel.connectors.capabilities import Capability, Documents, Orders, Purchases
from yuvrel.connectors.http import ConnectorError
from yuvrel.connectors.messages import RemoteOrder, RemoteParcel
from yuvrel.core.errors import YuvrelError
from yuvrel.core.money import ZERO
from yuvrel.sales.models import Shipment

from .models import FoundThere, Recovery

# How much further back than the backup's end is looked: clocks differ, and what was under way then counts too.
BEFORE = timedelta(days=2)
KEY = "shipment-"


def ask(recovery: Recovery, at: datetime) -> None:
    """Ask every connection, keep what it holds that is not here, and forget what has come in by itself since. A connection
    that does not answer is named; the others go on."""
    said: list[tuple[str, str]] = []
    silent: list[str] = []
    for connection in Connection.objects.exclude(state=Connection.State.DISCONNECTED).order_by("pk"):
        can = kind_of(connection).can
        try:
            if Capability.ORDERS in can:
                said.append((connection.name, _orders(recovery, connection, at)))
            elif Capability.PURCHASES in can:
                said.append((connection.name, _purchases(recovery, connection)))
            elif Capability.DOCUMENTS in can:
                said.append((connection.name, _documents(recovery, connection)))
        except (ConnectorError, YuvrelError) as error:
            silent.append(connection.name)
            said.append((connection.name, f"could not be asked: {error}"))
    recovery.said, recovery.silent, recovery.asked_at, recovery.asking = said, silent, at, False
    recovery.save(update_fields=["said", "silent", "asked_at", "asking"])


def since(recovery: Recovery) -> datetime:
    """From when on other ends are asked."""
    return (recovery.epoch.data_until or recovery.epoch.begun_at) - BEFORE


@transaction.atomic
def keep(recovery: Recovery, connection: Connection, kind: str, rows: Iterable[tuple[str, str, str, dict[str, Any]]]) -> int:
    """Keep what was found of a kind (key, title, what it is, all of it); what is not found any more has come in. Returns how
    many are open."""
    found = {key: (title[:200], said[:400], body) for key, title, said, body in rows}
    mine = FoundThere.objects.filter(recovery=recovery, connection=connection, kind=kind)
    mine.filter(state=FoundThere.State.OPEN).exclude(key__in=found).delete()
    known = set(mine.values_list("key", flat=True))
    FoundThere.objects.bulk_create(
        FoundThere(recovery=recovery, connection=connection, kind=kind, key=key, title=title, said=said, body=body)
        for key, (title, said, body) in found.items()
        if key not in known
    )
    return mine.filter(state=FoundThere.State.OPEN).count()


def _orders(recovery: Recovery, connection: Connection, at: datetime) -> str:
    """Orders come in as always; parcels that left, which are not here, are found."""
    inbound.poll(connection)
    connector = connector_as(connection, Orders)
    seen = 0
    found = []
    for page in pages(lambda cursor: connector.orders(since(recovery).isoformat(), cursor)):
        for order in (inbound.read_order(connector, raw, at) for raw in page.rows):
            if isinstance(order, RemoteOrder):
                seen += 1
                found += list(_parcels(connection, order))
    left = keep(recovery, connection, FoundThere.Kind.PARCEL, found)
    return f"{seen} orders since then looked at, {left} that left are not shipped here"


def _parcels(connection: Connection, order: RemoteOrder) -> Iterator[tuple[str, str, str, dict[str, Any]]]:
    told = [parcel for parcel in order.parcels if parcel.key.startswith(KEY)]
    numbers = [parcel.key.removeprefix(KEY) for parcel in told]
    ours = Q(order__connection=connection, order__external_id=order.external_id, number__in=numbers)
    here = set(Shipment.objects.filter(ours).values_list("number", flat=True))
    for parcel, number in zip(told, numbers, strict=True):
        if number not in here:
            body = {"order": order.external_id, "number": number, **parcel.model_dump(mode="json")}
            yield parcel.key, f"Shipment {number}", _way(parcel), body


def _way(parcel: RemoteParcel) -> str:
    by = " ".join(word for word in (parcel.carrier, parcel.tracking) if word)
    units = sum((quantity for _, quantity in parcel.lines), ZERO)
    return f"left {parcel.at:%d %b, %H:%M}{f' with {by}' if by else ''}, {units.normalize():f} units"


def _purchases(recovery: Recovery, connection: Connection) -> str:
    rows = connector_as(connection, Purchases).orders_there()
    here = set(
        PurchaseOrder.objects.filter(number__in=[row.number for row in rows])
        .exclude(state="draft")
        .values_list("number", flat=True)
    )
    found = []
    for row in rows:
        if row.number not in here:
            amount = sum(line.quantity * line.price for line in row.lines)
            said = f"sent {row.at:%d %b, %H:%M}, {len(row.lines)} lines, {amount:,.2f} {row.currency}"
            found.append((row.number, f"Purchase order {row.number}", said, row.model_dump(mode="json")))
    left = keep(recovery, connection, FoundThere.Kind.PURCHASE, found)
    return f"holds {len(rows)} orders of ours, {left} are not here"


def _documents(recovery: Recovery, connection: Connection) -> str:
    rows = [row for row in connector_as(connection, Documents).documents_there() if row.ours]
    here = set(LedgerDocument.objects.values_list("number", flat=True))
    found = []
    for row in rows:
        if row.number not in here:
            amount = sum(amount for _, amount in row.lines if amount > 0)
            said = f"{row.kind} of {row.day:%d %b}, {amount:,.2f}: {row.memo or row.contact or 'no memo'}"
            found.append((row.number, f"Document {row.number}", said, row.model_dump(mode="json")))
    left = keep(recovery, connection, FoundThere.Kind.DOCUMENT, found)
    return f"holds {len(rows)} documents of ours, {left} are not here"
