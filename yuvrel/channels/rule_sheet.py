"""What channels show of items, as a sheet: on every channel, or on one connection."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence

from django.db.models import QuerySet

from yuvrel.catalogue.rule_sheet import Beside, declare_rules
from yuvrel.core.rules import Level, Rung
from yuvrel.people.roles import Ability
from yuvrel.rules.registry import SETTINGS

from . import publishing, rules, selling, standing  # noqa: F401  what they declare are the columns
from .models import Connection, Listing


def _finder(item_ids: Sequence[int] | None) -> Callable[[int, str, str], Rung | str]:
    connections = {name.casefold(): (pk, name) for pk, name in Connection.objects.values_list("pk", "name")}
    listings: dict[tuple[int, int], list[tuple[int, str]]] = defaultdict(list)
    rows = _linked() if item_ids is None else _linked().filter(item__in=item_ids)
    for pk, connection, item, title in rows.values_list("pk", "connection_id", "item_id", "title"):
        listings[connection, item].append((pk, title))

    def find(item_id: int, title: str, name: str) -> Rung | str:
        if name not in connections:
            return "is no connection's name"
        connection, called = connections[name]
        found = listings[connection, item_id]
        if len(found) != 1:
            return "has several listings of it: set each on its own page" if found else "has no listing of it"
        ((pk, there),) = found
        return Rung(Level.LISTING, f"{there} · {called}", pk)

    return find


def _linked() -> QuerySet[Listing]:
    return Listing.objects.filter(link=Listing.Link.LINKED, item__active=True)


def _named() -> Mapping[tuple[int, int], tuple[str, str]]:
    rows = list(_linked().values_list("pk", "connection_id", "item_id", "item__sku", "connection__name"))
    count: dict[tuple[int, int], int] = defaultdict(int)
    for _, connection, item, _, _ in rows:
        count[connection, item] += 1
    return {(pk, 0): (sku, name) for pk, connection, item, sku, name in rows if count[connection, item] == 1}


declare_rules(
    "channels",
    "Channel rules",
    "What channels show of items: buffer, share, least and most shown, selling past zero; on every channel or on one",
    [setting for setting in SETTINGS.values() if Level.LISTING in setting.levels and setting.type != "map"],
    Ability.CONNECT,
    Beside("connection", "for one connection only; empty: all", "Larkmead web shop", Level.LISTING, _finder, _named),
)
