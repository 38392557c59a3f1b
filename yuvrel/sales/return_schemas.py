"""Wire types of returns and credit notes."""

from __future__ import annotations

from datetime import datetime
from decimal import Decimal
from typing import Annotated, Literal

from ninja import Schema
from pydantic import Field

from yuvrel.books.models import LedgerDocument
from yuvrel.books.schemas import EntryOut
from yuvrel.documents.schemas import MomentOut
from yuvrel.platform.wire import Id, Money, MoneyIn, Quantity, QuantityIn, SheetRow, words

from .models import OrderLine, Return

Reason = Literal["unwanted", "does not fit", "faulty", "damaged on the way", "wrong item", "came too late", "other"]


class ReturnRow(SheetRow):
    """A return on the sheet. `left`: units still to come; `credited`: given back for it, with tax."""

    id: int
    number: str
    state: Annotated[str, words(Return.State)]
    order_id: int
    order: str
    channel: str
    customer: str
    location: str
    reasons: str
    units: Quantity
    left: Quantity
    credited: Money
    made_at: datetime


class ReturnPage(Schema):
    """A page of returns."""

    rows: list[ReturnRow]
    next: str


class ReturnLineOut(SheetRow):
    """So many of an order line that come back. `value`: of what came, at the cost at which it left."""

    id: int
    order_line_id: int
    item_id: int | None
    picture: int | None
    sku: str
    title: str
    reason: str
    quantity: Quantity
    restocked: Quantity
    repair: Quantity
    written_off: Quantity
    left: Quantity
    value: Money


class CreditOut(Schema):
    """A credit note beside its order or return. `told`: whether the channel knows, where it is to pay back."""

    id: int
    number: str
    issued_at: datetime
    note: str
    total: Money
    fee: Money
    refunded: Money
    way: str
    told: bool
    ledger_state: Annotated[str, words(("none", *LedgerDocument.State))]


class ReturnShort(Schema):
    """A return beside its order."""

    id: int
    number: str
    state: Annotated[str, words(Return.State)]
    made_at: datetime
    units: Quantity
    left: Quantity


class ReturnOut(Schema):
    """A return with its lines."""

    id: int
    version: int
    number: str
    state: Annotated[str, words(Return.State)]
    order_id: int
    order: str
    channel: str
    customer: str
    location: str
    note: str
    made_at: datetime
    lines: list[ReturnLineOut]
    value: Money
    credits: list[CreditOut]
    to_credit: bool
    entries: list[EntryOut]
    history: list[MomentOut]


class ComingIn(Schema):
    """So many of an order line, and why they come back."""

    line_id: Id
    quantity: QuantityIn
    reason: Reason = "other"


class ReturnIn(Schema):
    """Goods of an order that are to come back."""

    lines: list[ComingIn] = Field(max_length=200)
    note: str = Field("", max_length=300)


class FoundIn(Schema):
    """What became of units of one line that came back."""

    line_id: Id
    restock: QuantityIn = Field(default=Decimal(0))
    repair: QuantityIn = Field(default=Decimal(0))
    write_off: QuantityIn = Field(default=Decimal(0))


class InspectIn(Schema):
    """What came back, line by line."""

    version: int
    lines: list[FoundIn] = Field(max_length=200)


class CreditableLine(Schema):
    """What of an order line can be credited: units, and an amount with tax. `units`: proposed, as they are on a return and
    not credited yet; of a service or a charge none."""

    line_id: int
    kind: Annotated[str, words(OrderLine.Kind)]
    item_id: int | None
    picture: int | None
    sku: str
    title: str
    units_left: Quantity
    gross_left: Money
    units: Quantity


class CreditableOut(Schema):
    """What of an order can be credited. `channel_pays`: whether the channel can be asked to pay it back."""

    order_id: int
    order: str
    channel: str
    customer: str
    back_id: int | None
    back: str
    currency: str
    owed: Money
    channel_pays: bool
    lines: list[CreditableLine]


class CreditLineIn(Schema):
    """What of a line is credited; without an amount what the units were sold at."""

    line_id: Id
    quantity: QuantityIn = Field(default=Decimal(0))
    gross: MoneyIn | None = None


class CreditTrialIn(Schema):
    """A credit note that is thought of."""

    lines: list[CreditLineIn] = Field(max_length=200)
    fee: MoneyIn = Field(default=Decimal(0))


class CreditIn(CreditTrialIn):
    """A credit note to be written."""

    note: str = Field("", max_length=300)
    back_id: Id | None = None
    tell_channel: bool = False


class CreditPartOut(Schema):
    """What of a line it would give back, with tax."""

    line_id: int
    quantity: Quantity
    gross: Money


class CreditTrialOut(Schema):
    """What it would say. `owed`: set off against what the customer owes; `refunded`: goes back to who paid."""

    lines: list[CreditPartOut]
    net: Money
    tax: Money
    fee: Money
    total: Money
    owed: Money
    refunded: Money
