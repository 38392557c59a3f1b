"""A change of a connection's rules tried out: what every listing would show, and nothing is saved."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from decimal import Decimal
from typing import Any

from django.db.models import QuerySet

from yuvrel.catalogue.kits import kits, parts_of
from yuvrel.catalogue.models import Item
from yuvrel.connectors.capabilities import Capability
from yuvrel.core.errors import RefusedError
from yuvrel.core.money import ZERO, split_tax
from yuvrel.core.rehearsal import Shift, rehearse
from yuvrel.core.rules import Level, Rung
from yuvrel.people.queries import company
from yuvrel.people.roles import Ability, Actor
from yuvrel.rules.actions import taken
from yuvrel.rules.queries import by_level
from yuvrel.stock.models import ItemCost

from . import price_rules, selling
from .actions import check_settings, get_connection
from .credentials import kind_of
from .models import Connection, Listing
from .offers import SETTING_NAMES, Wanted, pools_for, wanted_of
from .rules import Ids, reached_by

MOST_ROWS = 50


def rehearse_rules(actor: Actor, rung: Rung, changes: Mapping[str, Any], feeds: Sequence[int] | None = None) -> dict[str, Any]:
    """What every listing that a level reaches shows by the rules as they are and with the changes, in a fixed number
    of queries for each connection. `feeds`: with a connection's rules, also the places that are to feed it.

    Raises BadInputError naming the setting that cannot be, RefusedError where no quantities are shown.
    """
    actor.need(Ability.CONNECT)
    values = taken(rung, changes)
    if feeds is not None and rung.level == Level.CONNECTION:
        check_settings(get_connection(rung.subject), {"feeds": feeds})
    reach = Listing.objects.filter(reached_by(rung.level, rung.subject, rung.within, rung.kind))
    rows = list(Connection.objects.filter(pk__in=reach.order_by().values("connection")).order_by("pk"))
    if rung.level == Level.CONNECTION:
        rows = [get_connection(rung.subject)]
    return _rehearse(rows, reach, {name: {rung.key: value} for name, value in values.items()}, feeds, rung)


def _rehearse(
    connections: Sequence[Connection],
    reach: QuerySet[Listing],
    changed: Mapping[str, Mapping[Any, Any]] | None,
    feeds: Sequence[int] | None,
    rung: Rung,
) -> dict[str, Any]:
    shown = [row for row in connections if Capability.QUANTITIES in kind_of(row).can]
    if not shown and connections:
        raise RefusedError("This kind of connection shows no quantities.", field="kind")
    names = (*SETTING_NAMES, *price_rules.SET)
    before, after = by_level(names), by_level(names, changed)
    shifts: list[Shift] = []
    changing = held = count = retold = 0
    # What is not touched need not be worked out: of 80,000 listings either takes seconds.
    repriced = bool(set(changed or ()) & set(price_rules.SET))
    requantified = feeds is not None or bool(set(changed or ()) & set(SETTING_NAMES))
    told: dict[int, tuple[int, str, str, Decimal | None]] = {}
    costs: dict[int, Decimal] = {}
    taxes: dict[int, Decimal] = {}
    for row in shown:
        linked = reach.filter(connection=row, link=Listing.Link.LINKED, kept_there=False)
        ids = Ids.of(linked)
        if repriced:
            moved, below = price_rules.compare(row, ids, before, after)
            changing, held = changing + moved, held + below
        if not requantified:
            count += len(ids.listing)
            continue
        pools = pools_for(row, ids, before, after) if feeds is None else None
        now, then = wanted_of(row, ids, None, before, pools), wanted_of(row, ids, feeds, after, pools)
        retold += sum(1 for pk, one in now.items() if pk in then and one.terms != then[pk].terms)
        rows = list(linked.values_list("pk", "item_id", "title", "item__sku", "price", "units"))
        # Connections show the same items: what one costs is asked for once.
        new = {item for _, item, *_ in rows} - costs.keys()
        costs |= _costs(new)
        taxes |= _taxes(new)
        shifts += [
            Shift(pk, _shown(now, pk), _shown(then, pk), split_tax(price or ZERO, taxes[item])[0] - costs[item] * units)
            for pk, item, _, _, price, units in rows
            if pk in now or pk in then
        ]
        told |= {pk: (item, title, sku, price) for pk, item, title, sku, price, _ in rows}
    found = rehearse(shifts)
    counts = ("listings", "rising", "falling", "to_zero", "from_zero", "at_stake", "units_now", "units_then")
    return {
        **{name: getattr(found, name) for name in counts},
        "listings": found.listings + count,
        "currency": company().base_currency,
        "prices_changing": changing,
        "prices_held": held,
        "retold": retold,
        "warning": selling.warning(rung, {name: one.get(rung.key) for name, one in (changed or {}).items()}),
        "rows": [_told(shift, told[shift.key]) for shift in found.shifts[:MOST_ROWS]],
    }


def _shown(wanted: Mapping[int, Wanted], pk: int) -> Decimal:
    """How many of a listing go out; what does not go out counts as none."""
    return wanted[pk].quantity if pk in wanted else ZERO


def first_push(connection: Connection) -> dict[str, Any]:
    """What would change there when a connection goes live: what each linked listing shows now, as it was last read, and
    what it would be told. Nothing is changed."""
    kept = by_level(SETTING_NAMES)
    linked = Listing.objects.filter(connection=connection, link=Listing.Link.LINKED, kept_there=False)
    wanted = wanted_of(connection, Ids.of(linked), kept=kept)
    fields = ("pk", "item_id", "title", "item__sku", "price", "shown")
    listings = {pk: (item, title, sku, price) for pk, item, title, sku, price, _ in linked.values_list(*fields)}
    shown = dict(linked.values_list("pk", "shown"))
    items = {item for item, *_ in listings.values()}
    costs, taxes = _costs(items), _taxes(items)
    shifts = [
        Shift(pk, shown[pk] or ZERO, one.quantity, split_tax(price or ZERO, taxes[item])[0] - costs[item])
        for pk, one in wanted.items()
        for item, _, _, price in (listings[pk],)
    ]
    found = rehearse(shifts)
    counts = ("listings", "rising", "falling", "to_zero", "from_zero", "at_stake", "units_now", "units_then")
    rows = [_told(shift, listings[shift.key]) for shift in found.shifts[:10]]
    silent = len(listings) - len(wanted)
    return {
        **{name: getattr(found, name) for name in counts},
        "currency": company().base_currency,
        "silent": silent,
        "rows": rows,
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


def _costs(items: Collection[int]) -> dict[int, Decimal]:
    """Average cost of one; a kit costs what its parts do."""
    made = kits(items)
    everything = {*items, *(part for of in made.values() for part, _ in of)}
    one = dict(ItemCost.objects.filter(item_id__any_of=everything).values_list("item_id", "last_average"))
    return {item: sum((one.get(part, ZERO) * each for part, each in parts_of(made, item)), ZERO) for item in items}


def _taxes(items: Collection[int]) -> dict[int, Decimal]:
    rows = Item.objects.filter(pk__any_of=items).values_list("pk", "product__tax_class__percent")
    return {item: percent if percent is not None else ZERO for item, percent in rows}
