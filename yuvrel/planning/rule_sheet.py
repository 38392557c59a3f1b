"""How items are replenished, as a sheet: everywhere, or at one place."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from yuvrel.catalogue.models import Item
from yuvrel.catalogue.rule_sheet import Beside, declare_rules
from yuvrel.core.rules import Level, Rung
from yuvrel.people.models import Location
from yuvrel.people.queries import places_by_name
from yuvrel.people.roles import Ability
from yuvrel.rules.models import SettingValue
from yuvrel.rules.registry import SETTINGS

from . import alerts, rules  # noqa: F401  what they declare are the columns


def _finder(item_ids: Sequence[int] | None) -> Callable[[int, str, str], Rung | str]:
    places = places_by_name()
    rows = Item.objects.filter(kind=Item.Kind.STOCKED)
    stocked = set((rows if item_ids is None else rows.filter(pk__in=item_ids)).values_list("pk", flat=True))

    def find(item_id: int, title: str, name: str) -> Rung | str:
        place = places.get(name)
        if place is None:
            return "is no place of ours"
        if item_id not in stocked:
            return "must be empty: the item is counted nowhere"
        return Rung(Level.ITEM_AT_PLACE, f"{title} at {place.name}", item_id, place.pk)

    return find


def _named() -> Mapping[tuple[int, int], tuple[str, str]]:
    pairs = SettingValue.objects.filter(level=Level.ITEM_AT_PLACE).values_list("subject", "within").distinct()
    skus = dict(Item.objects.filter(pk__in=[item for item, _ in pairs]).values_list("pk", "sku"))
    places = dict(Location.objects.values_list("pk", "name"))
    return {(item, place): (skus.get(item, ""), places.get(place, "")) for item, place in pairs}


declare_rules(
    "replenishment",
    "Replenishment rules",
    "How items are reordered: lead time, cover, safety stock, reorder point, alerts; everywhere or at one place",
    [setting for setting in SETTINGS.values() if Level.ITEM_AT_PLACE in setting.levels],
    Ability.BUY,
    Beside("place", "for one place only; empty: wherever it is stocked", "Mill Lane", Level.ITEM_AT_PLACE, _finder, _named),
)
