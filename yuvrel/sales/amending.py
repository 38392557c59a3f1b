"""An order that was edited at the channel after a part of it had left: the rest follows, what has left stands."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal

from yuvrel.core import edits
from yuvrel.core.edits import GOODS
from yuvrel.core.money import ZERO

from .incoming import IncomingLine, IncomingOrder
from .models import OrderLine, SalesOrder


def _key(kind: str, external_id: str, sku: str, title: str) -> str:
    """What a line is known by in two versions: the channel's own id, else what it is."""
    return external_id or f"{kind}:{sku or title}"


def _ours(order: SalesOrder) -> dict[str, OrderLine]:
    return {_key(line.kind, line.external_id, line.sku, line.title): line for line in order.lines.order_by("pk")}


def _theirs(lines: Sequence[IncomingLine]) -> dict[str, IncomingLine]:
    return {_key(line.kind, line.external_id, line.sku, line.title): line for line in lines}


def left_of(line: OrderLine) -> Decimal:
    """Units of goods that have not left yet."""
    return line.quantity - line.shipped if line.kind in GOODS else ZERO


def obstacle(order: SalesOrder, incoming: IncomingOrder) -> str:
    """Why the new version cannot be followed, as a sentence; empty when it can."""
    names = ("title", "kind", "item_id", "shipped", "invoiced", "invoiced_net", "invoiced_tax")
    begun = {key: edits.Begun(**{name: getattr(line, name) for name in names}) for key, line in _ours(order).items()}
    edited = {
        key: edits.Edited(line.title, line.kind, line.item_id, line.quantity, *line.facts().taxed(order.currency))
        for key, line in _theirs(incoming.lines).items()
    }
    return edits.obstacle(begun, edited)


def book_again(order: SalesOrder, lines: Sequence[IncomingLine], currency: str) -> list[OrderLine]:
    """Write the lines of the new version over what has left; the rows come in the order of the lines."""
    kept = _ours(order)
    rows = []
    for line in lines:
        row = kept.pop(_key(line.kind, line.external_id, line.sku, line.title), None) or OrderLine(
            order=order, kind=line.kind, item_id=line.item_id, external_id=line.external_id, sku=line.sku
        )
        row.net, row.tax = line.facts().taxed(currency)
        row.title, row.quantity, row.units, row.tax_percent = line.title, line.quantity, line.units, line.tax_percent
        row.save()
        rows.append(row)
    order.net = sum((row.net for row in rows), ZERO)
    return rows


def cut_to_shipped(order: SalesOrder) -> None:
    """Of an order that was cancelled after a part had left, that part stays as it was invoiced."""
    for line in order.lines.filter(invoiced__gt=0):
        if line.kind in GOODS and line.shipped < line.quantity:
            line.quantity, line.net, line.tax = line.shipped, line.invoiced_net, line.invoiced_tax
            line.past_zero = min(line.past_zero, line.quantity)
            line.save()
