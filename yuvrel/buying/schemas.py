"""Wire types of buying."""

from __future__ import annotations

from datetime import date, datetime

from ninja import Schema
from pydantic import Field

from yuvrel.kit.wire import Id, Money, Quantity, QuantityIn, UnitCost, UnitCostIn


class PurchaseRow(Schema):
    """A purchase order on the sheet."""

    id: int
    number: str
    supplier: str
    location: str
    state: str
    currency: str
    total: Money
    lines: int
    made_at: datetime
    expected_on: date
    late: bool


class PurchasePage(Schema):
    """A page of purchase orders."""

    rows: list[PurchaseRow]
    next: str


class PurchaseLineOut(Schema):
    """A line of a purchase order."""

    id: int
    item_id: int
    sku: str
    title: str
    supplier_code: str
    quantity: Quantity
    price: UnitCost
    amount: Money
    received: Quantity
    confirmed: Quantity | None
    expiry_tracked: bool
    pack: Quantity
    has_working: bool


class ReceiptOut(Schema):
    """A goods receipt."""

    id: int
    number: str
    received_at: datetime
    units: Quantity
    value: Money
    rate: UnitCost


class PurchaseOut(Schema):
    """Everything about a purchase order."""

    id: int
    number: str
    supplier: str
    location: str
    state: str
    currency: str
    total: Money
    order_minimum: Money
    made_at: datetime
    sent_at: datetime | None
    delivered_at: datetime | None
    acknowledged_at: datetime | None
    expected_on: date
    supplier_reference: str
    supplier_note: str
    has_inbox: bool
    version: int
    lines: list[PurchaseLineOut]
    receipts: list[ReceiptOut]


class PurchaseLineIn(Schema):
    """New quantity and price of a draft's line; zero takes it off."""

    id: Id
    quantity: QuantityIn
    price: UnitCostIn


class PurchaseIn(Schema):
    """A draft as edited; the version guards against a stale edit."""

    version: int
    lines: list[PurchaseLineIn] = Field(default_factory=list, max_length=1000)
    expected_on: date | None = None


class VersionIn(Schema):
    """The version the person was looking at."""

    version: int


class ArrivedIn(Schema):
    """What arrived of a line."""

    line_id: Id
    quantity: QuantityIn
    lot: str = Field("", max_length=40)
    expires_on: date | None = None


class ReceiveIn(Schema):
    """A delivery."""

    lines: list[ArrivedIn] = Field(max_length=1000)


class WantedIn(Schema):
    """A row picked on the replenishment sheet."""

    item_id: Id
    location_id: Id
    quantity: QuantityIn


class DraftIn(Schema):
    """Rows to order."""

    lines: list[WantedIn] = Field(max_length=2000)


class Drafted(Schema):
    """The drafts that were made."""

    orders: list[PurchaseRow]
