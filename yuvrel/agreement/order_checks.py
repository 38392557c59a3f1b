"""Orders that the ledger keeps as quotes or sales orders, against ours."""

from __future__ import annotations

from datetime import datetime

from django.db.models import F, QuerySet, Sum

from yuvrel.channels.ledger_out import ORDER, state_of
from yuvrel.channels.models import Connection, OutboundMessage
from yuvrel.connectors.capabilities import LedgerOrders
from yuvrel.core.money import ZERO
from yuvrel.events.actions import waiting_for
from yuvrel.events.models import Event
from yuvrel.sales.models import SalesOrder

from .keeping import Finding


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
