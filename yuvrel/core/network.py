"""Places that are filled from other places: transfers first, and the feeding place's need after."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from decimal import ROUND_FLOOR, Decimal

from .errors import BadInputError
from .money import ZERO
from .outlook import Outlook
from .replenish import Policy, Position, Suggestion, SupplierTerms, suggest


@dataclass(frozen=True)
class Place:
    """One item at one place: what is to come, what is there, and how it is replenished."""

    name: str
    outlook: Outlook
    position: Position
    policy: Policy
    offer: SupplierTerms | None = None


@dataclass(frozen=True)
class Plan:
    """What to do at one place: buy, or have sent from `source`, of which `now` can leave at once."""

    suggestion: Suggestion
    source: int | None = None
    now: Decimal = ZERO


def order_of(feeders: Mapping[int, int], names: Mapping[int, str] | None = None) -> list[int]:
    """Every place before the one that feeds it. Raises BadInputError for a circle, which it says in `names`."""
    waiting = dict(feeders)
    found: list[int] = []
    while waiting:
        leaves = sorted(place for place in waiting if place not in waiting.values())
        if not leaves:
            circle = " > ".join((names or {}).get(place, str(place)) for place in sorted(waiting))
            raise BadInputError(f"These places feed one another in a circle: {circle}.", field="feeders")
        found += leaves
        for place in leaves:
            del waiting[place]
    return found + sorted(set(feeders.values()) - set(found))


def plan(places: Mapping[int, Place], feeders: Mapping[int, int], subject: str = "") -> dict[int, Plan]:
    """Suggestions for one item at all its places.

    `feeders`: place -> the place that fills it. A fed place gets a transfer, and what it needs is added to
    the need of the feeding place. What the feeding place has free now leaves now, first to the
    place that runs out first, in whole packs. Raises BadInputError for a circle or an unknown place.
    """
    unknown = (set(feeders) | set(feeders.values())) - set(places)
    if unknown:
        raise BadInputError(f"There is no place {min(unknown)} to fill or to feed from.", field="feeders")
    made: dict[int, Suggestion] = {}
    to_feed: dict[int, Decimal] = {}
    first = order_of(feeders, {key: place.name for key, place in places.items()})
    for key in [*first, *sorted(set(places) - set(first))]:
        place = places[key]
        position = replace(place.position, to_feed=place.position.to_feed + to_feed.get(key, ZERO))
        source = feeders.get(key)
        offer = place.offer if source is None else replace(place.offer or SupplierTerms(), breaks=())
        made[key] = suggest(
            place.outlook,
            position,
            place.policy,
            subject=f"{subject} · {place.name}" if subject else place.name,
            offer=offer,
            source="" if source is None else places[source].name,
        )
        if source is not None:
            to_feed[source] = to_feed.get(source, ZERO) + made[key].quantity
    leaving = _leaving(made, places, feeders)
    return {key: Plan(made[key], feeders.get(key), leaving.get(key, ZERO)) for key in places}


def _leaving(made: Mapping[int, Suggestion], places: Mapping[int, Place], feeders: Mapping[int, int]) -> dict[int, Decimal]:
    """How much of each transfer the feeding place can send at once."""
    free = {key: max(ZERO, place.position.free - place.position.backordered) for key, place in places.items()}

    def urgency(key: int) -> tuple[Decimal, int]:
        cover = made[key].cover_days
        return (Decimal(10**9) if cover is None else cover, key)

    found = {}
    for key in sorted(feeders, key=urgency):
        pack, source = places[key].policy.pack, feeders[key]
        can = (min(made[key].quantity, free[source]) / pack).to_integral_value(rounding=ROUND_FLOOR) * pack
        found[key] = can
        free[source] -= can
    return found
