"""The first minutes of the demo, done as a person would: connections go live, and somebody edits stock at the shop."""

from __future__ import annotations

from datetime import datetime

import httpx

from yuvrel.channels import actions
from yuvrel.channels.linking import take_listings
from yuvrel.channels.models import Connection, Listing
from yuvrel.people.roles import SYSTEM

from .seed import EDITED

# How many more than there are somebody says at the shop: the first drift to be seen.
TOO_MANY = 3
# And one whose price somebody changes at the market.
REPRICED = "QEX-PLA"


def go_live(at: datetime) -> int:
    """Every tested connection goes live by the same step as on the page: webhooks are registered. Returns how many."""
    rows = list(Connection.objects.filter(state=Connection.State.TESTED).order_by("pk"))
    for row in rows:
        actions.go_live(SYSTEM, row.pk, at)
    return len(rows)


def read_listings(at: datetime) -> None:
    """What the web shop says of its goods is read: somebody wrote there since."""
    take_listings(SYSTEM, Connection.objects.get(name="Larkmead web shop").pk, at, create=False)


def edit_at_the_shop(standins: str) -> None:
    """Somebody changes a quantity on the shop's own page, where it has no cost."""
    listing = Listing.objects.get(connection__name="Larkmead web shop", sku=EDITED)
    form = {"id": listing.external_id, "quantity": str(int(listing.offered or 0) + TOO_MANY)}
    address = f"{standins}/shop/larkmead-web/office/quantity"
    httpx.post(address, data=form, timeout=10, trust_env=False, follow_redirects=True).raise_for_status()


def edit_at_the_till(standins: str) -> None:
    """Somebody at the market changed a price by hand."""
    listing = Listing.objects.get(connection__name="Wagon till", sku=REPRICED)
    httpx.post(f"{standins}/till/wagon/price", data={"plu": listing.external_id, "price": "9.00"}, trust_env=False)
