"""Orders there, against ours: what was paid back of them at a channel, and those that the ledger keeps as quotes or sales
orders."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import datetime
from decimal import Decimal

from django.db.models import F, QuerySet, Sum
from django.db.models.functions import Coalesce

from yuvrel.channels.ledger_out import ORDER, state_of
from yuvrel.channels.models import Connection, OutboundMessage
from yuvrel.connectors.capabilities import LedgerOrders
from yuvrel.connectors.messages import RemoteOrder
from yuvrel.core.money import ZERO
from yuvrel.events.actions import waiting_for
from yuvrel.events.models import Event
from yuvrel.sales.models import CreditNote, SalesOrder

from .keeping import Finding


def paid_back_there(theirs: Mapping[str, RemoteOrder], takes_back: Iterable[RemoteOrder]) -> dict[str, Decimal]:
    """What a channel says was paid back of each order: in the order itself, or by receipts that take it back."""
    found: dict[str, Decimal] = {}
    for key, order in theirs.items():
        if order.refunds:
            found[key] = sum((one.paid for one in order.refunds), ZERO)
    for order in takes_back:
        found[order.refund_of] = found.get(order.refund_of, ZERO) + order.total
    return found


def paid_back_here(connection: Connection, since: datetime) -> dict[str, Decimal]:
    """The same as our credit notes say, in the channel's currency: of those that the channel has paid back, for orders placed
    since a moment."""
    rows = CreditNote.objects.filter(order__connection=connection, order__placed_at__gte=since).exclude(external_id="")
    sums = rows.values_list("order__external_id").annotate(total=Sum(Coalesce("stated", "refunded")))
    return dict(sums.order_by())


def stands(total: Decimal, cancelled: bool, back: Decimal | None) -> str:
    """An order in a line: its total, whether it is cancelled, what was paid back."""
    return f"{total:.2f} {'cancelled' if cancelled else 'open'}{f', {back:.2f} paid back' if back else ''}"


def compare_orders(connection: Connection, connector: object) -> list[Finding]:
    """What differs between the orders that the ledger was told of and those that it holds: how they stand and what they
    come to. One that was told meanwhile, or is to be told, is not judged."""
    if not isinstance(connector, LedgerOrders):
        return []
    messages = OutboundMessage.objects.filter(kind=ORDER, connection=connection)
    before = _told(messages)
    there = connector.orders_there()
    moving = set(waiting_for("messages").filter(kind=Event.Kind.ORDER).values_list("subject_id", flat=True))
    still = {pk for pk, at in _told(messages).items() if before.get(pk) == at} - moving
    orders = SalesOrder.objects.filter(pk__in=messages.values("subject_id")).order_by("pk")
    # One statement for all of them: the ledger keeps every order of every year.
    facts = orders.annotate(comes_to=Sum(F("lines__net") + F("lines__tax"))).values_list("pk", "number", "state", "comes_to")
    findings = []
    for pk, number, state, comes_to in facts:
        found = there.pop(number, None)
        ours = f"{state_of(state)}, {comes_to or ZERO:.2f}"
        theirs = f"{found.state}, {found.total:.2f}" if found else "not there"
        if pk in still and ours != theirs:
            findings.append(Finding(f"order:{pk}", f"Order {number} in the ledger", ours, theirs, "", {"order": pk}))
    for number, found in there.items():
        theirs = f"{found.state}, {found.total:.2f}"
        findings.append(Finding(f"order there:{number}", f"Order {number} in the ledger", "not ours", theirs))
    return findings


def _told(messages: QuerySet[OutboundMessage]) -> dict[int, datetime | None]:
    """Orders that were told, and when."""
    sent = messages.filter(state=OutboundMessage.State.SENT)
    return dict(sent.values_list("subject_id", "sent_at"))
