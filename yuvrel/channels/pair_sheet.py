"""Which listing is which item, as a sheet: pairs made elsewhere, sent in."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from yuvrel.catalogue.models import Item
from yuvrel.core.gtin import normal_sku
from yuvrel.core.intake import Column, Judge, Read, Wrong, whole, words
from yuvrel.intake.registry import Kind, declare
from yuvrel.people.roles import Ability, Actor

from .linking import MOST_UNITS, link, unlink
from .models import Connection, Listing

COLUMNS = (
    Column("connection", "its name", "Larkmead web shop", words(80), needed=True),
    Column(
        "listing", "the SKU it has there, or its number there where no other way tells it", "SMOKER-S", words(80), needed=True
    ),
    Column("title", "as it stands there; it is not read in", "Smoker, small", str, told=True),
    Column("sku", "of our item that it stands for", "SMK-S-ASH", words(60), folded=True, empty=""),
    Column("units", "so many of it; empty: one", "12", whole),
)


def key_of(values: Mapping[str, Any]) -> str:
    """A connection by its name, and a listing by what it is called there."""
    return f"{values['connection'].casefold()} / {values['listing'].strip().casefold()}"


def _rows(*more: str) -> Iterator[tuple[list[str], Any]]:
    """Each listing, and what it is called there: the SKU, where it is the only one that has it, then its number."""
    names = ("pk", "connection__name", "connection_id", "external_id", "sku", *more)
    listings = Listing.objects.order_by("connection__name", "external_id").values_list(*names, named=True)
    codes = Counter((row, normal_sku(sku)) for row, sku in Listing.objects.values_list("connection_id", "sku"))
    for row in listings.iterator(5000):
        is_known_by_sku = row.sku and codes[row.connection_id, normal_sku(row.sku)] == 1
        yield [row.sku, row.external_id] if is_known_by_sku else [row.external_id], row


def standing() -> Iterator[tuple[str, dict[str, str]]]:
    """Every listing, and what it stands for."""
    for called, row in _rows("title", "item__sku", "units"):
        texts = {"connection": row.connection__name, "listing": called[0], "title": row.title}
        yield f"#{row.pk}", texts | ({"sku": row.item__sku, "units": str(row.units)} if row.item__sku else {})


def known_as() -> Callable[[str], str]:
    """A listing by what it is called there; a SKU comes before the number of another."""
    numbers: dict[str, str] = {}
    skus: dict[str, str] = {}
    for called, row in _rows():
        *sku, number = (key_of({"connection": row.connection__name, "listing": name}) for name in called)
        numbers[number] = f"#{row.pk}"
        skus |= dict.fromkeys(sku, f"#{row.pk}")
    told = numbers | skus
    return lambda key: told.get(key, key)


def judge() -> Judge:
    """The listing is there, and the item can be sold."""
    connections = {name.casefold() for name in Connection.objects.values_list("name", flat=True)}
    items = {normal_sku(sku) for sku in Item.objects.filter(active=True).values_list("sku", flat=True)}
    linked = {f"#{pk}" for pk in Listing.objects.exclude(item=None).values_list("pk", flat=True)}
    key_for = known_as()

    def wrong(values: Mapping[str, Any], is_new: bool) -> Wrong:
        if values["connection"].casefold() not in connections:
            return "is no connection's name"
        if is_new:
            return "listing", "is no listing there that was read"
        if values.get("sku") and normal_sku(values["sku"]) not in items:
            return "sku", "is no item of the range"
        if not 1 <= values.get("units", 1) <= MOST_UNITS:
            return "units", f"are 1 to {MOST_UNITS:,}"
        if "units" in values and "sku" not in values and key_for(key_of(values)) not in linked:
            return "sku", "is needed: the listing stands for no item yet"
        return ""

    return wrong


def apply(actor: Actor, rows: Sequence[Read]) -> None:
    """Link each listing, or unlink it; what a row does not say stays as it is."""
    there = {f"#{row.pk}": row for row in Listing.objects.filter(pk__in=[int(row.key[1:]) for row in rows])}
    items = {normal_sku(sku): pk for sku, pk in Item.objects.filter(active=True).values_list("sku", "pk")}
    for row in rows:
        listing = there[row.key]
        if row.values.get("sku") == "":
            unlink(actor, listing.pk, listing.version)
            continue
        # A row that names no item is of a listing that stands for one: `judge` lets no other through.
        item = items[normal_sku(row.values["sku"])] if "sku" in row.values else listing.item_id or 0
        link(actor, listing.pk, item, listing.version, row.values.get("units", listing.units))


declare(
    Kind(
        "pairs",
        "Listings and items",
        "Which listing of a channel stands for which item, and for how many of it",
        COLUMNS,
        Ability.PAIR,
        standing,
        apply,
        key_of,
        judge,
        known_as,
    )
)
