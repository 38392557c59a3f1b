"""Resolving snags: try again, or set aside with a reason."""

from __future__ import annotations

from django.db import transaction
from django.db.models import Q
from django.utils import timezone

from yuvrel.core.errors import BadInputError, NotFoundError, RefusedError, YuvrelError
from yuvrel.people.roles import Ability, Actor, audit

from . import inbound, outbound, prices, refreshing
from .actions import end_pause
from .jobs import wake_deliver, wake_exchange, wake_prices, wake_push
from .models import Listing, OutboundMessage, Snag
from .offers import push_again

# What a fault of the account stopped; anything else is put right by the next exchange.
MOST_AT_ONCE = 500
WAKE = {"push": wake_push, "deliver": wake_deliver, "prices": wake_prices}


def get_snag(snag_id: int) -> Snag:
    """The snag. Raises NotFoundError."""
    snag = Snag.objects.select_related("connection", "inbound__connection", "outbound", "listing").filter(pk=snag_id).first()
    if snag is None:
        raise NotFoundError("There is no such snag.")
    return snag


@transaction.atomic
def try_again(actor: Actor, snag_id: int) -> str:
    """Do once more what could not be done. Returns in a sentence what happened."""
    actor.need(Ability.RESOLVE)
    snag = get_snag(snag_id)
    if snag.resolved_at:
        raise RefusedError("This snag is resolved already.", field="state")
    audit(actor, "try snag again", "snag", snag.pk)
    if snag.inbound and snag.inbound.kind == outbound.ANSWER:
        return f"Taken in: {outbound.answer_again(snag.inbound, timezone.now())}."
    if snag.inbound:
        outcome = inbound.try_again(snag.inbound)
        still = Snag.objects.filter(inbound=snag.inbound, resolved_at=None).first()
        return f"It is still stuck: {still.detail}" if still else f"Taken in: {outcome}."
    if snag.outbound:
        end_pause(snag.outbound.connection)
        OutboundMessage.objects.filter(pk=snag.outbound.pk).update(state="waiting", attempts=0, next_try_at=timezone.now())
        wake_deliver(snag.outbound.connection_id)
        return "It is being sent again."
    if snag.listing:
        return _listing_again(actor, snag.kind, Listing.objects.select_related("connection").get(pk=snag.listing.pk))
    if snag.connection:
        if snag.kind == "listings":
            raise RefusedError("Have them corrected, then import the listings again on the connection's page.", field="kind")
        end_pause(snag.connection)
        WAKE.get(snag.kind, wake_exchange)(snag.connection.pk)
        return "The connection is being tried again."
    raise RefusedError("There is nothing to try again; set it aside.", field="kind")


def _of_cause(kind: str, connection_id: int | None) -> list[int]:
    """The open snags of a kind at a connection, or at none, the oldest first."""
    of = Q(connection=None) if connection_id is None else Q(connection_id=connection_id)
    found = Snag.objects.filter(of, resolved_at=None, kind=kind).order_by("pk")
    return list(found.values_list("pk", flat=True)[:MOST_AT_ONCE])


def try_all_again(actor: Actor, kind: str, connection_id: int | None) -> str:
    """Try every open snag of one cause again, each by itself. Returns in a sentence what came of it."""
    actor.need(Ability.RESOLVE)
    ids = _of_cause(kind, connection_id)
    if not ids:
        raise NotFoundError("There is no such snag any more.")
    stuck = ""
    refused = 0
    for snag_id in ids:
        try:
            try_again(actor, snag_id)
        except YuvrelError as error:
            refused += 1
            stuck = stuck or error.detail
    still = Snag.objects.filter(pk__in=ids, resolved_at=None).count()
    said = f"{len(ids)} tried again, {len(ids) - still} resolved at once."
    return f"{said} {refused} cannot be tried: {stuck}" if refused else said


def _listing_again(actor: Actor, kind: str, listing: Listing) -> str:
    if kind in (prices.SNAG, prices.GROUP_SNAG):
        return _price_again(kind, listing)
    if kind == refreshing.SNAG:
        refreshing.ask_refresh(actor, listing.pk)
        return "The texts are being sent again."
    for connection_id in push_again(listing):
        wake_push(connection_id)
    return "The offer is being sent again."


def _price_again(kind: str, listing: Listing) -> str:
    for connection_id in prices.push_again(listing):
        wake_prices(connection_id)
    return prices.STILL_HELD if prices.is_below_floor(kind, listing) else "The price is being sent again."


@transaction.atomic
def set_all_aside(actor: Actor, kind: str, connection_id: int | None, why: str) -> int:
    """Close every open snag of one cause with one reason. Returns how many."""
    actor.need(Ability.RESOLVE)
    ids = _of_cause(kind, connection_id)
    for snag_id in ids:
        set_aside(actor, snag_id, why)
    return len(ids)


@transaction.atomic
def set_aside(actor: Actor, snag_id: int, why: str) -> Snag:
    """Close a snag without doing anything; the reason stays."""
    actor.need(Ability.RESOLVE)
    if not why.strip():
        raise BadInputError("Enter the reason for setting it aside.", field="why")
    snag = get_snag(snag_id)
    snag.resolved_at, snag.resolved_how = timezone.now(), f"set aside by {actor.name}: {why.strip()}"[:120]
    snag.save()
    audit(actor, "set snag aside", "snag", snag.pk, after={"why": why})
    return snag
