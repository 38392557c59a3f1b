"""Whether an order that was edited at the channel can be followed after a part of it has left."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from decimal import Decimal

from .money import ZERO, spoken
from .orders import LineKind

GOODS = ("item", "service")


@dataclass(frozen=True)
class Begun:
    """A line here: what of it has left and is invoiced."""

    title: str
    kind: LineKind
    item_id: int | None
    shipped: Decimal = ZERO
    invoiced: Decimal = ZERO
    invoiced_net: Decimal = ZERO
    invoiced_tax: Decimal = ZERO


@dataclass(frozen=True)
class Edited:
    """The line as the channel states it now."""

    title: str
    kind: LineKind
    item_id: int | None
    quantity: Decimal
    net: Decimal
    tax: Decimal


def obstacle(begun: Mapping[str, Begun], edited: Mapping[str, Edited]) -> str:
    """Why the new version cannot be followed, as a sentence; empty when it can. Lines by what they are known by in both.

    What has left stands: it is neither taken back nor made another thing, and what is invoiced keeps its amount. A charge
    that is new needs goods that are still to be sent, as it goes on their invoice.
    """
    for key, line in begun.items():
        why = _of_line(line, edited.get(key))
        if why:
            return why
    goods = {key: line for key, line in edited.items() if line.kind in GOODS}
    if not any(line.quantity > 0 for line in goods.values()):
        return "The channel names nothing to send any more."
    waits = any(key not in begun or line.quantity > begun[key].shipped for key, line in goods.items())
    charged = [line.title for key, line in edited.items() if line.kind not in GOODS and key not in begun]
    if charged and not waits:
        return f"Everything has left; {charged[0]} would never be invoiced."
    return ""


def _of_line(line: Begun, told: Edited | None) -> str:
    if line.shipped and (told is None or told.quantity < line.shipped):
        return f"Of {line.title}, {spoken(line.shipped)} have left; the channel wants fewer now."
    if line.shipped and told is not None and (told.item_id, told.kind) != (line.item_id, line.kind):
        return f"{line.title} has left in part; the channel made another thing of it."
    if not line.invoiced:
        return ""
    net, tax, wanted = (told.net, told.tax, told.quantity) if told else (ZERO, ZERO, ZERO)
    if line.invoiced >= wanted and (net, tax) != (line.invoiced_net, line.invoiced_tax):
        return f"{line.title} is invoiced; the channel charges another amount for it now."
    if line.kind in GOODS and net < line.invoiced_net:
        return f"{line.title} comes to less now than what of it is invoiced."
    return ""
