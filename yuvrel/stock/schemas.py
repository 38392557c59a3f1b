"""Wire types of the shelf."""

from __future__ import annotations

from datetime import date, datetime

from ninja import Schema
from pydantic import Field

from yuvrel.kit.wire import Id, Money, Quantity, QuantityIn, SheetRow, UnitCost


class StockRow(SheetRow):
    """An item at a location, with what it is worth there."""

    id: int
    item_id: int
    picture: int | None
    sku: str
    title: str
    category: str
    location_id: int
    location: str
    on_hand: Quantity
    committed: Quantity
    available: Quantity
    backordered: Quantity
    incoming: Quantity
    value: Money
    expires_on: date | None


class StockPage(Schema):
    """A page of the shelf; the first has the totals of everything the filter matches."""

    rows: list[StockRow]
    next: str
    total_rows: int | None = None
    total_value: Money | None = None


class MoveRow(SheetRow):
    """A stock move."""

    id: int
    happened_at: datetime
    recorded_at: datetime
    item_id: int
    sku: str
    title: str
    location: str
    lot: str
    quantity: Quantity
    value: Money
    reason: str
    document: str
    link: str
    note: str


class MovePage(Schema):
    """A page of moves, newest first."""

    rows: list[MoveRow]
    next: str


class AdjustIn(Schema):
    """Put stock right: a signed change, or what was counted."""

    item_id: Id
    location_id: Id
    reason: str
    change: QuantityIn | None = None
    counted: QuantityIn | None = None
    note: str = Field("", max_length=200)


class OpeningFault(Schema):
    """What is wrong with one value of the file."""

    line: int
    column: str
    value: str
    reason: str


class OpeningLine(Schema):
    """A row that can be taken in."""

    line: int
    sku: str
    location: str
    quantity: Quantity
    unit_cost: UnitCost
    value: Money


class OpeningCheck(Schema):
    """What taking the file in would do; nothing is taken in yet. `rows` and `faults` are the first of them,
    `good` and `bad` how many lines there are of each, `value` that of all good ones."""

    good: int
    bad: int
    rows: list[OpeningLine]
    faults: list[OpeningFault]
    value: Money
    token: str
