"""Wire types of the range."""

from __future__ import annotations

from datetime import datetime

from ninja import Schema

from yuvrel.kit.wire import Money, Quantity, SheetRow, UnitCost


class ItemRow(SheetRow):
    """One item of the range sheet."""

    id: int
    sku: str
    title: str
    category: str
    kind: str
    barcode: str
    price: Money
    average_cost: UnitCost | None
    on_hand: Quantity | None
    listings: int
    supplier: str


class ItemPage(Schema):
    """A page of items."""

    rows: list[ItemRow]
    next: str


class ComponentOut(Schema):
    """A part of a kit."""

    item_id: int
    sku: str
    title: str
    quantity: Quantity


class ListingBrief(Schema):
    """Where an item is shown."""

    id: int
    connection: str
    connection_id: int
    external_id: str
    shown: Quantity | None
    offered: Quantity | None
    state: str
    live: bool


class CostRow(Schema):
    """One change of an item's cost."""

    id: int
    at: datetime
    cause: str
    document: str
    link: str
    quantity: Quantity
    value: Money
    true_up: Money
    average_before: UnitCost
    average_after: UnitCost


class PlaceRow(Schema):
    """An item at a location."""

    location_id: int
    location: str
    on_hand: Quantity
    committed: Quantity
    available: Quantity
    backordered: Quantity
    incoming: Quantity


class ItemOut(Schema):
    """Everything about an item."""

    id: int
    sku: str
    title: str
    product: str
    category: str
    kind: str
    unit: str
    barcodes: list[str]
    price: Money
    expiry_tracked: bool
    average_cost: UnitCost | None
    last_cost: UnitCost | None
    value: Money | None
    places: list[PlaceRow]
    listings: list[ListingBrief]
    components: list[ComponentOut]
    costs: list[CostRow]
