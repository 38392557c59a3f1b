"""Sheets as files: what a sheet's own route gives for a filter, all of it, laid out in the columns somebody chose."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal
from functools import cache, cached_property
from operator import itemgetter
from typing import Any, cast, get_args, get_origin, get_type_hints
from zoneinfo import ZoneInfo

from django.http import HttpRequest
from ninja import Schema
from pydantic import BaseModel, ConfigDict, PlainSerializer, ValidationError, create_model

from yuvrel.agreement import api as agreement
from yuvrel.books import api as books
from yuvrel.buying import api as buying
from yuvrel.channels import api as channels
from yuvrel.core.errors import BadInputError, NotFoundError
from yuvrel.core.sheets import Cell, Numeral
from yuvrel.core.working import plain
from yuvrel.people.queries import company_zone
from yuvrel.planning import api as planning
from yuvrel.planning import forecast_api as forecasts
from yuvrel.platform.faults import Columns
from yuvrel.platform.paging import long_pages
from yuvrel.pricing import api as pricing
from yuvrel.sales import api as sales
from yuvrel.sales import customers_api as customers
from yuvrel.sales import return_api as returns
from yuvrel.stock import api as stock
from yuvrel.stock import transfer_api as transfers

# Rows a query: enough that most sheets take one, few enough to hold at once. By column five times as many are.
AT_ONCE = 20_000
BY_COLUMN = 100_000
PAGING = ("request", "cursor", "limit")


@dataclass(frozen=True)
class Source:
    """A sheet: the route that gives its pages, and `inner`, the field of a row that holds rows of its own, where a
    file has one line for each of those. `spread` makes further values of a row, their names beginning with `prefix`.
    `by_column`: its rows are worked out so."""

    route: Callable[..., Any]
    page: type[Schema]
    inner: str = ""
    prefix: str = ""
    spread: Callable[[Any], dict[str, Any]] | None = None
    by_column: bool = False

    @cached_property
    def row(self) -> type[Schema]:
        """The type of a row."""
        found: type[Schema] = get_args(self.page.model_fields["rows"].annotation)[0]
        return found

    @cached_property
    def filters(self) -> type[BaseModel]:
        """What the sheet can be narrowed and sorted by, as its route declares it."""
        types = get_type_hints(self.route, include_extras=True)
        asked = {name: p for name, p in inspect.signature(self.route).parameters.items() if name not in PAGING}
        fields: dict[str, Any] = {name: (types[name], p.default) for name, p in asked.items()}
        return create_model("Filters", __config__=ConfigDict(extra="forbid"), **fields)

    @cached_property
    def fields(self) -> frozenset[str]:
        """Names of what a line of the file can hold: all that is one value."""
        names = {name for name, field in self.row.model_fields.items() if _is_one_value(field.annotation)}
        if self.inner:
            names |= set(get_args(self.row.model_fields[self.inner].annotation)[0].model_fields)
        return frozenset(names)

    def has(self, name: str) -> bool:
        """True when a line of the file can hold it."""
        return name in self.fields or (bool(self.prefix) and name.removeprefix(self.prefix).isdigit())


def _is_one_value(annotation: Any) -> bool:
    if get_origin(annotation) in (list, dict):
        return False
    return not (isinstance(annotation, type) and issubclass(annotation, BaseModel))


def _shown(row: Any) -> dict[str, Any]:
    """What each connection shows of an item."""
    return {f"shown_{cell.connection_id}": Numeral(plain(cell.shown)) for cell in row.cells if cell.shown is not None}


SHEETS: dict[str, Source] = {
    "items": Source(stock.list_items, stock.ItemPage, by_column=True),
    "transfers": Source(transfers.list_transfers, transfers.TransferPage),
    "prices": Source(pricing.prices, pricing.PricePage),
    "stock": Source(stock.list_stock, stock.StockPage, by_column=True),
    "moves": Source(stock.list_moves, stock.MovePage),
    "orders": Source(sales.list_orders, sales.OrderPage, by_column=True),
    "returns": Source(returns.list_returns, returns.ReturnPage),
    "customers": Source(customers.list_customers, customers.CustomerPage),
    "replenishment": Source(planning.list_replenishment, planning.ReplenishPage),
    "purchase_orders": Source(planning.list_orders, planning.PurchasePage),
    "suppliers": Source(buying.list_suppliers, buying.SupplierPage),
    "forecasts": Source(forecasts.list_forecasts, forecasts.ForecastPage),
    "journal": Source(books.list_journal, books.JournalPage, inner="lines"),
    "till_counts": Source(sales.list_till_counts, sales.TillCountPage),
    "runs": Source(channels.list_runs, channels.RunPage),
    "agreement": Source(agreement.list_items, agreement.AgreePage, prefix="shown_", spread=_shown),
}


def source(sheet: str) -> Source:
    """The sheet of a name. Raises NotFoundError."""
    found = SHEETS.get(sheet)
    if found is None:
        raise NotFoundError("There is no such sheet.", field="sheet")
    return found


def narrowed(of: Source, filters: Mapping[str, str], sort: str) -> dict[str, Any]:
    """Filters as the route takes them; one that is empty is none. Raises BadInputError naming the filter."""
    given = {name: value for name, value in {**filters, "sort": sort}.items() if value}
    try:
        return of.filters.model_validate(given).model_dump()
    except ValidationError as error:
        first = error.errors()[0]
        name = str(first["loc"][0])
        raise BadInputError(f"This sheet cannot be filtered by {name} = {given.get(name, '')}.", field=name) from error


def lines(request: HttpRequest, of: Source, names: Sequence[str], filters: Mapping[str, Any]) -> Iterator[list[Cell]]:
    """Every row that the filters find, in the sheet's order, as the values of `names`; moments by the company's clocks.

    Reads page after page, so that rows which come meanwhile move nothing. Raises BadInputError for a name that is
    no field of the sheet, before anything is read.
    """
    for name in names:
        if not of.has(name):
            raise BadInputError(f"This sheet has no field {name}.", field="columns")
    return _lines(request, of, names, filters, company_zone())


def _lines(
    request: HttpRequest, of: Source, names: Sequence[str], filters: Mapping[str, Any], zone: ZoneInfo
) -> Iterator[list[Cell]]:
    cursor, asked = "", set(names)
    plainly = not of.inner and asked <= of.row.model_fields.keys()
    told = [_column(of.row, name, zone) for name in names] if plainly else []
    while True:
        limit = BY_COLUMN if of.by_column else AT_ONCE
        with long_pages(limit, asked):
            page = of.route(request, **filters, cursor=cursor, limit=limit)
        found = page["rows"]
        if isinstance(found, Columns):
            # What was worked out a column at a time is told so: row by row it takes twice as long.
            yield from map(list, zip(*(tell(found.of[name]) for name, tell in zip(names, told, strict=True)), strict=True))
            found = []
        # Most rows come as they travel; checking each once more would take as long as all else.
        rows = [one if isinstance(one, of.row) else of.row.model_validate(one) for one in found]
        if rows and told and not any(getattr(row, "fault", "") for row in rows):
            columns = zip(*map(itemgetter(*names, names[0]), (row.__dict__ for row in rows)), strict=True)
            yield from map(list, zip(*(tell(column) for tell, column in zip(told, columns, strict=False)), strict=True))
            rows = []
        for row in rows:
            outer = _values(row, asked, zone) | (of.spread(row) if of.spread else {})
            for inner in (getattr(row, of.inner) if of.inner else ()) or (None,):
                values = outer if inner is None else {**outer, **_values(inner, asked, zone)}
                yield _told([values.get(name) for name in names], getattr(row, "fault", ""))
        cursor = page["next"]
        if not cursor:
            return


def _column(row: type[Schema], name: str, zone: ZoneInfo) -> Callable[[Sequence[Any]], Sequence[Cell]]:
    """`_teller` for a column of values; most texts need none."""
    tell = _teller(row, name, zone)
    if _rounded(row).get(name) is None:
        return lambda values: list(map(tell, values)) if datetime in set(map(type, values)) else values
    return lambda values: list(map(tell, values))


def _teller(row: type[Schema], name: str, zone: ZoneInfo) -> Callable[[Any], Cell]:
    """How a value of a field is told: a number as the wire rounds it, a moment by the company's clocks."""
    by = _rounded(row).get(name)
    if by is not None:
        return lambda value: None if value is None else Numeral(by(value))
    return lambda value: value.astimezone(zone) if isinstance(value, datetime) else value


def _told(cells: list[Cell], fault: str) -> list[Cell]:
    """A line; what could not be worked out in it is empty, and the first empty cell says why."""
    if fault and fault not in cells and None in cells:
        cells[cells.index(None)] = fault
    return cells


@cache
def _rounded(row: type[Schema]) -> dict[str, Callable[[Decimal], str] | None]:
    """By field, how the wire rounds its numbers, also where there may be none; None where it does not."""
    found = {}
    for name, field in row.model_fields.items():
        said = [*field.metadata, *(one for kind in get_args(field.annotation) for one in getattr(kind, "__metadata__", ()))]
        found[name] = next((one.func for one in said if isinstance(one, PlainSerializer)), None)
    return cast(dict[str, Callable[[Decimal], str] | None], found)


def _values(row: Schema, asked: set[str], zone: ZoneInfo) -> dict[str, Any]:
    """Values of a row as they are told; of one with a fault what is known of it."""
    known = row.__dict__
    names = row.model_fields_set & asked if getattr(row, "fault", "") else asked & known.keys()
    return {name: _teller(type(row), name, zone)(known[name]) for name in names}
