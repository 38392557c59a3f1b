"""Orders of the time before: they count as demand and as what a customer bought, and touch neither stock nor books."""

from __future__ import annotations

from decimal import Decimal

from django.db import transaction

from yuvrel.people.queries import company, company_day
from yuvrel.people.roles import Actor

from .actions import book_lines, claim, customer_of
from .foreign import in_our_currency, state
from .incoming import IncomingOrder, faults
from .late_demand import note_demand
from .models import OrderLine, SalesOrder


@transaction.atomic
def take_past(actor: Actor, incoming: IncomingOrder, kind: str = SalesOrder.Kind.ORDER) -> str:
    """Take an order in as history: closed, its lines kept, nothing reserved, moved or posted.

    One that is here already stays as it is, but a line of it that no item was known for takes its item now. Returns
    *new*, *changed*, *unchanged*, or *left out* for one that is cancelled, in a currency without a
    rate, or here as a living order.
    """
    currency = company().base_currency
    incoming = in_our_currency(None, incoming)
    if incoming.cancelled or incoming.currency != currency:
        return "left out"
    order = claim(incoming, kind)
    if order.external_version >= 0:
        return _name_items(order, incoming) if order.history else "left out"
    # What does not add up is kept as it came: nothing is posted from it.
    problem, _ = faults(incoming, currency)
    rows = book_lines(order, [line for line in incoming.lines if line.quantity > 0], currency)
    for row in rows:
        row.shipped = row.quantity if row.kind in ("item", "service") else Decimal(0)
    OrderLine.objects.bulk_update(rows, ["shipped"])
    state(order, incoming)
    order.external_version, order.history, order.state = incoming.version, True, SalesOrder.State.CLOSED
    order.customer, order.held_because = customer_of(incoming), problem[:300]
    order.save()
    note_demand({row.item_id for row in rows if row.item_id}, company_day(order.placed_at), f"past order {order.number}")
    return "new"


def _name_items(order: SalesOrder, incoming: IncomingOrder) -> str:
    """Give the lines of a past order the items that are known by now."""
    known = {(line.external_id, line.title): line for line in incoming.lines if line.item_id}
    named = set[int]()
    for row in order.lines.filter(item=None, kind__in=("item", "service")):
        found = known.get((row.external_id, row.title))
        if found is not None and found.item_id:
            row.item_id, row.sku = found.item_id, found.sku
            row.save(update_fields=["item", "sku"])
            named.add(found.item_id)
    note_demand(named, company_day(order.placed_at), f"past order {order.number}")
    return "changed" if named else "unchanged"
