"""Reading price lists: the sheet of lists, the prices of one, an item's prices in all, and how each came about."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from typing import Any

import numpy as np
from django.db.models import Count, Exists, OuterRef, Q, QuerySet

from yuvrel.catalogue.models import Item, ItemPrice
from yuvrel.catalogue.rungs import below_named
from yuvrel.core import pricing as core
from yuvrel.core.errors import NotFoundError
from yuvrel.core.money import ZERO, spoken
from yuvrel.core.price_columns import (
    COST_UNITS,
    NONE,
    RATE_UNITS,
    Ints,
    exponent_of,
    floor_units,
    in_terms,
    scaled,
    under_floor,
)
from yuvrel.core.working import Step, Working
from yuvrel.people.models import Location
from yuvrel.platform.faults import sheet_rows
from yuvrel.platform.paging import in_order, page_of_values
from yuvrel.stock.queries import find_items

from .actions import FACTS, get_list
from .changes import history_of
from .floor import floors_of
from .loading import Columns, all_lists, base_list, load_book, load_columns
from .models import PlaceList, PriceChange, PriceEntry, PriceList
from .schemas import PriceListRow, PriceRow

NEWEST = 12
SORTS = {"title": "title", "sku": "sku"}
Holders = Callable[[], Mapping[int, list[str]]]
# Who is given a list: rooms that stand above this one say so when they load.
HOLDERS: list[Holders] = []


def add_holders(holders: Holders) -> None:
    """Make known a kind of holder: list id to the names of those that are given it."""
    HOLDERS.append(holders)


@dataclass(frozen=True)
class Seller:
    """A channel that keeps a part of what its customers pay: the lists that speak for it, the first that has a price
    counting, the currency it sells in, and the per cent it keeps."""

    name: str
    lists: tuple[int, ...]
    currency: str
    fee_percent: Decimal


# Who keeps a part of the price: rooms that stand above this one say so when they load.
SELLERS: list[Callable[[], Sequence[Seller]]] = []


def add_sellers(sellers: Callable[[], Sequence[Seller]]) -> None:
    """Make known channels that keep a part of the price."""
    SELLERS.append(sellers)


def _after_fees(book: core.PriceBook, item: int, today: date) -> dict[int, list[tuple[Seller, core.Left]]]:
    """By list, what its price of an item leaves at each channel that shows it and keeps a part of it."""
    found: dict[int, list[tuple[Seller, core.Left]]] = defaultdict(list)
    for seller in (one for sellers in SELLERS for one in sellers()):
        speakers = [core.Speaker("", key) for key in seller.lists if key in book.lists]
        price = core.asked_price(book, speakers, item, today, currency=seller.currency).price
        left = book.left(price, item, seller.fee_percent) if price else None
        if price is not None and left is not None:
            found[price.list.key].append((seller, left))
    return found


def _places() -> Mapping[int, list[str]]:
    found: dict[int, list[str]] = defaultdict(list)
    for key, name in PlaceList.objects.order_by("location__position").values_list("list_id", "location__name"):
        found[key].append(name)
    return found


HOLDERS.append(_places)


def holders() -> dict[int, list[str]]:
    """By list, everybody who is given it."""
    found: dict[int, list[str]] = defaultdict(list)
    for kind in HOLDERS:
        for key, names in kind().items():
            found[key] += names
    return found


def how_of(one: core.PriceList, lists: Mapping[int, core.PriceList]) -> str:
    """How a list comes to its prices, as a person says it."""
    ending = f", ending {one.ending:.2f}" if one.ending is not None else ""
    rate = f", at {spoken(one.rate)}" if one.rate != 1 else ""
    match one.method:
        case core.Method.DERIVED:
            parent = lists[one.parent].name if one.parent in lists else "a list that is gone"
            percent = f" {spoken(one.percent, signed=True)} %" if one.percent else ""
            amount = f" {spoken(one.amount, signed=True)}" if one.amount else ""
            return f"{parent}{percent}{amount}{rate}{ending}"
        case core.Method.MARGIN:
            return f"{spoken(one.percent)} % margin on {core.BASES[one.basis]}{rate}{ending}"
        case core.Method.MARKUP:
            return f"{spoken(one.percent)} % on {core.BASES[one.basis]}{rate}{ending}"
    return "typed"


def sheet(today: date) -> dict[str, Any]:
    """Every list with how many items it prices, the margin in the middle and how many lie below their floor."""
    lists = all_lists()
    columns = load_columns(None, lists, today)
    prices = columns.prices(lists.values())
    floors = _floors(columns)
    typed = dict(PriceEntry.objects.values_list("list_id").annotate(n=Count("item", distinct=True)).order_by())
    given, base = holders(), base_list()
    if columns.ids:
        typed[base.pk] = ItemPrice.objects.filter(item__active=True, item__percent_off_parts=None).count()

    def shown(row: PriceList) -> dict[str, Any]:
        one = lists[row.pk]
        net, cost = _net(one, columns, prices[row.pk]), _cost(one, lists, columns)
        return {
            "id": row.pk,
            "name": row.name,
            "base": row.base,
            "how": how_of(one, lists),
            "currency": row.currency,
            "taxed": row.taxed,
            "given_to": given.get(row.pk, []),
            "typed": typed.get(row.pk, 0),
            "priced": int((prices[row.pk] != NONE).sum()),
            "below_floor": int(under_floor(net, cost, floors, one.currency).sum()),
            "margin": _median_margin(one, net, cost),
            "starts_on": row.starts_on,
            "ends_on": row.ends_on,
            "in_force": one.speaks(today),
        }

    rows = PriceList.objects.order_by("-base", "name", "pk")
    changes = PriceChange.objects.select_related("list").order_by("-pk")[:NEWEST]
    return {
        "rows": sheet_rows(PriceListRow, rows, shown, lambda row: {"id": row.pk, "name": row.name}),
        "items": len(columns.ids),
        "changes": [{**_change(row), "list_id": row.list_id, "list": row.list.name} for row in changes],
    }


def _change(row: PriceChange) -> dict[str, Any]:
    names = ("id", "what", "by", "at", "items", "starts_on", "ends_on", "undone_at", "undone_by")
    return {name: getattr(row, name) for name in names}


def _floors(columns: Columns) -> Ints:
    floors = floors_of(columns.ids)
    return floor_units([floors[pk] for pk in columns.ids])


def _net(one: core.PriceList, columns: Columns, prices: Ints) -> Ints:
    return in_terms(prices, one.taxed, False, columns.items.tax)


def _cost(one: core.PriceList, lists: Mapping[int, core.PriceList], columns: Columns) -> Ints:
    """Cost of one in the list's currency, in millionths; 0 where it, or the rate, is not known."""
    rate = core.rate_of(lists, one.key, columns.base_currency)
    cost = columns.items.average if one.basis == "average" else columns.items.last
    return np.zeros_like(cost) if rate is None else scaled(cost, int(rate * RATE_UNITS), RATE_UNITS)


def _median_margin(one: core.PriceList, net: Ints, cost: Ints) -> Decimal | None:
    """Half of the items leave more: per cent of the net price, to one decimal, as it is shown."""
    known = (net > 0) & (cost > 0)
    if not known.any():
        return None
    worth = net[known] / 10 ** exponent_of(one.currency)
    margins = (worth - cost[known] / COST_UNITS) / worth * 100
    return Decimal(str(round(float(np.median(margins)), 1)))


def list_page(list_id: int) -> dict[str, Any]:
    """A list with what is around it. Raises NotFoundError."""
    row = get_list(list_id)
    lists = all_lists()
    chosen = dict(PlaceList.objects.values_list("location_id", "list_id"))
    return {
        **{name: getattr(row, name) for name in ("id", "version", "base", *FACTS)},
        "how": how_of(lists[row.pk], lists),
        "place_ids": [place for place, key in chosen.items() if key == row.pk],
        "given_to": holders().get(row.pk, []),
        "may_follow": [
            {"id": one.key, "name": one.name, "currency": one.currency}
            for one in lists.values()
            if lists[row.pk] not in core.followed(lists, one.key)
        ],
        "places": [{"id": p.pk, "name": p.name, "list_id": chosen.get(p.pk)} for p in Location.objects.all()],
        "changes": list(row.changes.order_by("-pk")[:30]),
    }


def price_sheet(
    list_id: int | None, q: str, category: str, show: str, cursor: str, limit: int, today: date, sort: str = ""
) -> dict[str, Any]:
    """A page of items with what they cost in a list; `show`: all, own (typed into it), below (their floor), none.
    The base prices where no list is named."""
    row = base_list() if list_id is None else get_list(list_id)
    rows = find_items(Item.objects.filter(active=True), q)
    if category:
        rows = rows.filter(product__category_id__in=below_named(category))
    rows = _shown(rows, row, show, today)
    ordered, order = in_order(rows, sort, SORTS, ["title", "id"])
    found, following = page_of_values(ordered, order, cursor, limit, ("title", "sku", "product__category__name"))
    ids = [item.pk for item in found]
    lists = all_lists()
    book, floors = load_book(ids, lists), floors_of(ids)

    def shown(item: Any) -> dict[str, Any]:
        told = _told(book, lists[row.pk], lists, item.pk, today, floors[item.pk])
        own = book.entries.get((row.pk, item.pk), ())
        plain = [e.price for e in own if not e.from_quantity and not e.is_dated]
        return {
            "item_id": item.pk,
            "title": item.title,
            "sku": item.sku,
            "category": item.product__category__name or "",
            "own": plain[0] if plain else None,
            "breaks": len(book.quantities(row.pk, item.pk, today)) - 1,
            "cost": book.items[item.pk].cost(lists[row.pk].basis),
            **told,
        }

    return {"rows": sheet_rows(PriceRow, found, shown, _known), "next": following}


def _known(item: Any) -> dict[str, Any]:
    return {"item_id": item.pk, "title": item.title, "sku": item.sku}


def _shown(rows: QuerySet[Item], row: PriceList, show: str, today: date) -> QuerySet[Item]:
    if show == "own":
        own = ItemPrice.objects.filter(item=OuterRef("pk"), item__percent_off_parts=None)
        typed = Q(Exists(PriceEntry.objects.filter(list=row, item=OuterRef("pk"))))
        return rows.filter(typed | Q(Exists(own))) if row.base else rows.filter(typed)
    if show in ("below", "none"):
        lists = all_lists()
        columns = load_columns(None, lists, today)
        prices = columns.prices(lists.values())[row.pk]
        if show == "none":
            chosen = prices == NONE
        else:
            one = lists[row.pk]
            net, cost = _net(one, columns, prices), _cost(one, lists, columns)
            chosen = under_floor(net, cost, _floors(columns), one.currency)
        return rows.filter(pk__in=[columns.ids[n] for n in np.nonzero(chosen)[0].tolist()])
    return rows


def _told(
    book: core.PriceBook,
    one: core.PriceList,
    lists: Mapping[int, core.PriceList],
    item: int,
    today: date,
    floor: Decimal | None,
) -> dict[str, Any]:
    price = book.price(one.key, item, today)
    left = book.left(price, item) if price else None
    margin = left.percent if left else None
    return {
        "price": price.amount if price else None,
        "how": price.how.value if price else "",
        "source": _source(price, one, lists, book.together[item].percent_off if item in book.together else ZERO),
        "previous": price.previous if price else None,
        "ends_on": price.entry.ends if price and price.entry else None,
        "margin": None if margin is None else round(margin, 1),
        "below_floor": floor is not None and margin is not None and margin < floor,
    }


def _source(price: core.Price | None, one: core.PriceList, lists: Mapping[int, core.PriceList], off: Decimal = ZERO) -> str:
    """`off`: per cent taken off the parts of a bundle that costs what they do."""
    if price is None:
        silent = {core.Method.TYPED: "", core.Method.DERIVED: "none there either"}
        return silent.get(one.method, "no cost is known")
    if price.entry is not None:
        return "typed, for a time" if price.entry.is_dated else "typed"
    if price.how == core.Method.PARTS:
        return f"its parts{f' {spoken(-off, signed=True)} %' if off else ''}"
    return how_of(one, lists)


def item_prices(item_id: int, today: date) -> dict[str, Any]:
    """An item's price in every list, the base list first, with who sees it. Raises NotFoundError."""
    item = Item.objects.filter(pk=item_id).first()
    if item is None:
        raise NotFoundError("There is no such item.")
    lists, base = all_lists(), base_list()
    book = load_book([item_id], lists, base.pk)
    floor, given, facts = floors_of([item_id])[item_id], holders(), book.items[item_id]
    after_fees = _after_fees(book, item_id, today)
    ordered = sorted(lists.values(), key=lambda one: (one.key != base.pk, one.name.casefold()))

    def rung(one: core.PriceList) -> dict[str, Any]:
        quantities = book.quantities(one.key, item_id, today)[1:]
        priced = [(q, book.price(one.key, item_id, today, q)) for q in quantities]
        return {
            "list_id": one.key,
            "name": one.name,
            "base": one.key == base.pk,
            "currency": one.currency,
            "taxed": one.taxed,
            "given_to": given.get(one.key, []),
            "after_fees": [
                {"name": seller.name, "percent": seller.fee_percent, "margin": _rounded(left.percent)}
                for seller, left in after_fees.get(one.key, [])
            ],
            "breaks": [_entry(q, p.amount, p.previous) for q, p in priced if p is not None],
            "entries": [
                _entry(e.from_quantity, e.price, e.previous, e.starts, e.ends) for e in book.entries.get((one.key, item_id), ())
            ],
            **_told(book, one, lists, item_id, today, floor),
        }

    return {
        "item_id": item_id,
        "title": item.title,
        "cost": facts.cost("average"),
        "tax_percent": facts.tax_percent,
        "floor": floor,
        "rungs": [rung(one) for one in ordered],
        "history": history_of(item_id),
    }


def _rounded(percent: Decimal | None) -> Decimal | None:
    return None if percent is None else round(percent, 1)


def _entry(
    least: Decimal, price: Decimal, previous: Decimal | None, starts: date | None = None, ends: date | None = None
) -> dict[str, Any]:
    return {"from_quantity": least, "price": price, "previous": previous, "starts_on": starts, "ends_on": ends}


def price_working(list_id: int, item_id: int, today: date) -> Working:
    """How a list comes to an item's price, and what it leaves. Raises NotFoundError."""
    row = get_list(list_id)
    item = Item.objects.filter(pk=item_id).first()
    if item is None:
        raise NotFoundError("There is no such item.")
    lists = all_lists()
    book = load_book([item_id], lists)
    asked = core.asked_price(book, [core.Speaker("List", row.pk)], item_id, today, currency=row.currency)
    if asked.price is None:
        return asked.working(f"{item.title} · {row.name}")
    margin = margin_steps(asked.price, book, item_id)
    for seller, left in _after_fees(book, item_id, today).get(row.pk, []):
        kept = f"{spoken(seller.fee_percent)} % of the price with tax"
        said = "none" if left.percent is None else f"{spoken(round(left.percent, 1))} %"
        margin += (
            Step(f"{seller.name} keeps", left.fee, kept, kind="fact", unit=row.currency),
            Step("Margin after that", said, "of the net price", kind="fact"),
        )
    price = asked.price
    note = f"{spoken(price.previous)} is shown beside it as the price before." if price.previous is not None else ""
    result = Step("Price", price.amount, "with tax" if row.taxed else "without tax", kind="result", unit=row.currency)
    return Working("What does it sell for?", f"{item.title} · {row.name}", (*price.steps, result, *margin), note)


def margin_steps(price: core.Price, book: core.PriceBook, item: int) -> tuple[Step, ...]:
    """What a price leaves: without tax, less the cost; nothing where no cost, or no rate, is known."""
    one, left = price.list, book.left(price, item)
    if left is None:
        unknown = "no cost is known" if book.items[item].cost(one.basis) is None else "no rate is known"
        return (Step("Margin", "not known", unknown, kind="fact"),)
    said = "none" if left.percent is None else f"{spoken(round(left.percent, 1))} %"
    return (
        Step("Net of tax", left.net, kind="fact", unit=one.currency),
        Step("Cost of one", round(left.cost, 4), core.BASES[one.basis], kind="fact", unit=one.currency),
        Step("Margin", said, "of the net price", kind="fact"),
    )
