"""What lies at each place, as a sheet: counted elsewhere, sent in, and set."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping, Sequence
from decimal import Decimal
from typing import Any

from django.utils import timezone

from yuvrel.catalogue.models import Item
from yuvrel.core import bounds
from yuvrel.core.errors import BadInputError
from yuvrel.core.gtin import normal_sku
from yuvrel.core.intake import Column, Judge, Read, Wrong, amount, quantity, signed, words
from yuvrel.intake.registry import Kind, declare
from yuvrel.people.queries import places_by_name
from yuvrel.people.roles import Ability, Actor

from .actions import check_quantity
from .counts import Counted, count_all
from .models import ItemCost, StockBalance

UNITS = signed(bounds.QUANTITY_PLACES, bounds.MOST_UNITS)
COLUMNS = (
    Column("place", "its name or its short name", "Tannery Yard", words(80), needed=True),
    Column("sku", "ours", "SMK-S-ASH", words(60), needed=True),
    Column("title", "for the reader; it is not read in", "Smoker, small, ash", str, told=True),
    Column("on_hand", "units that lie there", "24", UNITS, quantity),
    Column(
        "cost",
        "of one unit, where more come in; empty: at the moving average",
        "8.40",
        amount(6, bounds.MOST_PRICE),
        quantity,
    ),
)


def key_of(values: Mapping[str, Any]) -> str:
    """A place by its name, and an item by its SKU."""
    return f"{values['place'].casefold()} / {normal_sku(values['sku'])}"


def standing() -> Iterator[tuple[str, dict[str, str]]]:
    """What lies where, of items in use."""
    rows = StockBalance.objects.filter(item__active=True, item__kind=Item.Kind.STOCKED).order_by(
        "location__position", "item__sku"
    )
    names = ("location__name", "item__sku", "item__title", "on_hand")
    for place, sku, title, on_hand in rows.values_list(*names).iterator(5000):
        values = {"place": place, "sku": sku, "title": title, "on_hand": quantity(on_hand)}
        yield key_of(values), values


def known_as() -> Callable[[str], str]:
    """A place by its short name."""
    names = {said: place.name.casefold() for said, place in places_by_name().items()}

    def key(key: str) -> str:
        place, _, sku = key.partition(" / ")
        return f"{names.get(place, place)} / {sku}"

    return key


def judge() -> Judge:
    """The place and the item are known, the item is counted so, and what comes in has a cost."""
    places = places_by_name()
    items = {normal_sku(item.sku): item for item in Item.objects.filter(active=True).only("sku", "kind", "decimals")}
    known = dict(ItemCost.objects.values_list("item_id", "last_average"))
    rows = StockBalance.objects.values_list("item_id", "location_id", "on_hand")
    there = {(item, place): on_hand for item, place, on_hand in rows}

    def wrong(values: Mapping[str, Any], is_new: bool) -> Wrong:
        place, item = places.get(values["place"].casefold()), items.get(normal_sku(values["sku"]))
        if place is None:
            return "is no place of ours"
        if item is None:
            return "sku", "is no item of the range"
        units = values.get("on_hand")
        if units is None:
            return ("on_hand", "is needed") if is_new or "cost" in values else ""
        try:
            check_quantity(item, units, "on_hand")
        except BadInputError as error:
            return "on_hand", error.detail.rstrip(".")
        return _of_quantity(values, units, there.get((item.pk, place.pk), Decimal(0)), known.get(item.pk))

    return wrong


def _of_quantity(values: Mapping[str, Any], units: Decimal, before: Decimal, average: Decimal | None) -> Wrong:
    if units < 0 and units != before:
        return "on_hand", "cannot be below zero"
    if units > before and "cost" not in values and not average:
        return "cost", "is needed: nobody has said what one costs"
    if units <= before and "cost" in values:
        return "cost", "is of no use: no more come in"
    return ""


def apply(actor: Actor, rows: Sequence[Read]) -> None:
    """Take rows in: a count for each place."""
    places = places_by_name()
    wanted = {normal_sku(row.values["sku"]) for row in rows}
    items = {normal_sku(sku): pk for sku, pk in Item.objects.values_list("sku", "pk") if normal_sku(sku) in wanted}
    found: dict[int, list[Counted]] = defaultdict(list)
    known = {place.pk: place for place in places.values()}
    for row in rows:
        values = row.values
        counted = Counted(items[normal_sku(values["sku"])], values["on_hand"], values.get("cost"))
        found[places[values["place"].casefold()].pk].append(counted)
    for place in sorted(found):
        count_all(actor, known[place], found[place], timezone.now(), "from a sheet")


declare(
    Kind(
        "stock",
        "Stock by place",
        "What lies where: set as counted, not added to",
        COLUMNS,
        Ability.ADJUST,
        standing,
        apply,
        key_of,
        judge,
        known_as,
    )
)
