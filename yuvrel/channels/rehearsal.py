"""A change of a connection's rules tried out: what every listing would show, and nothing is saved."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from decimal import Decimal
from typing import Any

from yuvrel.catalogue.models import BundleComponent, Item
from yuvrel.core.errors import RefusedError
from yuvrel.core.money import ZERO, split_tax
from yuvrel.core.rehearsal import Shift, rehearse
from yuvrel.people.queries import company
from yuvrel.people.roles import Ability, Actor
from yuvrel.stock.models import ItemCost

from .actions import check_settings, get_connection
from .models import Connection, Listing
from .offers import WITH_QUANTITIES, offers_of, places_of

RULES = ("basis", "projected_days", "buffer", "share_percent", "minimum", "maximum")
MOST_ROWS = 50


def rehearse_rules(actor: Actor, connection_id: int, changes: dict[str, Any]) -> dict[str, Any]:
    """What the linked listings show by the rules as they are and with the changes, in a fixed number of queries.

    Raises BadInputError naming the setting that cannot be, RefusedError for a kind that shows no quantities.
    """
    actor.need(Ability.CONNECT)
    row = get_connection(connection_id)
    if row.kind not in WITH_QUANTITIES:
        raise RefusedError("This kind of connection shows no quantities.", field="kind")
    check_settings(row, changes)
    listings = {
        pk: (item, title, sku, price)
        for pk, item, title, sku, price in Listing.objects.filter(connection=row, link=Listing.Link.LINKED).values_list(
            "pk", "item_id", "title", "item__sku", "price"
        )
    }
    items = {item for item, *_ in listings.values()}
    now = offers_of(row, items)
    then = offers_of(_with(row, changes), items, feeds=changes.get("feeds", [place for place, _ in places_of(row)]))
    costs, taxes = _costs(items), _taxes(items)
    shifts = []
    for pk, (item, _, _, price) in listings.items():
        if item in now:
            net = split_tax(price or ZERO, taxes[item])[0]
            shifts.append(Shift(pk, now[item], then[item], net - costs[item]))
    found = rehearse(shifts)
    return {
        **{name: getattr(found, name) for name in ("listings", "rising", "falling", "to_zero", "from_zero", "at_stake")},
        "units_now": found.units_now,
        "units_then": found.units_then,
        "currency": company().base_currency,
        "rows": [_told(shift, listings[shift.key]) for shift in found.shifts[:MOST_ROWS]],
    }


def _told(shift: Shift, listing: tuple[int, str, str, Decimal | None]) -> dict[str, Any]:
    item, title, sku, _ = listing
    return {
        "listing_id": shift.key,
        "item_id": item,
        "title": title,
        "sku": sku,
        "now": shift.now,
        "then": shift.then,
        "at_stake": shift.at_stake,
    }


def _with(row: Connection, changes: dict[str, Any]) -> Connection:
    """The connection as it would be; never saved."""
    return Connection(pk=row.pk, **{name: changes.get(name, getattr(row, name)) for name in RULES})


def _costs(items: Iterable[int]) -> dict[int, Decimal]:
    """Average cost of one; a kit costs what its parts do."""
    parts: dict[int, list[tuple[int, Decimal]]] = defaultdict(list)
    for kit, part, each in BundleComponent.objects.filter(bundle_id__in=items).values_list(
        "bundle_id", "component_id", "quantity"
    ):
        parts[kit].append((part, each))
    everything = {*items, *(part for of in parts.values() for part, _ in of)}
    one = dict(ItemCost.objects.filter(item_id__in=everything).values_list("item_id", "last_average"))
    return {
        item: sum((one.get(part, ZERO) * each for part, each in parts.get(item, [(item, Decimal(1))])), ZERO) for item in items
    }


def _taxes(items: Iterable[int]) -> dict[int, Decimal]:
    rows = Item.objects.filter(pk__in=items).values_list("pk", "product__tax_class__percent")
    return {item: percent if percent is not None else ZERO for item, percent in rows}
