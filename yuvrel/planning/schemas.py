"""Wire types of the replenishment sheet."""

from __future__ import annotations

from datetime import date, datetime
from typing import Annotated

from ninja import Schema

from yuvrel.platform.wire import Money, Quantity, SheetRow, UnitCost, words

from .models import ForecastRun


class ArrivalOut(Schema):
    """Units due in so many days."""

    day: int
    units: Quantity


class RibbonOut(Schema):
    """What the cover ribbon draws, in days from today."""

    solid_until: float
    sure_until: float
    lead: int
    late: bool
    arrivals: list[ArrivalOut]


class ReplenishRow(SheetRow):
    """One item at one location."""

    item_id: int
    picture: int | None
    location_id: int
    sku: str
    title: str
    category: str
    location: str
    supplier_id: int | None
    supplier: str
    source_id: int | None
    source: str
    ready: Quantity
    currency: str
    on_hand: Quantity
    committed: Quantity
    backordered: Quantity
    incoming: Quantity
    per_day: Quantity
    days_out: int
    lead_days: int
    cover: Quantity | None
    suggested: Quantity
    pack: Quantity
    price: UnitCost
    amount: Money
    amount_base: Money
    ribbon: RibbonOut


class SupplierGroup(Schema):
    """What a supplier's rows have in common."""

    id: int
    name: str
    currency: str
    rate: UnitCost
    lead_days: int
    order_minimum: Money


class PlaceOut(Schema):
    """A location that has rows."""

    id: int
    name: str


class ReplenishSheet(Schema):
    """The sheet without its rows."""

    today: date
    suppliers: list[SupplierGroup]
    sources: list[PlaceOut]
    locations: list[PlaceOut]
    currency: str
    late: int
    late_amount: Money


class ReplenishPage(Schema):
    """A page of its rows."""

    rows: list[ReplenishRow]
    next: str


class WeekOut(Schema):
    """A week's units and the share of it in stock."""

    units: float
    in_stock: float


class HistoryOut(Schema):
    """Weekly demand of an item at a location."""

    start: date
    weeks: list[WeekOut]


class ForecastRow(SheetRow):
    """What an item is expected to sell at a location; `error` is the MASE of the method on its own past.

    `past`: units of each of the last 52 weeks, null where nothing was in stock; `ahead`: those of the weeks to come.
    """

    item_id: int
    location_id: int
    sku: str
    title: str
    category: str
    location: str
    month: Quantity
    last_year: Quantity | None
    method: str
    why: str
    sentence: str
    error: float | None
    one_offs: int
    past: list[float | None]
    ahead: list[float]


class ForecastPage(Schema):
    """A page of forecasts."""

    rows: list[ForecastRow]
    next: str


class MethodOut(Schema):
    """A forecasting method, in words."""

    name: str
    words: str


class MethodCount(MethodOut):
    """How many items a method was chosen for."""

    n: int


class ForecastRunOut(Schema):
    """One pass over everything, and how far it has come."""

    state: Annotated[str, words(ForecastRun.State)]
    day: date
    total: int
    done: int
    said: str
    asked_by: str
    started_at: datetime
    ended_at: datetime | None


class ForecastHead(Schema):
    """How the forecasts stand: `closer` have a MASE below 1, of the `tested`."""

    n: int
    tested: int
    closer: int
    methods: list[MethodCount]
    locations: list[PlaceOut]
    run: ForecastRunOut | None


class TriedOut(Schema):
    """A method tried on the item's own past: MASE, mean error in the same unit, and its weight in the forecast, 0 to 1."""

    name: str
    words: str
    error: float
    bias: float
    weight: float
    chosen: bool


class ForecastWeek(Schema):
    """A week to come: its mean, and the 10 % and 90 % quantile."""

    start: date
    mean: float
    low: float
    high: float


class OneOffOut(Schema):
    """An order line far above the usual, or one somebody decided about."""

    line: int
    day: date
    units: float
    usual: float
    aside: bool
    by_hand: bool
    order: str


class SuggestionOut(Schema):
    """The figures that a policy moves."""

    quantity: Quantity
    demand: Quantity
    safety_stock: Quantity
    reorder_point: Quantity
    cover: Quantity | None
    days: int


class ForecastOut(Schema):
    """One item at one place: past, expectation, choice."""

    item_id: int
    location_id: int
    sku: str
    title: str
    location: str
    today: date
    past: HistoryOut
    weeks: list[ForecastWeek]
    sentence: str
    candidates: list[TriedOut]
    one_offs: list[OneOffOut]
    per_day: Quantity
    velocity: Quantity
    month: Quantity | None
    last_year: Quantity | None
    at: datetime | None
    suggestion: SuggestionOut


class ReorderShift(Schema):
    """A row of which something else would be ordered; amounts in the company's currency."""

    item_id: int
    location_id: int
    title: str
    sku: str
    location: str
    now: Quantity
    then: Quantity
    amount_now: Money
    amount_then: Money
    more: Money


class RehearsalOut(Schema):
    """What would be ordered now, and what with the change: of the row that was looked at, and of all it reaches.

    `rehearsed`: of those reached the ones worked out, which run out first.
    """

    now: SuggestionOut | None
    then: SuggestionOut | None
    reached: int
    rehearsed: int
    changing: int
    late_now: int
    late_then: int
    amount_now: Money
    amount_then: Money
    currency: str
    rows: list[ReorderShift]


class OneOffIn(Schema):
    """Whether an order line is left out of the demand."""

    aside: bool
