"""A2: the prices that channels show against those that are offered."""

from __future__ import annotations

from decimal import Decimal

from django.utils import timezone

from yuvrel.channels import price_intake, prices
from yuvrel.channels.credentials import connector_as
from yuvrel.channels.models import ChannelGroup, Connection, GroupPrice, Listing, PriceOffer
from yuvrel.channels.price_rules import group_speakers, groups_of, owner_of
from yuvrel.channels.runs import run_of
from yuvrel.connectors.capabilities import GroupPrices, Prices
from yuvrel.core.agreement import Code
from yuvrel.core.money import ZERO
from yuvrel.platform.bulk import update_many

from .keeping import Finding, keep
from .models import Check, Drift

# The keys of drifts of what a group of customers is shown.
OF_GROUP = "group-price:"
IN_MOTION = (PriceOffer.State.PENDING, PriceOffer.State.HELD)


def can_take(drift: Drift) -> bool:
    """Whether what a channel shows can be taken into our list: of a price that everybody is shown."""
    return drift.code == Code.A2 and OF_GROUP not in drift.key


def check_prices(connection: Connection) -> None:
    """A2: prices shown and prices offered. Where prices are kept there, what differs is taken in instead."""
    owner = owner_of(connection)
    if owner == "apart":
        Check.objects.filter(code=Code.A2, connection=connection).delete()
        Drift.objects.filter(code=Code.A2, connection=connection, healed_at=None).update(healed_at=timezone.now())
        return
    with run_of(connection, "check prices") as run:
        if owner == "there":
            left, right, compared, findings = _take_all(connection)
        else:
            left, right, compared, findings = _compare_prices(connection)
            if isinstance(connector_as(connection, Prices), GroupPrices):
                for group in filter(group_speakers, groups_of(connection)):
                    with prices.unless_gone(group):
                        theirs, ours, count, more = _compare_group(connection, group)
                        left, right, compared, findings = left + theirs, right + ours, compared + count, findings + more
        run.done = run.total = compared
    keep(Code.A2, connection, left, right, compared, findings)


def _take_all(connection: Connection) -> tuple[Decimal, Decimal, int, list[Finding]]:
    ids = list(Listing.objects.filter(connection=connection, link=Listing.Link.LINKED).values_list("external_id", flat=True))
    found = connector_as(connection, Prices).read_prices(ids)
    # Of two that keep the same list only the older is heard; the other has a snag that says so.
    if price_intake.keeper_before(connection) is None:
        price_intake.take(connection, list(found.values()), timezone.now())
    total = sum((row.price for row in found.values()), ZERO)
    return total, total, len(found), []


def _compare_prices(connection: Connection) -> tuple[Decimal, Decimal, int, list[Finding]]:
    """What is at rest, read; an offer that moved meanwhile is not judged."""
    resting = PriceOffer.objects.filter(listing__connection=connection, listing__link=Listing.Link.LINKED).exclude(
        state__in=IN_MOTION
    )
    rows = list(resting.select_related("listing").order_by("pk"))
    found = connector_as(connection, Prices).read_prices([row.listing.external_id for row in rows])
    still = dict(resting.values_list("pk", "offered_at"))
    rows = [row for row in rows if still.get(row.pk) == row.offered_at]
    findings, changed, told = [], [], []
    left = right = ZERO
    for row in rows:
        there = found.get(row.listing.external_id)
        left, right = left + (there.price if there else ZERO), right + row.price
        agrees = there is not None and prices.shows(row, there)
        state = PriceOffer.State.AGREED if agrees else PriceOffer.State.DRIFTING
        if row.state != state or (there and (row.listing.price, row.previous_shown) != (there.price, there.previous)):
            row.state, row.previous_shown = state, there.previous if there else None
            row.listing.price = there.price if there else None
            changed.append(row)
            told.append(row.listing)
        if not agrees:
            shown = prices.said(there.price, there.previous) if there else "not there"
            refs = {"listing": row.listing_id, "item": row.listing.item_id or 0}
            title = f"{row.listing.title}, price"
            findings.append(
                Finding(f"price:{row.listing_id}", title, prices.said(row.price, row.previous), shown, row.cause, refs)
            )
    update_many(changed, ["state", "previous_shown"])
    update_many(told, ["price"])
    return left, right, len(rows), findings


def _compare_group(connection: Connection, group: ChannelGroup) -> tuple[Decimal, Decimal, int, list[Finding]]:
    """What a group of customers is shown: a price where one is offered, and none of its own anywhere else."""
    linked = Listing.objects.filter(connection=connection, link=Listing.Link.LINKED)
    keys = dict(linked.order_by("pk").values_list("external_id", "pk"))
    before = dict(GroupPrice.objects.filter(group=group).values_list("listing_id", "offered_at"))
    found = connector_as(connection, GroupPrices).read_group_prices(group.key, list(keys))
    offers = {row.listing_id: row for row in GroupPrice.objects.filter(group=group).select_related("listing")}
    facts = {pk: (title, item) for pk, title, item in linked.values_list("pk", "title", "item_id")}
    left = right = ZERO
    compared = 0
    findings, changed = [], []
    for key, listing_id in keys.items():
        row, there = offers.get(listing_id), found.get(key)
        moved = before.get(listing_id) != (row.offered_at if row else None)
        if moved or (row is not None and row.state in IN_MOTION) or (row is None and there is None):
            continue
        ours = row.price if row else None
        left, right, compared = left + (there or ZERO), right + (ours or ZERO), compared + 1
        state = PriceOffer.State.AGREED if there == ours else PriceOffer.State.DRIFTING
        if row is not None and (row.state, row.shown) != (state, there):
            row.state, row.shown = state, there
            changed.append(row)
        if there != ours:
            refs = {"listing": listing_id, "item": facts[listing_id][1] or 0}
            wanted, seen = ("as everybody" if one is None else prices.said(one, None) for one in (ours, there))
            title = f"{facts[listing_id][0]}, price for {group.title}"
            cause = row.cause if row else "no list says anything of it"
            findings.append(Finding(f"{OF_GROUP}{group.pk}:{listing_id}", title, wanted, seen, cause, refs))
    update_many(changed, ["state", "shown"])
    return left, right, compared, findings
