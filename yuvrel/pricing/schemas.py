"""Wire types of price lists."""

from __future__ import annotations

from datetime import date, datetime
from decimal import Decimal
from typing import Annotated, Any, Literal

from ninja import Schema
from pydantic import Field

from yuvrel.platform.wire import DayIn, Id, Money, MoneyIn, Quantity, QuantityIn, SheetRow, UnitCost

Method = Literal["typed", "derived", "margin", "markup"]
Ending = Literal["up", "nearest", "down"]
By = Literal["percent", "amount", "margin", "markup", "ending"]
Percent = Annotated[Decimal, Field(gt=-100, lt=100_000, decimal_places=2)]
Price = Annotated[Decimal, Field(ge=0, lt=10**7, decimal_places=2)]
Rate = Annotated[Decimal, Field(gt=0, lt=10**6, decimal_places=6)]
MOST_TYPED = 1000


class PriceListFacts(Schema):
    """What makes a list."""

    name: str = Field(max_length=80)
    currency: str = Field(max_length=3)
    taxed: bool
    method: Method
    parent_id: int | None
    percent: Quantity
    amount: Money
    rate: Quantity
    ending: Money | None
    rounding: Ending
    basis: Literal["average", "last"]
    starts_on: date | None
    ends_on: date | None
    note: str


class PriceListRow(SheetRow):
    """A list on the sheet: how its prices come about, who is given it, how many items it prices."""

    id: int
    name: str
    base: bool
    how: str
    currency: str
    taxed: bool
    given_to: list[str]
    typed: int
    priced: int
    below_floor: int
    margin: Quantity | None
    starts_on: date | None
    ends_on: date | None
    in_force: bool


class PriceChangeOut(Schema):
    """A change of prices in a list."""

    id: int
    what: str
    by: str
    at: datetime
    items: int
    starts_on: date | None
    ends_on: date | None
    undone_at: datetime | None
    undone_by: str


class ListChangeOut(PriceChangeOut):
    """A change of prices, and in which list."""

    list_id: int
    list: str


class PriceListSheet(Schema):
    """All lists, the base list first."""

    rows: list[PriceListRow]
    items: int
    changes: list[ListChangeOut]


class PlaceChoice(Schema):
    """A place, and the list it sells at."""

    id: int
    name: str
    list_id: int | None


class ListChoice(Schema):
    """A list to follow."""

    id: int
    name: str
    currency: str


class PriceListOut(PriceListFacts):
    """A list with what is around it."""

    id: int
    version: int
    base: bool
    how: str
    place_ids: list[int]
    given_to: list[str]
    may_follow: list[ListChoice]
    places: list[PlaceChoice]
    changes: list[PriceChangeOut]


class PriceListIn(Schema):
    """A list to be kept, or what to change of one; what is left out stays."""

    version: int = 0
    name: str | None = Field(None, max_length=80)
    currency: str | None = Field(None, min_length=3, max_length=3)
    taxed: bool | None = None
    method: Method | None = None
    parent_id: Id | None = None
    percent: Percent | None = None
    amount: MoneyIn | None = None
    rate: Rate | None = None
    ending: Price | None = None
    rounding: Ending | None = None
    basis: Literal["average", "last"] | None = None
    starts_on: DayIn | None = None
    ends_on: DayIn | None = None
    note: str | None = Field(None, max_length=500)
    place_ids: list[Id] | None = Field(None, max_length=200)

    def facts(self) -> dict[str, Any]:
        """What was given; no parent, no ending and no day are values of their own."""
        open_ones = {"parent_id", "ending", "starts_on", "ends_on"}
        given = self.model_dump(exclude_unset=True, exclude={"version"})
        return {name: value for name, value in given.items() if value is not None or name in open_ones}


class NewPriceListIn(PriceListIn):
    """A list to be."""

    name: str = Field(max_length=80)


class PriceRow(SheetRow):
    """An item in a list: its price of one, where that comes from, what it leaves."""

    item_id: int
    title: str
    sku: str
    category: str
    price: Money | None
    how: str
    source: str
    own: Money | None
    previous: Money | None
    ends_on: date | None
    breaks: int
    cost: UnitCost | None
    margin: Quantity | None
    below_floor: bool


class PricePage(Schema):
    """A page of prices."""

    rows: list[PriceRow]
    next: str


class TypedIn(Schema):
    """A price to be typed in; null takes away what is there."""

    item_id: Id
    price: Price | None
    from_quantity: Annotated[QuantityIn, Field(ge=0)] = Decimal(0)
    previous: Price | None = None
    starts_on: DayIn | None = None
    ends_on: DayIn | None = None


class TypedPricesIn(Schema):
    """Prices to be typed in, all or none."""

    prices: list[TypedIn] = Field(min_length=1, max_length=MOST_TYPED)


class PriceRuleIn(Schema):
    """A change of many prices: which items, by how much, and from when to when."""

    q: str = Field("", max_length=120)
    category: str = Field("", max_length=60)
    item_ids: list[Id] = Field(default_factory=list, max_length=5000)
    by: By
    value: Annotated[Decimal, Field(gt=-(10**7), lt=10**7, decimal_places=2)] = Decimal(0)
    ending: Price | None = None
    rounding: Ending = "up"
    starts_on: DayIn | None = None
    ends_on: DayIn | None = None


class PriceShiftOut(Schema):
    """What one price would become."""

    item_id: int
    title: str
    sku: str
    now: Money | None
    then: Money | None
    margin: Quantity | None
    below_floor: bool


class OtherListOut(Schema):
    """What a list that follows would do."""

    id: int
    name: str
    rising: int
    changing: int


class PriceRehearsalOut(Schema):
    """What a change would do; nothing is kept. Margin at the units that left in `pace_days`."""

    items: int
    rising: int
    falling: int
    gone: int
    new: int
    below_floor: int
    margin_gained: Money
    margin_lost: Money
    currency: str
    pace_days: int
    others: list[OtherListOut]
    rows: list[PriceShiftOut]


class UndoneOut(Schema):
    """What became of taking a change back."""

    said: str
    kept: int


class TypedPriceOut(Schema):
    """A price typed into a list for an item."""

    from_quantity: Quantity
    price: Money
    previous: Money | None
    starts_on: date | None
    ends_on: date | None


class AfterFeeOut(Schema):
    """What a price leaves, in per cent of the net, at a channel that keeps so many per cent of it."""

    name: str
    percent: Quantity
    margin: Quantity | None


class RungPriceOut(Schema):
    """One list's price of an item: what it is, how it comes about, what it leaves, and who sees it."""

    list_id: int
    name: str
    base: bool
    currency: str
    taxed: bool
    how: str
    source: str
    price: Money | None
    previous: Money | None
    ends_on: date | None
    margin: Quantity | None
    below_floor: bool
    given_to: list[str]
    after_fees: list[AfterFeeOut]
    breaks: list[TypedPriceOut]
    entries: list[TypedPriceOut]


class PriceHistoryOut(Schema):
    """A change of one of an item's prices; `name` is the list's."""

    name: str
    from_quantity: Quantity
    before: Money | None
    after: Money | None
    starts_on: date | None
    ends_on: date | None
    by: str
    at: datetime
    what: str


class ItemPricesOut(Schema):
    """An item's prices in every list."""

    item_id: int
    title: str
    cost: UnitCost | None
    tax_percent: Quantity
    floor: Quantity | None
    rungs: list[RungPriceOut]
    history: list[PriceHistoryOut]
