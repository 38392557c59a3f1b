"""Wire types of orders."""

from __future__ import annotations

from datetime import datetime
from decimal import Decimal

from ninja import Schema
from pydantic import Field

from yuvrel.kit.wire import Id, Money, Quantity, QuantityIn, SheetRow


class OrderRow(SheetRow):
    """An order on the sheet of all channels."""

    id: int
    number: str
    kind: str
    channel: str
    customer: str
    location: str
    placed_at: datetime
    state: str
    held_because: str
    units: Quantity
    backordered: Quantity
    total: Money
    currency: str
    margin_percent: Decimal | None


class OrderPage(Schema):
    """A page of orders and how many stand in each state.

    `total`: of all that the filter finds, with tax; on the first page only, and not of more than 5,000.
    """

    rows: list[OrderRow]
    next: str
    counts: dict[str, int]
    total: Money | None


class LineOut(SheetRow):
    """A line of an order."""

    id: int
    kind: str
    item_id: int | None
    sku: str
    title: str
    quantity: Quantity
    net: Money
    tax: Money
    gross: Money
    tax_percent: Quantity
    shipped: Quantity
    reserved: Quantity
    backordered: Quantity
    ready: Quantity


class ShipmentOut(Schema):
    """A shipment with its invoice."""

    id: int
    number: str
    carrier: str
    tracking: str
    shipped_at: datetime
    told_channel_at: datetime | None
    cost: Money
    invoice_total: Money
    ledger_state: str


class OrderOut(Schema):
    """Everything about an order."""

    id: int
    number: str
    external_number: str
    kind: str
    channel: str
    connection_id: int
    customer: str
    email: str
    ship_to: str
    location: str
    state: str
    held_because: str
    paid: bool
    placed_at: datetime
    received_at: datetime
    currency: str
    total: Money
    lines: list[LineOut]
    shipments: list[ShipmentOut]
    contribution: Money | None
    margin_percent: Decimal | None


class ShipIn(Schema):
    """What to ship; without quantities everything that is reserved."""

    quantities: dict[Id, QuantityIn] | None = None
    carrier: str = Field("", max_length=60)
    tracking: str = Field("", max_length=80)


class HoldIn(Schema):
    """Why an order is held."""

    why: str = Field(max_length=300)
