"""Canonical messages: what every connector translates its account's words into."""

from __future__ import annotations

from decimal import Decimal
from typing import Any, Literal

from pydantic import AwareDatetime, BaseModel, ConfigDict, Field

# Beyond this nothing is a quantity or an amount of an order.
MOST = Decimal(10) ** 12


class Message(BaseModel):
    """Frozen; checks the fields it knows and ignores the others."""

    model_config = ConfigDict(frozen=True, extra="ignore")


class Identity(Message):
    """Who answered, and what the token may do."""

    name: str
    scopes: list[str]
    missing: list[str] = Field(default_factory=list)


class RemoteListing(Message):
    """One thing the channel shows for sale."""

    external_id: str = Field(min_length=1, max_length=80)
    group_id: str = ""
    sku: str = ""
    barcode: str = ""
    title: str = Field(min_length=1, max_length=200)
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
    quantity: Decimal = Field(Decimal(1), gt=-MOST, lt=MOST)
    amount: Decimal = Field(gt=-MOST, lt=MOST)
    tax_percent: Decimal = Field(Decimal(0), ge=0, le=100)


class RemoteOrder(Message):
    """One version of an order, or one till sale."""

    external_id: str = Field(min_length=1, max_length=80)
    number: str = Field(max_length=60)
    version: int = Field(ge=0, lt=2**62)
    status: str = Field(max_length=40)
    paid: bool = True
    placed_at: AwareDatetime
    currency: str = Field("EUR", max_length=3)
    total: Decimal = Field(gt=-MOST, lt=MOST)
    customer: dict[str, Any] = Field(default_factory=dict)
    ship_to: dict[str, Any] = Field(default_factory=dict)
    lines: list[RemoteLine] = Field(max_length=5000)


class Unreadable(Message):
    """One thing on a page that cannot be read: kept as it came, so that the rest of the page goes on."""

    external_id: str = ""
    number: str = ""
    detail: str
    field: str = ""
    body: dict[str, Any]


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
