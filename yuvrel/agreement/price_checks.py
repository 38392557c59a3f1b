"""A2: the prices that channels show against those that are offered."""

from __future__ import annotations

from decimal import Decimal

from django.utils import timezone

from yuvrel.channels import price_intake, prices
from yuvrel.channels.credentials import connector_as
from yuvrel.channels.models import Connection, Listing, PriceOffer
from yuvrel.channels.price_rules import owner_of
from yuvrel.channels.runs import run_of
from yuvrel.connectors.capabilities import Prices
from yuvrel.core.agreement import Code
from yuvrel.core.money import ZERO
from yuvrel.platform.bulk import update_many

from .keeping import Finding, keep
from .models import Check, Drift

IN_MOTION = (PriceOffer.State.PENDING, PriceOffer.State.HELD)


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
