"""Wire types of the shelf."""

from __future__ import annotations

from datetime import date, datetime
from typing import Annotated, Literal

from ninja import Schema
from pydantic import Field

from yuvrel.books.schemas import EntryOut
from yuvrel.documents.schemas import MomentOut
from yuvrel.platform.wire import DayIn, Id, Money, Quantity, QuantityIn, SheetRow, UnitCost, words

from .models import Transfer

ItemState = Literal["active", "internal", "retired"]
ListedAs = Literal[
    "", "yes", "no", "held", "drifting", "hidden", "unpaired", "clashing", "ignored", "prepared", "lacking", "refused"
]


class ItemsFound(Schema):
    """The filters of the range sheet."""

    q: str = Field("", max_length=200)
    kind: str = Field("", max_length=20)
    state: ItemState = "active"
    listed: ListedAs = ""
    connection: Id | None = None


class ManyIn(Schema):
    """One thing about many items: these, or where none is named all that are found; empty clears it. `kind`: the sheet
    that knows it; `beside`: the place or connection it is for."""

    ids: list[Id] = Field(default_factory=list, max_length=5000)
    found: ItemsFound = ItemsFound()  # type: ignore[call-arg]
    column: str = Field(max_length=40)
    text: str = Field("", max_length=4000)
    kind: str = Field("items", max_length=30)
    beside: str = Field("", max_length=80)


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


class TransferRow(SheetRow):
    """A transfer in the sheet; `units` and `left` add up all its lines."""

    id: int
    number: str
    source: str
    destination: str
    state: Annotated[str, words(Transfer.State)]
    lines: int
    units: Quantity
    left: Quantity
    made_at: datetime
    expected_on: date
    late: bool


class TransferPage(Schema):
    """A page of transfers, newest first."""

    rows: list[TransferRow]
    next: str


class TransferLineOut(SheetRow):
    """One item of a transfer. `free`: what the source has that is promised to nobody else; `reserved`: what of it is kept
    for this one."""

    id: int
    item_id: int
    sku: str
    title: str
    picture: int | None = None
    quantity: Quantity
    received: Quantity
    returned: Quantity
    lost: Quantity
    left: Quantity
    free: Quantity
    reserved: Quantity
    value: Money


class TransferOut(Schema):
    """A transfer with its lines, what it is worth on the way, and what happened to it."""

    id: int
    number: str
    state: Annotated[str, words(Transfer.State)]
    source_id: int
    source: str
    destination_id: int
    destination: str
    note: str
    made_at: datetime
    sent_at: datetime | None
    expected_on: date
    late: bool
    version: int
    lines: list[TransferLineOut]
    value: Money
    said: str = ""
    entries: list[EntryOut]
    history: list[MomentOut]


class LoadIn(Schema):
    """So many of an item."""

    item_id: Id
    quantity: QuantityIn


class TransferIn(Schema):
    """A new transfer."""

    source_id: Id
    destination_id: Id
    expected_on: DayIn
    note: str = Field("", max_length=200)
    lines: list[LoadIn] = Field(default_factory=list, max_length=500)


class NewLoadIn(LoadIn):
    """An item more on a draft."""

    version: int


class LineUnitsIn(Schema):
    """Units of a line."""

    line_id: Id
    quantity: QuantityIn


class TransferChangeIn(Schema):
    """What is to be different on a draft."""

    version: int
    lines: list[LineUnitsIn] = Field(default_factory=list, max_length=500)
    expected_on: DayIn | None = None
    note: str | None = Field(None, max_length=200)


class TransferArrivedIn(Schema):
    """What arrived of each line."""

    lines: list[LineUnitsIn] = Field(max_length=500)


class TransferLostIn(Schema):
    """What will not arrive of each line, and why."""

    version: int
    reason: str = Field(max_length=20)
    lines: list[LineUnitsIn] = Field(max_length=500)
