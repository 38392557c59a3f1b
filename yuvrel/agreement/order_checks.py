"""Orders that the ledger keeps as quotes or sales orders, against ours."""

from __future__ import annotations

from yuvrel.channels.ledger_out import ORDER, state_of, total_of
from yuvrel.channels.models import Connection, OutboundMessage
from yuvrel.connectors.capabilities import LedgerOrders
from yuvrel.events.actions import waiting_for
from yuvrel.events.models import Event
from yuvrel.sales.models import SalesOrder

from .keeping import Finding


def compare_orders(connection: Connection, connector: object) -> list[Finding]:
    """What differs between the orders that the ledger was told of and those that it holds: how they stand and what they
    come to. One that is being told just now is not judged."""
    if not isinstance(connector, LedgerOrders):
        return []
    there = connector.orders_there()
    messages = OutboundMessage.objects.filter(kind=ORDER, connection=connection)
    moving = set(messages.exclude(state=OutboundMessage.State.SENT).values_list("subject_id", flat=True))
    moving |= set(waiting_for("messages").filter(kind=Event.Kind.ORDER).values_list("subject_id", flat=True))
    told = SalesOrder.objects.filter(pk__in=messages.values("subject_id")).prefetch_related("lines")
    findings = []
    for order in told.order_by("pk"):
        found = there.pop(order.number, None)
        if order.pk in moving:
            continue
        ours = f"{state_of(order)}, {total_of(order):.2f}"
        theirs = f"{found.state}, {found.total:.2f}" if found else "not there"
        if ours != theirs:
            title = f"Order {order.number} in the ledger"
            findings.append(Finding(f"order:{order.pk}", title, ours, theirs, "", {"order": order.pk}))
    for number, found in there.items():
        theirs = f"{found.state}, {found.total:.2f}"
        findings.append(Finding(f"order there:{number}", f"Order {number} in the ledger", "not ours", theirs))
    return findings
