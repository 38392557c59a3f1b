"""Typed prices of every list as a sheet, sent in and taken out."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from django.utils import timezone

from yuvrel.catalogue.models import Item, ItemPrice
from yuvrel.catalogue.products import items_of
from yuvrel.catalogue.retail import of_parts
from yuvrel.core import bounds
from yuvrel.core.gtin import normal_sku
from yuvrel.core.intake import Amount, Column, Judge, Read, Wrong, day, money, quantity, said_day, words
from yuvrel.core.pricing import from_quantity
from yuvrel.intake.registry import Kind, declare
from yuvrel.people.roles import Ability, Actor

from .changes import Typed, type_prices
from .models import PriceEntry, PriceList

COLUMNS = (
    Column("list", "its name", "Base prices", words(80), needed=True),
    Column("sku", "ours", "SMK-S-ASH", words(60), needed=True),
    Column(
        "from_quantity", "counts from so many on; empty: from the first", "10", Amount(3, bounds.MOST_UNITS), quantity, tells=True
    ),
    Column("from_day", "first day, as 2027-03-14; empty: always", "2027-03-14", day, said_day, tells=True),
    Column("until_day", "last day; empty: no end", "2027-03-31", day, said_day, tells=True),
    Column("price", "in the list's currency, with tax if the list holds tax", "32.00", Amount(2, bounds.MOST_PRICE), money),
    Column("previous", "a higher price to show beside it", "36.00", Amount(2, bounds.MOST_PRICE), money),
)
NAMED = {column.name: column for column in COLUMNS}


def key_of(values: Mapping[str, Any]) -> str:
    """A place in a list: the item, the quantity it begins at, and its days."""
    least = from_quantity(values.get("from_quantity"))
    days = [values[name].isoformat() if values.get(name) else "" for name in ("from_day", "until_day")]
    return " ".join([values["list"].casefold(), normal_sku(values["sku"]), f"{least.normalize():f}", *days])


def standing() -> Iterator[tuple[str, dict[str, str]]]:
    """What is typed into every list, the items' own prices first."""
    base = PriceList.objects.filter(base=True).values_list("name", flat=True).first()
    if base is not None:
        typed = ItemPrice.objects.filter(item__active=True, item__percent_off_parts=None).order_by("item__sku")
        for sku, price in typed.values_list("item__sku", "amount"):
            yield _row({"list": base, "sku": sku, "price": price})
    fields = ("list__name", "item__sku", "from_quantity", "starts_on", "ends_on", "price", "previous")
    rows = PriceEntry.objects.filter(item__active=True).order_by("list__name", "item__sku", "pk").values_list(*fields)
    for name, sku, least, *more in rows.iterator(2000):
        told = zip(NAMED, (name, sku, least or None, *more), strict=True)
        yield _row({column: value for column, value in told if value is not None})


def _row(values: dict[str, Any]) -> tuple[str, dict[str, str]]:
    return key_of(values), {name: NAMED[name].text(value) for name, value in values.items()}


def judge() -> Judge:
    """The list and the item are known, a new row has a price, and an item's own shows none before it."""
    lists = {name.casefold(): base for name, base in PriceList.objects.values_list("name", "base")}
    items = {normal_sku(sku) for sku in Item.objects.filter(active=True).values_list("sku", flat=True)}
    follow = {normal_sku(sku) for sku in of_parts().values_list("sku", flat=True)}

    def wrong(values: Mapping[str, Any], is_new: bool) -> Wrong:
        if values["list"].casefold() not in lists:
            return "is no price list"
        if normal_sku(values["sku"]) not in items:
            return "sku", "is no item of the range"
        if is_new and "price" not in values:
            return "price", "is needed for a new row"
        if values.get("from_day") and values.get("until_day") and values["until_day"] < values["from_day"]:
            return "until_day", "is before the first day"
        dated = values.get("from_day") or values.get("until_day")
        own = lists[values["list"].casefold()] and not (dated or from_quantity(values.get("from_quantity")))
        if own and normal_sku(values["sku"]) in follow:
            return "price", "is what its parts cost; give the bundle a price of its own first"
        if own and "previous" in values:
            return "previous", "cannot stand beside the item's own price: give the row a first day"
        return ""

    return wrong


def apply(actor: Actor, rows: Sequence[Read]) -> None:
    """Take rows in, list by list."""
    lists = {row.name.casefold(): row for row in PriceList.objects.all()}
    items = {normal_sku(item.sku): item for item in items_of(row.values["sku"] for row in rows)}
    entries = PriceEntry.objects.filter(item__in=items.values())
    there = {(e.list_id, e.item_id, e.from_quantity, e.starts_on, e.ends_on): e for e in entries}
    typed: dict[int, list[Typed]] = {}
    for row in rows:
        values = row.values
        of, item = lists[values["list"].casefold()], items[normal_sku(values["sku"])]
        least, starts, ends = from_quantity(values.get("from_quantity")), values.get("from_day"), values.get("until_day")
        old = there.get((of.pk, item.pk, least, starts, ends))
        # A row that stands and names no price keeps it; the item's own stands with the item.
        price = values.get("price", old.price if old else item.price)
        previous = values.get("previous", old.previous if old else None)
        typed.setdefault(of.pk, []).append(Typed(item.pk, price, least, previous, starts, ends))
    for key, ones in typed.items():
        type_prices(actor, key, ones, timezone.now(), "from a sheet")


declare(
    Kind(
        "prices",
        "Prices",
        "What is typed into each price list, with breaks and dates",
        COLUMNS,
        Ability.PRICE,
        standing,
        apply,
        key_of,
        judge,
    )
)
