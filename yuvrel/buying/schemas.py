"""Wire types of buying."""

from __future__ import annotations

from datetime import date, datetime
from decimal import Decimal
from typing import Annotated, Any

from ninja import Schema
from pydantic import Field

from yuvrel.documents.schemas import MomentOut
from yuvrel.platform.wire import DayIn, Id, Money, MoneyIn, Quantity, QuantityIn, SheetRow, UnitCost, UnitCostIn, words

from .models import PurchaseOrder


class PurchaseRow(SheetRow):
    """A purchase order on the sheet."""

    id: int
    number: str
    supplier: str
    location: str
    state: Annotated[str, words(PurchaseOrder.State)]
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


class PurchaseLineOut(SheetRow):
    """A line of a purchase order."""

    id: int
    item_id: int
    sku: str
    title: str
    picture: int | None
    supplier_code: str
    quantity: Quantity
    price: UnitCost
    amount: Money
    received: Quantity
    confirmed: Quantity | None
    expiry_tracked: bool
    expires_about: date | None
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


class AlsoOpenOut(Schema):
    """Another order at the same supplier that is not done with."""

    id: int
    number: str
    state: Annotated[str, words(PurchaseOrder.State)]
    location: str
    expected_on: date


class PurchaseOut(Schema):
    """Everything about a purchase order. `rate`: units of its currency for one of the company's today, where one is known;
    `came`: what has arrived, at the order's prices; `to_come`: what has not, and `in_base` at that rate."""

    id: int
    number: str
    supplier: str
    supplier_id: int
    supplier_email: str
    lead_days: int
    also_open: list[AlsoOpenOut]
    rate: UnitCost | None
    came: Money | None
    to_come: Money | None
    in_base: Money | None
    location: str
    state: Annotated[str, words(PurchaseOrder.State)]
    currency: str
    total: Money | None
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
    history: list[MomentOut]


class PurchaseLineIn(Schema):
    """New quantity and price of a draft's line; zero takes it off."""

    id: Id
    quantity: QuantityIn
    price: UnitCostIn


class PurchaseIn(Schema):
    """A draft as edited; the version guards against a stale edit."""

    version: int
    lines: list[PurchaseLineIn] = Field(default_factory=list, max_length=1000)
    expected_on: DayIn | None = None


class NewLineIn(Schema):
    """A line more of a draft: an item that exists, or a new one by title, SKU and retail price with tax; without a price
    the supplier's own."""

    version: int
    item_id: Id | None = None
    title: str = Field("", max_length=160)
    sku: str = Field("", max_length=60)
    retail: MoneyIn = Decimal(0)
    quantity: QuantityIn
    price: UnitCostIn | None = None
    code: str = Field("", max_length=60)


class ArrivedIn(Schema):
    """What arrived of a line."""

    line_id: Id
    quantity: QuantityIn
    lot: str = Field("", max_length=40)
    expires_on: DayIn | None = None


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


class DraftedTransfer(Schema):
    """A transfer that was made."""

    id: int
    number: str


class Drafted(Schema):
    """The drafts that were made."""

    orders: list[PurchaseRow]
    transfers: list[DraftedTransfer]


class SupplierRow(SheetRow):
    """A supplier. `rate`: units of its currency for one of base currency today; None where none is known."""

    id: int
    code: str
    name: str
    currency: str
    rate: UnitCost | None
    lead_days: int
    lead_deviation_days: Quantity
    order_minimum: Money
    inbox: str
    email: str
    items: int
    open_orders: int


class SupplierPage(Schema):
    """A page of suppliers."""

    rows: list[SupplierRow]
    next: str


class Inbox(Schema):
    """A connection to a supplier's inbox."""

    id: int
    name: str


class PriceOut(Schema):
    """The unit price from a quantity on."""

    from_quantity: Quantity
    price: UnitCost


class TermsOut(Schema):
    """How a supplier sells an item; prices in its currency, the average cost in base currency."""

    id: int
    version: int
    item_id: int
    sku: str
    title: str
    code: str
    pack: Quantity
    minimum: Quantity
    preferred: bool
    prices: list[PriceOut]
    average_cost: UnitCost | None


class RateOut(Schema):
    """Units of a currency for one of base currency, from a day on."""

    day: date
    rate: UnitCost


class SupplierOut(Schema):
    """A supplier with everything it sells us."""

    id: int
    version: int
    code: str
    name: str
    currency: str
    base_currency: str
    rate: UnitCost | None
    rates: list[RateOut]
    lead_days: int
    lead_deviation_days: Quantity
    order_minimum: Money
    email: str
    inbox_id: int | None
    inbox: str
    terms: list[TermsOut]


class SupplierIn(Schema):
    """A supplier as typed; when one is changed, what is left out stays, and the version guards against a stale edit."""

    version: int = 0
    name: str = Field("", max_length=120)
    currency: str = Field("EUR", min_length=3, max_length=3)
    lead_days: int = Field(14, ge=0, le=32_000)
    lead_deviation_days: Annotated[Decimal, Field(max_digits=5, decimal_places=1)] = Decimal(0)
    order_minimum: MoneyIn = Decimal(0)
    email: str = Field("", max_length=160)
    inbox_id: Id | None = None

    def facts(self) -> dict[str, Any]:
        """What was given."""
        return self.model_dump(exclude_unset=True, exclude={"version"})


class PriceIn(Schema):
    """The unit price from a quantity on."""

    from_quantity: QuantityIn
    price: UnitCostIn


class TermsIn(Schema):
    """How a supplier sells an item; version 0 for one it did not sell yet."""

    version: int = 0
    code: str = Field("", max_length=60)
    pack: QuantityIn = Decimal(1)
    minimum: QuantityIn = Decimal(0)
    preferred: bool = False
    prices: list[PriceIn] = Field(max_length=50)


class RateIn(Schema):
    """What one of base currency is worth; today when no day is given."""

    currency: str = Field(min_length=3, max_length=3)
    rate: UnitCostIn
    day: DayIn | None = None
