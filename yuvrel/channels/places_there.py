"""Several places with stock within one account: which of ours each of them is, what is shown at each, and from which of
ours an order leaves that was placed there."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from decimal import Decimal
from typing import Any

from yuvrel.connectors.capabilities import Capability
from yuvrel.core.errors import BadInputError
from yuvrel.core.places import split
from yuvrel.core.rules import Level, Rung, Setting, Value, meanings
from yuvrel.people.models import Location
from yuvrel.people.roles import Ability
from yuvrel.rules.registry import add_check, add_choices, declare

from .credentials import kind_of
from .models import Connection
from .rules import Ids, Kept, connection_value

NAME = "places_there"

declare(
    Setting(
        NAME,
        "Its places",
        "Which place of ours each of the account's places is. Each shows what lies there, and an order that is placed there "
        "leaves from there.",
        "map",
        "{}",
        levels=(Level.CONNECTION,),
        words="places",
        no_limit="not told",
        most=20,
        group="Quantities shown",
        ability=Ability.CONNECT.value,
        needs="places",
        rehearsal="shown",
    )
)


def _ours() -> list[tuple[str, str]]:
    return [(place.code, place.name) for place in Location.objects.filter(for_sale=True)]


add_choices(NAME, _ours)


@add_check
def _check(rung: Rung, found: Mapping[str, Value]) -> None:
    given = list(meanings(found[NAME]).values()) if isinstance(found.get(NAME), str) else []
    known = dict(_ours())
    for code in given:
        if code not in known:
            raise BadInputError(f"There is no place {code} that anything is sold from.", field=NAME)
        if given.count(code) > 1:
            raise BadInputError(f"{known[code]} stands for two of its places; what lies there would be shown twice.", field=NAME)


def places_of_account(connection: Connection) -> list[dict[str, Any]]:
    """The account's places, as its last test told: words whose meaning can be set."""
    told = connection.test_report.get("places", [])
    return [{"sort": "places", "word": key, "proposed": "", "title": title} for key, title in told]


def mapped(connection: Connection, kept: Kept) -> dict[str, Location]:
    """Which place of ours each of the account's places is, the one that fulfils its orders first."""
    can = Capability.PLACES in kind_of(connection).can
    given = meanings(str(connection_value(NAME, connection, kept))) if can else {}
    if not given:
        return {}
    ours = {place.code: place for place in Location.objects.filter(code__in=given.values())}
    found = {key: ours[code] for key, code in given.items() if code in ours}
    return dict(sorted(found.items(), key=lambda one: (one[1].pk != connection.fulfils_from_id, one[1].position, one[0])))


def shown_at_places(
    connection: Connection,
    ids: Ids,
    quantities: Sequence[Decimal],
    kept: Kept,
    feeds: Sequence[int],
    pool_at: Callable[[int], Mapping[int, int]],
) -> dict[int, dict[str, str]]:
    """What each listing shows at each of the account's places; nothing where none of them is one of ours. `pool_at`: what
    there is of each item at a place of ours, in thousandths."""
    places = mapped(connection, kept)
    if not places:
        return {}
    pools = {key: pool_at(place.pk) if place.pk in feeds else {} for key, place in places.items()}
    first = next(iter(places))
    found = {}
    rows = zip(ids.listing.tolist(), ids.item.tolist(), ids.units.tolist(), quantities, strict=True)
    for listing, item, units, quantity in rows:
        there = {key: pools[key].get(item, 0) for key in places}
        parts = split(int(quantity * 1000), there, first, units)
        found[listing] = {key: f"{(Decimal(part) / 1000).normalize():f}" for key, part in parts.items()}
    return found


def location_for(connection: Connection, key: str, kept: Kept) -> int | None:
    """The place of ours that an order leaves from that was placed at one of the account's; none where that says nothing."""
    place = mapped(connection, kept).get(key) if key else None
    return place.pk if place else None
