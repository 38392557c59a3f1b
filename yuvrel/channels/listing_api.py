"""Routes of one listing: its page, how it stands there, sending it again."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal, get_args

from django.db import transaction
from django.http import HttpRequest
from django.utils import timezone
from ninja import Router, Schema

from yuvrel.core.errors import RefusedError
from yuvrel.core.standing import Standing
from yuvrel.people.roles import Ability, audit
from yuvrel.platform.auth import actor
from yuvrel.platform.wire import Money, Quantity, Said, words

from . import offers, prices, refreshing, standing
from .differences_api import DifferenceOut
from .jobs import wake_prices, wake_push
from .listing_page import listing_page
from .models import Listing, PriceOffer
from .queries import get_listing
from .schemas import PairedItem

router = Router(tags=["range"])


class ListingEventOut(Schema):
    """Something that became of a listing."""

    at: datetime
    by: str
    what: str
    why: str
    link: str


STANDINGS = get_args(Standing)


class GroupPriceOut(Schema):
    """What a group of customers is to be shown and what it is; no price: as everybody."""

    group_id: int
    title: str
    price: Money | None
    shown: Money | None
    currency: str
    state: Annotated[str, words(PriceOffer.State)]


class SaidOut(Schema):
    """Something that a channel says of a listing."""

    label: str
    said: str


class ListingOut(Schema):
    """Everything about a listing; `stands` is how it should stand there, `stands_there` how it does."""

    id: int
    external_id: str
    title: str
    sku: str
    barcode: str
    category: str
    options: dict[str, str]
    connection_id: int
    connection: str
    live: bool
    kind: str
    can: list[str]
    item: PairedItem | None
    picture: int | None
    link: Annotated[str, words(Listing.Link)]
    link_reason: str
    units: int
    version: int
    kept_there: bool
    service: bool
    shown: Quantity | None
    shown_at: datetime | None
    offered: Quantity | None
    offered_at: datetime | None
    offer_state: Annotated[str, words(Listing.Offer)]
    offer_cause: str
    pushed_at: datetime | None
    agreed_at: datetime | None
    rests: bool
    stands: Annotated[str, words(STANDINGS)]
    stands_there: Annotated[str, words(("", *STANDINGS))]
    told: list[str]
    price: Money | None
    price_offered: Money | None
    price_before: Money | None
    price_currency: str
    price_state: Annotated[str, words(("", *PriceOffer.State))]
    group_prices: list[GroupPriceOut]
    entry: str
    facts: list[SaidOut]
    left_there: list[SaidOut]
    unreadable: list[str]
    is_draft: bool
    differences: list[DifferenceOut]
    history: list[ListingEventOut]


class StandIn(Schema):
    """How a listing is to stand there."""

    state: Literal["live", "hidden", "ended"]


@router.get("/listings/{int:listing_id}", response=ListingOut, operation_id="get_listing")
def get(request: HttpRequest, listing_id: int) -> Any:
    """One listing."""
    actor(request)
    return listing_page(listing_id)


@router.post("/listings/{int:listing_id}/stand", response=Said, operation_id="stand_listing")
def stand(request: HttpRequest, listing_id: int, body: StandIn) -> Any:
    """Hide or end a listing, or have it for sale again."""
    row = standing.stand(actor(request), listing_id, body.state, timezone.now())
    return {"said": f"{row.title} is to be {standing.SAID[body.state]} at {row.connection.name}.", "id": row.pk}


@router.post("/listings/{int:listing_id}/refresh", response=Said, operation_id="refresh_listing")
def refresh(request: HttpRequest, listing_id: int) -> Any:
    """Tell a listing its title and description anew, in the background; answers with the run."""
    run = refreshing.ask_refresh(actor(request), listing_id)
    return {"said": f"{run.connection.name} is being told the texts.", "id": run.pk}


@router.post("/listings/{int:listing_id}/again", response=Said, operation_id="send_listing_again")
def again(request: HttpRequest, listing_id: int) -> Any:
    """Work quantity and price of a listing out anew and send both, whatever stands there now."""
    who = actor(request)
    who.need(Ability.PAIR)
    row = get_listing(listing_id)
    if row.item_id is None or row.offered is None:
        raise RefusedError("Nothing of ours stands there: it is not paired, or nothing of it goes out.", field="link")
    with transaction.atomic():
        woken = offers.push_again(row)
        repriced = prices.push_again(row) if PriceOffer.objects.filter(listing=row).exists() else set()
        audit(who, "send listing again", "listing", row.pk)
    for connection_id in woken:
        wake_push(connection_id)
    for connection_id in repriced:
        wake_prices(connection_id)
    state = Listing.objects.values_list("connection__state", flat=True).get(pk=row.pk)
    return {"said": "It is being sent again." if state == "live" else "It is sent once the connection is live.", "id": row.pk}
