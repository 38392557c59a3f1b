"""What is on its way here: open purchase orders and transfers, read in one place by all who look ahead."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from datetime import date
from decimal import Decimal
from typing import NamedTuple

from django.db.models import F, QuerySet

from yuvrel.core.working import Step, Working
from yuvrel.documents.registry import address
from yuvrel.people.models import Location
from yuvrel.stock.models import StockBalance, Transfer, TransferLine

from .models import PurchaseLine, PurchaseOrder


class Arrival(NamedTuple):
    """Units of an item that are to come to a place on a day: on which document, and from whom."""

    item_id: int
    location_id: int
    day: date
    units: Decimal
    kind: str
    document_id: int
    number: str
    source: str


def _bought() -> QuerySet[PurchaseLine]:
    return PurchaseLine.objects.filter(order__state__in=PurchaseOrder.OPEN, quantity__gt=F("received"))


def _moved() -> QuerySet[TransferLine]:
    settled = F("received") + F("returned") + F("lost")
    return TransferLine.objects.filter(transfer__state__in=Transfer.OPEN, quantity__gt=settled)


def arrivals(
    items: Iterable[int] | None = None, places: Collection[int] | None = None, until: date | None = None
) -> list[Arrival]:
    """What is to come of `items` to `places` by a day, the next first; None: all of them. Two queries."""
    bought, moved = _bought(), _moved()
    if items is not None:
        wanted = list(items)
        bought, moved = bought.filter(item_id__in=wanted), moved.filter(item_id__in=wanted)
    if places is not None:
        bought = bought.filter(order__location_id__in=places)
        moved = moved.filter(transfer__destination_id__in=places)
    if until is not None:
        bought, moved = bought.filter(order__expected_on__lte=until), moved.filter(transfer__expected_on__lte=until)
    found = [
        Arrival(item, place, day, ordered - received, "purchase order", order, number, supplier)
        for item, place, day, ordered, received, order, number, supplier in bought.values_list(
            "item_id",
            "order__location_id",
            "order__expected_on",
            "quantity",
            "received",
            "order_id",
            "order__number",
            "order__supplier__name",
        )
    ]
    found += [
        Arrival(item, place, day, sent - received - returned - lost, "transfer", transfer, number, source)
        for item, place, day, sent, received, returned, lost, transfer, number, source in moved.values_list(
            "item_id",
            "transfer__destination_id",
            "transfer__expected_on",
            "quantity",
            "received",
            "returned",
            "lost",
            "transfer_id",
            "transfer__number",
            "transfer__source__name",
        )
    ]
    return sorted(found, key=lambda one: (one.day, one.kind, one.document_id, one.item_id))


def incoming_working(item_id: int, location_id: int) -> Working:
    """Incoming as the sum of what is still to come on purchase orders and transfers."""
    rows = arrivals([item_id], [location_id])
    steps = [
        Step(row.number, row.units, f"{row.source}, due {row.day:%d %b %Y}", op="+", link=address(row.kind, row.document_id))
        for row in rows
    ]
    balance = StockBalance.objects.select_related("item").filter(item_id=item_id, location_id=location_id).first()
    steps.append(Step("Incoming", sum((row.units for row in rows), Decimal(0)), kind="result"))
    place = Location.objects.filter(pk=location_id).first()
    subject = f"{balance.item.title} · {place.name}" if balance and place else ""
    return Working("What is on the way?", subject, tuple(steps))
