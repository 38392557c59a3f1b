"""Wire types of the replenishment sheet."""

from __future__ import annotations

from datetime import date

from ninja import Schema

from yuvrel.kit.wire import Money, Quantity, UnitCost


class ArrivalOut(Schema):
    """Units due in so many days."""

    day: int
    units: Quantity


class RibbonOut(Schema):
    """What the cover ribbon draws, in days from today."""

    solid_until: float
    sure_until: float
    lead: int
    late: bool
    arrivals: list[ArrivalOut]


class ReplenishRow(Schema):
    """One item at one location."""

    item_id: int
    location_id: int
    sku: str
    title: str
    category: str
    location: str
    supplier_id: int | None
    on_hand: Quantity
    committed: Quantity
    backordered: Quantity
    incoming: Quantity
    per_day: Quantity
    days_out: int
    lead_days: int
    cover: Quantity | None
    suggested: Quantity
    pack: Quantity
    price: UnitCost
    amount: Money
    amount_base: Money
    ribbon: RibbonOut


class SupplierGroup(Schema):
    """What a supplier's rows have in common."""

    id: int
    name: str
    currency: str
    rate: UnitCost
    lead_days: int
    order_minimum: Money


class PlaceOut(Schema):
    """A location that has rows."""

    id: int
    name: str


class ReplenishSheet(Schema):
    """The sheet without its rows."""

    today: date
    suppliers: list[SupplierGroup]
    locations: list[PlaceOut]
    currency: str
    late: int
    late_amount: Money


class ReplenishPage(Schema):
    """A page of its rows."""

    rows: list[ReplenishRow]
    next: str


class WeekOut(Schema):
    """A week's units and the share of it in stock."""

    units: float
    in_stock: float


class HistoryOut(Schema):
    """Weekly demand of an item at a location."""

    start: date
    weeks: list[WeekOut]
