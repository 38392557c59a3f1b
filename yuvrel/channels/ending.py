"""Taking a connection out of use: what stops with it, what stays, and the way back."""

from __future__ import annotations

import secrets
from collections.abc import Iterator

from django.db import transaction
from django.utils import timezone

from yuvrel.buying.models import PurchaseOrder
from yuvrel.connectors.capabilities import Capability
from yuvrel.core.errors import RefusedError
from yuvrel.people.roles import Ability, Actor, audit
from yuvrel.sales.documents import TO_LEAVE

from .actions import get_connection
from .credentials import kind_of
from .models import Connection, Listing, OutboundMessage, Snag

STAYS = (
    "Its orders, listings, runs and what was exchanged in them, prices, rules and snags stay to be read.",
    "Enter how to sign in again, test it and go live: it goes on where it stopped.",
)


def what_stops(row: Connection) -> list[str]:
    """In sentences, with counts: what no longer happens once it is disconnected."""
    return list(_stops(row))


def _counted(count: int, what: str) -> str:
    return f"{count:,} {what if count == 1 else what + 's'}"


def _stops(row: Connection) -> Iterator[str]:
    can = kind_of(row).can
    if Capability.LISTINGS in can:
        shown = Listing.objects.filter(connection=row, link=Listing.Link.LINKED).count()
        yield f"{_counted(shown, 'listing')} there: what is shown now stays as it is. More may be sold than is here."
    if Capability.ORDERS in can:
        open_orders = row.orders.filter(state__in=TO_LEAVE).count()  # type: ignore[attr-defined]
        yield "Orders placed there are not heard of any more."
        if open_orders:
            yield f"{_counted(open_orders, 'open order')} of it can still be shipped; the channel is not told."
    if Capability.DOCUMENTS in can:
        yield "Postings are kept here and wait; the ledger hears of none of them."
    if Capability.PURCHASES in can:
        waiting = PurchaseOrder.objects.filter(supplier__inboxes__connection=row, state__in=PurchaseOrder.OPEN).count()
        yield "Purchase orders no longer reach the supplier through it, and its answers are not read."
        if waiting:
            yield f"{_counted(waiting, 'purchase order')} of it {'is' if waiting == 1 else 'are'} open."
    messages = OutboundMessage.objects.filter(connection=row, state=OutboundMessage.State.WAITING).count()
    if messages:
        yield f"{_counted(messages, 'message')} to it will not be sent until it is live again."
    yield "How we sign in is forgotten, and messages to our old address for it are no longer taken."


@transaction.atomic
def disconnect(actor: Actor, connection_id: int) -> Connection:
    """Forget how to sign in, stop listening and exchanging; keep everything that was. Raises RefusedError for one that
    was never live: that is deleted, or left as it is."""
    actor.need(Ability.CONNECT)
    row = Connection.objects.select_for_update(of=("self",)).get(pk=get_connection(connection_id).pk)
    if row.state not in (Connection.State.LIVE, Connection.State.PAUSED):
        raise RefusedError(f"A connection that is {row.state} cannot be disconnected.", field="state")
    before = {"state": row.state}
    row.state, row.secrets_sealed, row.webhook_secret_sealed = Connection.State.DISCONNECTED, "", ""
    row.hook_key, row.hook_proved_at = secrets.token_urlsafe(24), None
    row.tested_at, row.pause_until, row.faults = None, None, 0
    row.version += 1
    row.save()
    now = timezone.now()
    Snag.objects.filter(connection=row, resolved_at=None).update(resolved_at=now, resolved_how="the connection was disconnected")
    audit(actor, "disconnect", "connection", row.pk, before, {"state": row.state})
    return row
