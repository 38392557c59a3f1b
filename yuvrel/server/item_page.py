"""What surrounds an item: who supplies it, what is on its way, who waits for it, what moved, who changed what."""

from __future__ import annotations

from datetime import date, datetime
from typing import Annotated, Any

from ninja import Schema

from yuvrel.buying.arrivals import Arrival, arrivals
from yuvrel.buying.models import SupplierItem
from yuvrel.catalogue.models import Item
from yuvrel.catalogue.queries import history
from yuvrel.catalogue.schemas import TraceOut
from yuvrel.core.errors import NotFoundError
from yuvrel.documents.registry import address
from yuvrel.people.models import Location
from yuvrel.platform.wire import Quantity, UnitCost, words
from yuvrel.sales.models import Reservation
from yuvrel.stock.holding import reserved_of
from yuvrel.stock.models import DocumentReservation, StockMove

MOST = 12


class ItemSupplierOut(Schema):
    """Who sells it to us, at what price of one."""

    supplier_id: int
    supplier: str
    code: str
    preferred: bool
    price: UnitCost | None
    currency: str
    pack: Quantity
    lead_days: int


class ComingOut(Schema):
    """What is on its way, and when it should be here."""

    link: str
    number: str
    source: str
    location: str
    units: Quantity
    expected_on: date
    late: bool


class WaitingOut(Schema):
    """A document that holds some of it: an order that has it reserved or waits for it, or another, for which it is
    reserved at a place. `of`: the order's channel, or that place."""

    link: str
    number: str
    of: str
    at: datetime
    units: Quantity
    state: Annotated[str, words(("reserved", "backordered"))]


class ItemMoveOut(Schema):
    """Units that came or went."""

    id: int
    happened_at: datetime
    location: str
    reason: str
    document: str
    link: str
    units: Quantity


class AroundOut(Schema):
    """Everything around an item."""

    suppliers: list[ItemSupplierOut]
    coming: list[ComingOut]
    waiting: list[WaitingOut]
    moves: list[ItemMoveOut]
    changes: list[TraceOut]


def around(item_id: int, today: date) -> dict[str, Any]:
    """What surrounds an item, the nearest of each, in a fixed number of queries. Raises NotFoundError."""
    item = Item.objects.filter(pk=item_id).first()
    if item is None:
        raise NotFoundError("There is no such item.")
    places = dict(Location.objects.values_list("pk", "name"))
    return {
        "suppliers": [_supplier(row) for row in _suppliers(item_id)],
        "coming": [_coming(row, places, today) for row in arrivals([item_id])[:MOST]],
        "waiting": [*map(_held, reserved_of(item_id)), *map(_waiting, _reserved(item_id))][:MOST],
        "moves": [_move(row) for row in _moves(item_id)],
        "changes": history(item.product_id, [item_id])[:MOST],
    }


def _suppliers(item_id: int) -> Any:
    rows = SupplierItem.objects.filter(item_id=item_id).select_related("supplier").prefetch_related("prices")
    return rows.order_by("-preferred", "supplier__name")


def _supplier(row: SupplierItem) -> dict[str, Any]:
    prices = sorted(row.prices.all(), key=lambda one: one.from_quantity)
    return {
        "supplier_id": row.supplier_id,
        "supplier": row.supplier.name,
        "code": row.code,
        "preferred": row.preferred,
        "price": prices[0].price if prices else None,
        "currency": row.supplier.currency,
        "pack": row.pack,
        "lead_days": row.supplier.lead_days,
    }


def _coming(row: Arrival, places: dict[int, str], today: date) -> dict[str, Any]:
    return {
        "link": address(row.kind, row.document_id),
        "number": row.number,
        "source": row.source,
        "location": places[row.location_id],
        "units": row.units,
        "expected_on": row.day,
        "late": row.day < today,
    }


def _reserved(item_id: int) -> Any:
    rows = Reservation.objects.filter(item_id=item_id, state__in=(Reservation.State.OPEN, Reservation.State.BACKORDER))
    return rows.select_related("line__order__connection").order_by("-state", "line__order__placed_at", "pk")[:MOST]


def _waiting(row: Reservation) -> dict[str, Any]:
    order = row.line.order
    return {
        "link": f"/orders/{order.pk}",
        "number": order.number,
        "of": order.connection.name,
        "at": order.placed_at,
        "units": row.quantity,
        "state": "reserved" if row.state == Reservation.State.OPEN else "backordered",
    }


def _held(row: DocumentReservation) -> dict[str, Any]:
    own = {"link": row.link, "number": row.document, "of": row.location.name, "at": row.made_at}
    return {**own, "units": row.quantity, "state": "reserved"}


def _moves(item_id: int) -> Any:
    return StockMove.objects.filter(item_id=item_id).select_related("location").order_by("-happened_at", "-pk")[:MOST]


def _move(row: StockMove) -> dict[str, Any]:
    told = {name: getattr(row, name) for name in ("happened_at", "reason", "document", "link")}
    return {"id": row.pk, "location": row.location.name, "units": row.quantity, **told}
