"""The invariants of the domain as one assertion, called after every step of what may happen."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass
from decimal import Decimal as D
from fractions import Fraction

from django.db.models import DecimalField, Sum
from django.db.models.functions import Coalesce

from yuvrel.books.models import JournalEntry, JournalLine, LedgerDocument
from yuvrel.channels.models import OutboundMessage
from yuvrel.sales.models import Reservation, SalesOrder
from yuvrel.stock.models import ItemCost, LotBalance, StockBalance, StockMove


def assert_invariants() -> None:
    """Invariants 1 to 4, straight from the tables."""
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
    units: dict[int, D] = defaultdict(D)
    for (item_id, _), quantity in moved.items():
        units[item_id] += quantity
    for cost in ItemCost.objects.all():
        assert cost.value == booked[cost.item_id] == worth[cost.item_id], "4: shelf and books agree to the cent"
        assert cost.quantity == units[cost.item_id]
    assert_nets()


def assert_nets() -> None:
    """What an order keeps as its net is what its lines come to."""
    for order in SalesOrder.objects.annotate(lines_net=Coalesce(Sum("lines__net"), D(0), output_field=DecimalField())):
        assert order.net == order.lines_net, order.number


def assert_told_once() -> None:
    """Invariants 5 and 6: one order for one external id, one document for one entry, one message for one document."""
    orders = list(SalesOrder.objects.values_list("connection_id", "external_id"))
    assert len(orders) == len(set(orders)), "5: an order twice"
    entries = list(LedgerDocument.objects.values_list("entry_id", flat=True))
    numbers = list(LedgerDocument.objects.values_list("number", flat=True))
    assert sorted(entries) == sorted(JournalEntry.objects.values_list("pk", flat=True)), "6: a document for each entry"
    assert len(numbers) == len(set(numbers)), "6: a number twice"
    told = list(OutboundMessage.objects.filter(kind="ledger").values_list("subject_id", flat=True))
    assert len(told) == len(set(told)), "6: a document queued twice"


@dataclass
class ExactCost:
    """The moving average with fractions instead of cents: what the books would say without any rounding."""

    units: Fraction = Fraction(0)
    value: Fraction = Fraction(0)
    average: Fraction = Fraction(0)

    def take_in(self, quantity: D, price: D | None = None) -> None:
        """Units come in at a price, or at the average; below zero they first cover what is owed, at the
        cost at which it left."""
        units = Fraction(quantity)
        each = self.average if price is None else Fraction(price)
        covered = min(units, max(Fraction(0), -self.units))
        true_up = covered * (each - self.value / self.units) if covered else Fraction(0)
        self.value += units * each - true_up
        self.units += units
        self.average = self.value / self.units if self.units > 0 else each

    def take_out(self, quantity: D) -> None:
        """Units leave at the average; what is not there leaves at the last one."""
        self.value -= Fraction(quantity) * self.average
        self.units -= Fraction(quantity)
