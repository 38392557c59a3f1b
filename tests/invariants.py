"""The invariants of the domain as one assertion, called after every step of what may happen."""

from __future__ import annotations

from collections import defaultdict
from decimal import Decimal as D
from fractions import Fraction

from django.db.models import Sum

from yuvrel.books.models import JournalEntry, JournalLine
from yuvrel.sales.models import Reservation
from yuvrel.stock.models import ItemCost, LotBalance, StockBalance, StockMove


def assert_invariants() -> None:
    """Invariants 1 to 4 and 7, straight from the tables."""
    moved: dict[tuple[int, int], D] = defaultdict(D)
    lots: dict[tuple[int, int], D] = defaultdict(D)
    worth: dict[int, D] = defaultdict(D)
    for move in StockMove.objects.all():
        moved[move.item_id, move.location_id] += move.quantity
        worth[move.item_id] += move.value
        if move.lot_id:
            lots[move.lot_id, move.location_id] += move.quantity
    open_, owed = defaultdict(D), defaultdict(D)
    for row in Reservation.objects.all():
        {"open": open_, "backorder": owed}.get(row.state, defaultdict(D))[row.item_id, row.location_id] += row.quantity
    for balance in StockBalance.objects.all():
        key = (balance.item_id, balance.location_id)
        assert balance.on_hand == moved[key], "1: moves add up to on hand"
        assert (balance.committed, balance.backordered) == (open_[key], owed[key]), "2: committed is what is reserved"
    for lot in LotBalance.objects.all():
        assert lot.on_hand == lots[lot.lot_id, lot.location_id], "1: moves add up to a lot's balance"
    for entry in JournalEntry.objects.annotate(total=Sum("lines__amount")):
        assert entry.total == 0, "3: entries balance"
    booked: dict[int | None, D] = defaultdict(D)
    for line in JournalLine.objects.filter(account__role="inventory"):
        booked[line.item_id] += line.amount
    for cost in ItemCost.objects.all():
        assert cost.value == booked[cost.item_id] == worth[cost.item_id], "4: shelf and books agree to the cent"
        assert cost.quantity == sum(q for (item, _), q in moved.items() if item == cost.item_id)


def exact_value(events: list[tuple[str, D, D]]) -> Fraction:
    """The value of stock by exact moving average; `events` are (in or out, units, value when in)."""
    units, value = Fraction(0), Fraction(0)
    for kind, quantity, money in events:
        if kind == "in":
            units, value = units + Fraction(quantity), value + Fraction(money)
        else:
            value -= value * Fraction(quantity) / units
            units -= Fraction(quantity)
    return value
