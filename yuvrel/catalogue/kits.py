"""What a bundle is made of: the one place that knows."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping
from decimal import Decimal

from yuvrel.core.kits import flatten

from .models import BundleComponent, Item

Parts = list[tuple[int, Decimal]]


def kits(wanted: Iterable[int] | None = None) -> dict[int, Parts]:
    """Stocked parts of the given bundles, or of all, and how many of each; bundles in bundles taken apart.

    A query for each depth: for items that are no bundles one, which finds nothing.
    """
    made: dict[int, Parts] = defaultdict(list)
    asked = None if wanted is None else set(wanted)
    more = asked
    while more is None or more:
        rows = BundleComponent.objects.order_by("component_id")
        rows = rows if more is None else rows.filter(bundle_id__any_of=more)
        found = list(rows.values_list("bundle_id", "component_id", "quantity"))
        for bundle, part, each in found:
            made[bundle].append((part, each))
        more = {part for _, part, _ in found if part not in made} if more is not None else set()
    return flatten(made, asked)


def parts_of(found: Mapping[int, Parts], item_id: int) -> Parts:
    """What an item takes off the shelf: its parts, or one of itself."""
    return found.get(item_id) or [(item_id, Decimal(1))]


def holders_of(items: Iterable[int]) -> dict[int, int]:
    """Bundles that hold any of these items, at whatever depth, and one of the items that each holds."""
    found: dict[int, int] = {}
    more = {item: item for item in items}
    while more:
        rows = BundleComponent.objects.filter(component_id__any_of=list(more)).values_list("bundle_id", "component_id")
        more = {bundle: more[part] for bundle, part in rows if bundle not in found}
        found |= more
    return found


def explode(item_ids: Iterable[int]) -> dict[int, Parts]:
    """What each item takes off the shelf: itself, its components for a kit, nothing for a service."""
    wanted = list(item_ids)
    found: dict[int, Parts] = {}
    kinds = dict(Item.objects.filter(pk__any_of=wanted).values_list("pk", "kind"))
    made = kits(pk for pk, kind in kinds.items() if kind == Item.Kind.BUNDLE)
    for item_id, kind in kinds.items():
        found[item_id] = [(item_id, Decimal(1))] if kind == Item.Kind.STOCKED else made.get(item_id, [])
    return found
