"""What stands in the way of retiring or deleting an item: each room that uses items says it for its own part."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from yuvrel.ownership import company_id, working_for
from yuvrel.people.models import Company

from .models import BundleComponent


@dataclass(frozen=True)
class Obstacle:
    """Why an item must stay as it is, in a sentence, and where that can be put right."""

    said: str
    link: str


Looked = Callable[[int], Sequence[Obstacle]]
_LOOK: list[Looked] = []


def look_for(obstacles: Looked) -> Looked:
    """Register what a room knows: of an item's id the obstacles."""
    _LOOK.append(obstacles)
    return obstacles


def obstacles(item_id: int) -> list[Obstacle]:
    """Everything that stands in the way, in every company: items are shared. Of others it is told that they use it, and
    neither who they are nor what they have of it or where."""
    own = _found(item_id)
    for company in Company.objects.exclude(pk=company_id()).order_by("pk"):
        with working_for(company):
            # What is shared (a bundle) stands in the way here as well, and is said once.
            if any(one not in own for one in _found(item_id)):
                return [*own, Obstacle("Another company that shares this range uses it.", "")]
    return own


def _found(item_id: int) -> list[Obstacle]:
    return [found for look in _LOOK for found in look(item_id)]


@look_for
def _bundles(item_id: int) -> list[Obstacle]:
    rows = BundleComponent.objects.filter(component_id=item_id, bundle__active=True).select_related("bundle")
    return [Obstacle(f"It is part of {row.bundle.title}.", f"/range/items/{row.bundle_id}") for row in rows]
