"""Groups of an account's customers who are shown prices of their own: read from the account, said who they are here and
which list speaks for them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from django.db import transaction
from django.db.models import Count

from yuvrel.connectors.capabilities import GroupPrices
from yuvrel.core.errors import BadInputError, NotFoundError, RefusedError, StaleError
from yuvrel.core.price_columns import NONE
from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.people.roles import Ability, Actor, audit
from yuvrel.pricing.models import PriceList
from yuvrel.rules.queries import by_level
from yuvrel.sales.models import CustomerGroup

from .actions import get_connection
from .credentials import connector_for
from .models import ChannelGroup, GroupPrice, Listing
from .price_rules import SET, group_speakers, groups_of, owner_of, prices_of, work_out
from .prices import GONE, group_is_gone
from .rules import Ids
from .runs import settle_snags

FACTS = ("group_id", "price_list_id")


def connections_of(groups: Mapping[int, str]) -> dict[int, str]:
    """The connections that show something of their own to some of our groups of customers, with what touched it."""
    rows = ChannelGroup.objects.filter(group__in=list(groups)).values_list("connection_id", "group_id") if groups else ()
    return {connection: groups[group] for connection, group in rows if group is not None}


def read_groups(actor: Actor, connection_id: int) -> list[ChannelGroup]:
    """Ask the account which groups of customers it has; one that it has no more is kept, but shown nothing.

    Raises RefusedError for a kind that has none, ConnectorError as it comes.
    """
    actor.need(Ability.CONNECT)
    row = get_connection(connection_id)
    connector = connector_for(row)
    if not isinstance(connector, GroupPrices):
        raise RefusedError(f"{row.name} has no groups of customers.", field="kind")
    found = {one.key: one.title for one in connector.customer_groups()}
    with transaction.atomic():
        known = {one.key: one for one in ChannelGroup.objects.select_for_update().filter(connection=row)}
        for key, title in found.items():
            one = known.get(key) or ChannelGroup(connection=row, key=key)
            one.title, one.gone_at = title, None
            one.save()
        for key, one in known.items():
            if key not in found and one.gone_at is None:
                group_is_gone(one, "it is not among the groups that it tells.")
        there = [f"group {known[key].pk}" for key in found.keys() & known.keys()]
        settle_snags(GONE, "it is there again", connection=row, field__in=there)
        record(Event.Kind.RULES, [row.pk], f"groups of {row.name}")
    return groups_of(row)


def groups_page(connection_id: int) -> dict[str, Any]:
    """The groups of a connection with how many prices each is shown, and what can be chosen for them."""
    row = get_connection(connection_id)
    counts: dict[int, dict[str, int]] = {}
    states = GroupPrice.objects.filter(group__connection=row).values_list("group_id", "state")
    for group, state, count in states.annotate(n=Count("pk")).order_by():
        counts.setdefault(group, {})[state] = count
    return {
        "groups": [
            {
                "id": one.pk,
                "key": one.key,
                "title": one.title,
                "group_id": one.group_id,
                "price_list_id": one.price_list_id,
                "speaks": [speaker.whose for speaker in group_speakers(one)],
                "counts": counts.get(one.pk, {}),
                "version": one.version,
            }
            for one in groups_of(row)
        ],
        "ours": list(CustomerGroup.objects.order_by("name").values("id", "name")),
        "lists": list(PriceList.objects.filter(base=False).order_by("name").values("id", "name")),
    }


def _with(group_id: int, version: int, facts: Mapping[str, Any], rows: Any) -> ChannelGroup:
    """A group as it would be."""
    one: ChannelGroup | None = rows.filter(pk=group_id, gone_at=None).first()
    if one is None:
        raise NotFoundError("There is no such group of customers there.")
    if one.version != version:
        raise StaleError(f"Somebody changed {one.title} since you opened it.")
    for name in FACTS:
        if name in facts:
            setattr(one, name, facts[name])
    if one.group_id and not CustomerGroup.objects.filter(pk=one.group_id).exists():
        raise BadInputError("There is no such group of customers.", field="group_id")
    if one.price_list_id and not PriceList.objects.filter(pk=one.price_list_id).exists():
        raise BadInputError("There is no such price list.", field="price_list_id")
    return one


def rehearse(actor: Actor, group_id: int, version: int, facts: Mapping[str, Any]) -> dict[str, Any]:
    """What a group would be shown by other facts: how many listings, how many of them otherwise than now, how many below
    their margin floor; nothing is kept. Raises what `keep` does."""
    actor.need(Ability.PRICE)
    one = _with(group_id, version, facts, ChannelGroup.objects.select_related("connection"))
    row = one.connection
    ids = Ids.of(Listing.objects.filter(connection=row, link=Listing.Link.LINKED))
    offered = GroupPrice.objects.filter(group=one).values_list("listing_id", "price")
    shown = {listing: price for listing, price in offered if price is not None}
    if not len(ids.listing) or owner_of(row) != "here":
        return {"listings": 0, "changing": len(shown), "below": 0, "kept_here": owner_of(row) == "here"}
    lists = {speaker.list for speaker in group_speakers(one)}
    found = prices_of(row, ids, by_level(SET), work_out([row], ids.item.tolist(), lists), one)
    then = {key: cents for key, cents in zip(found.listings, found.price.tolist(), strict=True) if cents != NONE}
    now = {key: int(price * found.of_one) for key, price in shown.items()}
    differs = sum(1 for key in then.keys() | now.keys() if then.get(key) != now.get(key))
    return {"listings": len(then), "changing": differs, "below": int(found.held.sum()), "kept_here": True}


@transaction.atomic
def keep(actor: Actor, group_id: int, version: int, facts: Mapping[str, Any]) -> ChannelGroup:
    """Say who a group of an account's customers is here (`group_id`) and which list speaks for it (`price_list_id`); what
    it is shown is worked out anew. Raises NotFoundError, StaleError, BadInputError."""
    actor.need(Ability.PRICE)
    rows = ChannelGroup.objects.select_for_update().select_related("connection")
    before = rows.filter(pk=group_id).values(*FACTS).first() or {}
    one = _with(group_id, version, facts, rows)
    one.version += 1
    one.save()
    after = {name: str(getattr(one, name)) for name in FACTS}
    audit(actor, "keep group of a channel", "channel group", one.pk, {name: str(was) for name, was in before.items()}, after)
    record(Event.Kind.RULES, [one.connection_id], f"group {one.title} of {one.connection.name}")
    return one


def shown_of(listing: Listing) -> list[dict[str, Any]]:
    """What groups of customers are to be shown for a listing and what they are."""
    rows = GroupPrice.objects.filter(listing=listing).select_related("group").order_by("group__title", "pk")
    return [
        {
            "group_id": row.group_id,
            "title": row.group.title,
            "price": row.price,
            "shown": row.shown,
            "currency": row.currency,
            "state": row.state,
        }
        for row in rows
    ]
