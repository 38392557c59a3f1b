"""What the other ends hold beyond a backup: asked one by one, compared with what is here."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, timedelta
from typing import Any

from django.db import transaction

from yuvrel.books.models import LedgerDocument
from yuvrel.buying.models import PurchaseOrder
from yuvrel.channels import inbound
from yuvrel.channels.credentials import connector_as, kind_of
from yuvrel.channels.models import Connection
from yuvrel.channels.quarantine import ends_the_run, set_aside
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
        look = next((look for capability, look in LOOKS.items() if capability in can), None)
        if look is None:
            continue
        try:
            said.append((connection.name, look(recovery, connection, at)))
        except Exception as error:
            if ends_the_run(error):
                raise
            # What nobody foresaw in one account keeps no other from being asked.
            known = isinstance(error, ConnectorError | YuvrelError)
            told = error if known else set_aside(error, f"asking {connection.name}")
            silent.append(connection.name)
            said.append((connection.name, f"could not be asked: {told}"))
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
    seen, told = 0, list[tuple[str, RemoteParcel]]()
    for page in pages(lambda cursor: connector.orders(since(recovery).isoformat(), cursor)):
        for order in (inbound.read_order(connector, raw, at) for raw in page.rows):
            if isinstance(order, RemoteOrder):
                seen += 1
                told += [(order.external_id, parcel) for parcel in order.parcels if parcel.key.startswith(KEY)]
    numbers = [parcel.key.removeprefix(KEY) for _, parcel in told]
    ours = Shipment.objects.filter(order__connection=connection, number__in=numbers)
    here = set(ours.values_list("order__external_id", "number"))
    found = [
        (parcel.key, f"Shipment {number}", _way(parcel), {"order": order, "number": number, **parcel.model_dump(mode="json")})
        for (order, parcel), number in zip(told, numbers, strict=True)
        if (order, number) not in here
    ]
    left = keep(recovery, connection, FoundThere.Kind.PARCEL, found)
    return f"{seen} orders since then looked at; shipments there that are not here: {left}"


def _way(parcel: RemoteParcel) -> str:
    by = " ".join(word for word in (parcel.carrier, parcel.tracking) if word)
    units = sum((quantity for _, quantity in parcel.lines), ZERO)
    return f"left {parcel.at:%d %b, %H:%M}{f' with {by}' if by else ''}, {units.normalize():f} units"


def _purchases(recovery: Recovery, connection: Connection, at: datetime) -> str:
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
    return f"orders of ours there: {len(rows)}; not here: {left}"


def _documents(recovery: Recovery, connection: Connection, at: datetime) -> str:
    rows = [row for row in connector_as(connection, Documents).documents_there() if row.ours]
    here = set(LedgerDocument.objects.values_list("number", flat=True))
    found = []
    for row in rows:
        if row.number not in here:
            amount = sum(amount for _, amount in row.lines if amount > 0)
            said = f"{row.kind} of {row.day:%d %b}, {amount:,.2f}: {row.memo or row.contact or 'no memo'}"
            found.append((row.number, f"Document {row.number}", said, row.model_dump(mode="json")))
    left = keep(recovery, connection, FoundThere.Kind.DOCUMENT, found)
    return f"documents of ours there: {len(rows)}; not here: {left}"


LOOKS = {Capability.ORDERS: _orders, Capability.PURCHASES: _purchases, Capability.DOCUMENTS: _documents}
