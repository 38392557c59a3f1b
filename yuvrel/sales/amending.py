"""An order that was edited at the channel after a part of it had left: the rest follows, what has left stands."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal

from yuvrel.core.money import ZERO, spoken

from .incoming import IncomingLine, IncomingOrder
from .models import OrderLine, SalesOrder

GOODS = ("item", "service")


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
    theirs = _theirs(incoming.lines)
    more = any(line.kind in GOODS and line.quantity > 0 for line in theirs.values())
    for key, line in _ours(order).items():
        told = theirs.get(key)
        if line.shipped and (told is None or told.quantity < line.shipped):
            return f"Of {line.title}, {spoken(line.shipped)} have left; the channel wants fewer now."
        if line.shipped and told is not None and (told.item_id, told.kind) != (line.item_id, line.kind):
            return f"{line.title} has left in part; the channel made another thing of it."
        if not line.invoiced:
            continue
        net, tax = told.facts().taxed(order.currency) if told else (ZERO, ZERO)
        done = line.invoiced >= (told.quantity if told else ZERO)
        if done and (net, tax) != (line.invoiced_net, line.invoiced_tax):
            return f"{line.title} is invoiced; the channel charges another amount for it now."
        if line.kind in GOODS and net < line.invoiced_net:
            return f"{line.title} comes to less now than what of it is invoiced."
    if not more:
        return "The channel names nothing to send any more."
    waits = any(
        key not in _ours(order) or line.quantity > _ours(order)[key].shipped for key, line in theirs.items() if line.kind in GOODS
    )
    charged = [line.title for key, line in theirs.items() if line.kind not in GOODS and key not in _ours(order)]
    if charged and not waits:
        return f"Everything has left; {charged[0]} would never be invoiced."
    return ""


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
