"""What was sold before Yuvrel, as a sheet: for forecasts, and for nothing else."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import date
from typing import Any

from django.db.models import Min
from django.utils import timezone

from yuvrel.catalogue.models import Item
from yuvrel.core import bounds
from yuvrel.core.gtin import normal_sku
from yuvrel.core.intake import Amount, Column, Judge, Read, Wrong, day, quantity, said_day, words
from yuvrel.intake.registry import Kind, declare
from yuvrel.people.queries import company_day, places_by_name
from yuvrel.people.roles import Ability, Actor, audit

from .late_demand import note_demand
from .models import PastSale, SalesOrder

COLUMNS = (
    Column("day", "on which it was sold, as 2026-03-14", "2026-03-14", day, said_day, needed=True),
    Column("place", "its name or its short name", "Tannery Yard", words(80), needed=True),
    Column("sku", "ours", "SMK-S-ASH", words(60), needed=True),
    Column("units", "sold on that day, all customers together", "7", Amount(bounds.QUANTITY_PLACES, bounds.MOST_UNITS), quantity),
)


def key_of(values: Mapping[str, Any]) -> str:
    """A day, a place by its name, and an item by its SKU."""
    return f"{values['day'].isoformat()} / {values['place'].casefold()} / {normal_sku(values['sku'])}"


def standing() -> Iterator[tuple[str, dict[str, str]]]:
    """What earlier sheets said."""
    rows = PastSale.objects.order_by("day", "location__position", "item__sku")
    for when, place, sku, units in rows.values_list("day", "location__name", "item__sku", "units").iterator(5000):
        values = {"day": said_day(when), "place": place, "sku": sku, "units": quantity(units)}
        yield key_of({"day": when, "place": place, "sku": sku}), values


def known_as() -> Callable[[str], str]:
    """A place by its short name."""
    names = {said: place.name.casefold() for said, place in places_by_name().items()}

    def key(key: str) -> str:
        when, place, sku = key.split(" / ", 2)
        return f"{when} / {names.get(place, place)} / {sku}"

    return key


def judge() -> Judge:
    """The place and the item are known, and the day lies before the first order that came in here."""
    places = places_by_name()
    items = {normal_sku(sku) for sku in Item.objects.values_list("sku", flat=True)}
    today = company_day(timezone.now())
    ours = SalesOrder.objects.filter(history=False).values_list("location").annotate(first=Min("placed_at")).order_by()
    first = {place: company_day(at) for place, at in ours}

    def wrong(values: Mapping[str, Any], is_new: bool) -> Wrong:
        place = places.get(values["place"].casefold())
        if place is None:
            return "place", "is no place of ours"
        if normal_sku(values["sku"]) not in items:
            return "sku", "is no item of the range"
        if is_new and "units" not in values:
            return "units", "is needed"
        if values["day"] >= today:
            return "is not past"
        begun: date = first.get(place.pk, today)
        if values["day"] >= begun:
            return f"would count twice: from {begun:%-d %b %Y} on orders of {place.name} are here"
        return ""

    return wrong


def apply(actor: Actor, rows: Sequence[Read]) -> None:
    """Keep each row; one that says none takes what was said away."""
    places = places_by_name()
    wanted = {normal_sku(row.values["sku"]) for row in rows}
    items = {normal_sku(sku): pk for sku, pk in Item.objects.values_list("sku", "pk") if normal_sku(sku) in wanted}
    told = [
        PastSale(
            day=row.values["day"],
            location=places[row.values["place"].casefold()],
            item_id=items[normal_sku(row.values["sku"])],
            units=row.values["units"],
        )
        for row in rows
    ]
    PastSale.objects.bulk_create(told, update_conflicts=True, unique_fields=["item", "location", "day"], update_fields=["units"])
    note_demand({row.item_id for row in told}, min(row.day for row in told), "past sales")
    audit(actor, "past sales", "past sales", None, after={"rows": len(told)})


declare(
    Kind(
        "past_sales",
        "Past sales",
        "What was sold before Yuvrel, by day: it counts in forecasts, and moves neither stock nor money",
        COLUMNS,
        Ability.BUY,
        standing,
        apply,
        key_of,
        judge,
        known_as,
    )
)
