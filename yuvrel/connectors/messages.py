"""Canonical messages: what every connector translates its far end's words into."""

from __future__ import annotations

from datetime import datetime
from decimal import Decimal
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field


class Message(BaseModel):
    """Frozen, strict about what it knows, deaf to what it does not."""

    model_config = ConfigDict(frozen=True, extra="ignore")


class Identity(Message):
    """Who answered, and what the token may do."""

    name: str
    scopes: list[str]
    missing: list[str] = Field(default_factory=list)


class RemoteListing(Message):
    """One thing the channel shows for sale."""

    external_id: str
    group_id: str = ""
    sku: str = ""
    barcode: str = ""
    title: str = Field(max_length=200)
    product_title: str = ""
    options: dict[str, str] = Field(default_factory=dict)
    category: str = ""
    price: Decimal | None = None
    quantity: Decimal | None = None
    service: bool = False
    weight_grams: int = 0


class RemoteLine(Message):
    """A line of an order; the amount includes tax and is negative for a discount."""

    external_id: str = ""
    kind: Literal["item", "service", "shipping", "discount", "surcharge"]
    listing_id: str = ""
    sku: str = Field("", max_length=60)
    title: str = Field(max_length=200)
    quantity: Decimal = Decimal(1)
    amount: Decimal
    tax_percent: Decimal = Decimal(0)


class RemoteOrder(Message):
    """One version of an order, or one till sale."""

    external_id: str = Field(max_length=80)
    number: str = Field(max_length=60)
    version: int
    status: str
    paid: bool = True
    placed_at: datetime
    currency: str = "EUR"
    total: Decimal
    customer: dict[str, Any] = Field(default_factory=dict)
    ship_to: dict[str, Any] = Field(default_factory=dict)
    lines: list[RemoteLine]


class Page(Message):
    """One page of anything; `cursor` is empty on the last."""

    rows: list[Any]
    cursor: str = ""


class QuantityPush(Message):
    """Show this many."""

    external_id: str
    quantity: Decimal


class PushResult(Message):
    """What the channel said of one line of a push."""

    external_id: str
    ok: bool
    error: str = ""


class ShipmentNotice(Message):
    """What left, for the channel to tell the customer."""

    order_id: str
    key: str
    carrier: str
    tracking: str
    lines: list[tuple[str, Decimal]]
    complete: bool


class LedgerDoc(Message):
    """A document for the outside ledger: signed amounts by its own account codes."""

    number: str
    kind: str
    date: str
    contact: str = ""
    memo: str = ""
    lines: list[tuple[str, Decimal]]
    details: list[dict[str, Any]] = Field(default_factory=list)


class SupplierAnswer(Message):
    """An order response: accepted, changed or refused, line by line."""

    order_number: str
    reference: str
    accepted: bool
    note: str = ""
    lines: dict[str, Decimal] = Field(default_factory=dict)
    expected_on: str = ""
