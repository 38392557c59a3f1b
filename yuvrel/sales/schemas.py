"""Wire types of orders."""

from __future__ import annotations

from datetime import date, datetime
from decimal import Decimal
from typing import Annotated, Any

from ninja import Schema
from pydantic import Field

from yuvrel.books.models import LedgerDocument
from yuvrel.documents.schemas import MomentOut
from yuvrel.platform.wire import Id, Money, Quantity, QuantityIn, SheetRow, UnitCost, words

from .models import OrderLine, Payment, SalesOrder
from .return_schemas import CreditOut, ReturnShort


class OrderRow(SheetRow):
    """An order on the sheet of all channels."""

    id: int
    number: str
    kind: Annotated[str, words(SalesOrder.Kind)]
    channel: str
    customer: str
    location: str
    handled_by: str
    placed_at: datetime
    state: Annotated[str, words(SalesOrder.State)]
    held_because: str
    units: Quantity
    backordered: Quantity
    promised_on: date | None
    send_by: date | None
    due: str
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
    kind: Annotated[str, words(OrderLine.Kind)]
    item_id: int | None
    picture: int | None
    sku: str
    title: str
    quantity: Quantity
    net: Money
    tax: Money
    gross: Money
    tax_percent: Quantity
    shipped: Quantity
    returned: Quantity
    can_return: Quantity
    reserved: Quantity
    backordered: Quantity
    ready: Quantity
    past_zero: Quantity
    promised_on: date | None


class ShipmentOut(Schema):
    """A shipment with its invoice."""

    id: int
    number: str
    carrier: str
    tracking: str
    shipped_at: datetime
    told_channel_at: datetime | None
    is_told: bool
    cost: Money
    invoice_id: int
    invoice_total: Money
    ledger_state: Annotated[str, words(("none", *LedgerDocument.State))]


class PaymentOut(Schema):
    """How a part of an order is paid; `charged`: what shipments took of an authorised one, `told`: whether the channel
    knows of all of it."""

    id: int
    method: str
    state: Annotated[str, words(Payment.State)]
    amount: Money
    charged: Money
    told: bool
    account: str


class CustomerOrderOut(Schema):
    """An order of a customer."""

    id: int
    number: str
    channel: str
    state: Annotated[str, words(SalesOrder.State)]
    placed_at: datetime
    total: Money
    currency: str


class OrderOut(Schema):
    """Everything about an order."""

    id: int
    number: str
    external_number: str
    kind: Annotated[str, words(SalesOrder.Kind)]
    channel: str
    connection_id: int
    customer: str
    customer_id: int | None
    email: str
    ship_to: str
    location: str
    handled_by: str
    state: Annotated[str, words(SalesOrder.State)]
    held_because: str
    cancelled_because: str
    paid: bool
    placed_at: datetime
    send_by: date | None
    penalty: Money
    received_at: datetime
    currency: str
    total: Money
    stated_currency: str
    stated_total: Money | None
    rate: UnitCost
    lines: list[LineOut]
    if_cancelled: list[str]
    shipments: list[ShipmentOut]
    payments: list[PaymentOut]
    shipping_method: str
    carrier: str
    net: Money
    tax: Money
    charged: Money | None
    cost: Money | None
    fees: Money | None
    contribution: Money | None
    margin_percent: Decimal | None
    returns: list[ReturnShort]
    credits: list[CreditOut]
    customer_orders: int
    also_open: list[CustomerOrderOut]
    history: list[MomentOut]
    then: list[str]


class ShipIn(Schema):
    """What to ship; without quantities everything that is reserved."""

    quantities: dict[Id, QuantityIn] | None = None
    carrier: str = Field("", max_length=60)
    tracking: str = Field("", max_length=80)


class WhyIn(Schema):
    """Why an order is held or cancelled."""

    why: str = Field(max_length=300)


class CustomerRow(SheetRow):
    """A customer on the sheet; `orders`, `net` and `last_at` of 365 days."""

    id: int
    name: str
    email: str
    on_account: bool
    group: str
    price_list: str
    orders: int
    net: Money
    last_at: datetime | None


class CustomerPage(Schema):
    """A page of customers."""

    rows: list[CustomerRow]
    next: str


class NamedOut(Schema):
    """Something to choose by its name."""

    id: int
    name: str


class CustomerOut(Schema):
    """Everything about a customer."""

    id: int
    version: int
    name: str
    email: str
    on_account: bool
    note: str
    group_id: int | None
    price_list_id: int | None
    payment_days: int | None
    address: str
    street: str
    city: str
    postcode: str
    country: str
    from_channel: bool
    orders: list[CustomerOrderOut]
    groups: list[NamedOut]
    price_lists: list[NamedOut]


class CustomerIn(Schema):
    """A customer to be kept, or what to change of one; what is left out stays."""

    version: int = 0
    name: str | None = Field(None, max_length=160)
    email: str | None = Field(None, max_length=160)
    on_account: bool | None = None
    note: str | None = Field(None, max_length=500)
    group_id: Id | None = None
    price_list_id: Id | None = None
    payment_days: int | None = Field(None, ge=0, le=365)
    street: str | None = Field(None, max_length=160)
    city: str | None = Field(None, max_length=80)
    postcode: str | None = Field(None, max_length=20)
    country: str | None = Field(None, max_length=2)

    def facts(self) -> dict[str, Any]:
        """What was given; no group, no list and no terms are values of their own."""
        given = self.model_dump(exclude_unset=True, exclude={"version"})
        none = ("group_id", "price_list_id", "payment_days")
        return {name: value for name, value in given.items() if value is not None or name in none}


class TillCountRow(SheetRow):
    """What was counted of one way to pay when a till was closed, beside what should have been there: what lay there at the
    start and what was taken since the close before."""

    id: int
    count_id: int
    number: str
    till: str
    since_at: datetime
    closed_at: datetime
    method: str
    opening: Money
    taken: Money
    expected: Money
    counted: Money
    difference: Money


class TillCountPage(Schema):
    """A page of them."""

    rows: list[TillCountRow]
    next: str


class CustomerGroupOut(Schema):
    """A group of customers."""

    id: int
    name: str
    version: int
    price_list_id: int | None
    order_minimum: Quantity | None
    order_step: Quantity | None
    order_maximum: Quantity | None
    customers: int


class CustomerGroupIn(Schema):
    """A group to be kept."""

    version: int = 0
    name: str = Field(max_length=80)
    price_list_id: Id | None = None
    order_minimum: QuantityIn | None = None
    order_step: QuantityIn | None = None
    order_maximum: QuantityIn | None = None

    def facts(self) -> dict[str, Any]:
        """What was given; no list and no limit are values of their own."""
        return self.model_dump(exclude_unset=True, exclude={"version"})


class AskedPrice(SheetRow):
    """What a customer is asked for an item, and which list says so."""

    item_id: int
    title: str
    sku: str
    price: Money | None
    previous: Money | None
    price_list: str
    taxed: bool
