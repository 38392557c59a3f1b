"""The invariants of the domain as one assertion, called after every step of what may happen."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from dataclasses import dataclass, field
from decimal import Decimal as D
from fractions import Fraction
from typing import Any

from django.apps import apps
from django.db.models import DecimalField, F, Sum
from django.db.models.functions import Coalesce

from yuvrel.books.models import JournalEntry, JournalLine, LedgerDocument
from yuvrel.buying.models import PurchaseLine, PurchaseOrder
from yuvrel.channels.models import OutboundMessage
from yuvrel.core.cost import from_kept
from yuvrel.sales.models import CreditLine, CreditNote, OrderLine, Reservation, ReturnLine, ReturnPart, SalesOrder, ShipmentLine
from yuvrel.stock.models import (
    DocumentReservation,
    ItemCost,
    LotBalance,
    StockBalance,
    StockMove,
    Transfer,
    TransferLine,
    TransferPart,
)

Pair = tuple[int, int]


def assert_invariants() -> None:
    """Invariants 1 to 4 and 8, straight from the tables; walked from both sides, so that nothing is left out."""
    moved: dict[Pair, D] = defaultdict(D)
    lots: dict[Pair, D] = defaultdict(D)
    worth: dict[int, D] = defaultdict(D)
    units: dict[int, D] = defaultdict(D)
    for item, place, lot, quantity, value in StockMove.objects.values_list("item", "location", "lot", "quantity", "value"):
        moved[item, place] += quantity
        worth[item] += value
        units[item] += quantity
        if lot:
            lots[lot, place] += quantity
    open_: dict[Pair, D] = defaultdict(D)
    owed: dict[Pair, D] = defaultdict(D)
    kept = {"open": open_, "backorder": owed}
    reserved = Reservation.objects.filter(state__in=kept)
    for state, item, place, quantity in reserved.values_list("state", "item", "location", "quantity"):
        kept[state][item, place] += quantity
    for item, place, quantity in DocumentReservation.objects.values_list("item", "location", "quantity"):
        open_[item, place] += quantity
    balances = list(StockBalance.objects.values("item", "location", "on_hand", "committed", "backordered", "incoming"))
    for sums, name, what in (
        (moved, "on_hand", "1: moves add up to on hand"),
        (open_, "committed", "2: committed is what is reserved, for orders and other documents"),
        (owed, "backordered", "2: what is owed is what is backordered"),
        (_incoming(), "incoming", "8: incoming is ordered and not yet here"),
    ):
        assert_same(sums, {(row["item"], row["location"]): row[name] for row in balances}, what)
    found = {(lot, place): there for lot, place, there in LotBalance.objects.values_list("lot", "location", "on_hand")}
    assert_same(lots, found, "1: moves add up to a lot's balance")
    totals = JournalEntry.objects.annotate(total=Sum("lines__amount")).values_list("document", "total")
    off = [document for document, total in totals if total != 0]
    assert not off, f"3: entries balance: {off}"
    booked = _booked("inventory")
    assert None not in booked, "4: every line on the inventory account names its item"
    costs = list(ItemCost.objects.all())
    assert_same(booked, {row.item_id: row.value for row in costs}, "4: shelf and books agree to the cent")
    assert_same(worth, {row.item_id: row.value for row in costs}, "4: moves carry the value")
    assert_same(units, {row.item_id: row.quantity for row in costs}, "4: costs count the units")
    for row in costs:
        kept = from_kept(row.layers)
        sums = sum((one.quantity for one in kept), D(0)), sum((one.value for one in kept), D(0))
        assert not kept or sums == (row.quantity, row.value), "4: layers add up to what is there"
    control = JournalLine.objects.filter(account__role="inventory").aggregate(total=Sum("amount"))["total"] or D(0)
    assert control == sum(worth.values(), D(0)), "4: the control account is the value of all stock"
    assert_in_transit()
    assert_nets()
    assert_given_back()


def assert_nothing_crosses() -> None:
    """No row of a company points to a row of another's, in whatever table."""
    paths = {model: model._default_manager.company_path for model in owned_models()}
    for model, path in paths.items():
        for column in model._meta.concrete_fields:
            other = paths.get(column.related_model)
            if other is None:
                continue
            astray = model._base_manager.exclude(**{column.name: None}).exclude(**{path: F(f"{column.name}__{other}")})
            assert not astray.exists(), f"{model.__name__}.{column.name} leads to another company"


def owned_models() -> list[Any]:
    """Every table whose rows belong to companies."""
    return [model for model in apps.get_models() if hasattr(model._default_manager, "company_path")]


def _booked(role: str) -> dict[int | None, D]:
    """What stands on the accounts of a role, by item."""
    found: dict[int | None, D] = defaultdict(D)
    for item, amount in JournalLine.objects.filter(account__role=role).values_list("item", "amount"):
        found[item] += amount
    return found


def _incoming() -> dict[Pair, D]:
    found: dict[Pair, D] = defaultdict(D)
    lines = PurchaseLine.objects.filter(order__state__in=PurchaseOrder.OPEN).select_related("order")
    for line in lines:
        found[line.item_id, line.order.location_id] += line.quantity - line.received
    for moved in TransferLine.objects.filter(transfer__state__in=Transfer.OPEN).select_related("transfer"):
        found[moved.item_id, moved.transfer.destination_id] += moved.left
    return found


def assert_in_transit() -> None:
    """What is on the way is worth what the books say, item by item, and nothing stays of what is settled."""
    worth: dict[int | None, D] = defaultdict(D)
    units: dict[int, D] = defaultdict(D)
    for part in TransferPart.objects.select_related("line__transfer"):
        sign = 1 if part.kind == TransferPart.Kind.SENT else -1
        worth[part.line.item_id] += sign * part.value
        units[part.line_id] += sign * part.quantity
    assert_same(worth, _booked("in_transit"), "goods in transit: parts and books agree to the cent")
    open_lines = {row.pk: row.left for row in TransferLine.objects.filter(transfer__state__in=Transfer.OPEN)}
    assert_same(units, open_lines, "goods in transit: parts add up to what is on the way")


def assert_same(one: Mapping[Any, D], other: Mapping[Any, D], what: str) -> None:
    """Two tables of sums agree; what stands in neither is zero."""
    off = {
        key: (one.get(key, D(0)), other.get(key, D(0))) for key in {*one, *other} if one.get(key, D(0)) != other.get(key, D(0))
    }
    assert not off, f"{what}: {off}"


def assert_nets() -> None:
    """What an order keeps as its net is what its lines come to."""
    orders = SalesOrder.objects.annotate(lines_net=Coalesce(Sum("lines__net"), D(0), output_field=DecimalField()))
    for number, net, lines_net in orders.values_list("number", "net", "lines_net"):
        assert net == lines_net, number


def assert_given_back() -> None:
    """What an order's lines say came back and was credited is what the documents say; nothing comes back dearer than it left,
    and what came back is worth what the books say."""
    coming: dict[int, D] = defaultdict(D)
    for sold, quantity in ReturnLine.objects.values_list("order_line", "quantity"):
        coming[sold] += quantity
    lines = list(OrderLine.objects.values("pk", "returned", "credited", "credited_net", "credited_tax"))
    assert_same(coming, {row["pk"]: row["returned"] for row in lines}, "returns: lines add up to what comes back")
    units: dict[int, D] = defaultdict(D)
    money: dict[int, D] = defaultdict(D)
    for given in CreditLine.objects.all():
        units[given.order_line_id] += given.quantity
        money[given.order_line_id] += given.gross
    assert_same(units, {row["pk"]: row["credited"] for row in lines}, "credits: units")
    assert_same(money, {row["pk"]: row["credited_net"] + row["credited_tax"] for row in lines}, "credits: amounts")
    left: dict[int, D] = defaultdict(D)
    for sold, cost in ShipmentLine.objects.values_list("order_line", "cost"):
        left[sold] += cost
    back: dict[str, D] = defaultdict(D)
    for part in ReturnPart.objects.select_related("line__back", "line__order_line"):
        left[part.line.order_line_id] -= part.value
        back[part.line.back.number] += part.value
    assert all(cost >= 0 for cost in left.values()), "returns: more came back than it left with"
    for note in CreditNote.objects.all():
        entry = JournalEntry.objects.filter(document=note.number, kind="credit note").first()
        if entry is None:
            # A channel may say that goods came back and nothing was paid.
            assert not any(line.gross for line in note.lines.all()), "credits: a note that gives something back is booked"
            continue
        credited = entry.lines.filter(amount__lt=0).exclude(account__role="surcharge_income").aggregate(t=Sum("amount"))["t"]
        assert -(credited or D(0)) == note.total, "credits: the books say what the note does"
    booked: dict[str, D] = defaultdict(D)
    for line in JournalLine.objects.filter(entry__kind="return", account__role="cost_of_sales", memo="").select_related("entry"):
        booked[line.entry.document] -= line.amount
    assert_same(back, booked, "returns: cost of sales goes back by what came back")


def assert_told_once() -> None:
    """Invariants 5 and 6: one order for one external id, one document for one entry, one message for one document."""
    orders = list(SalesOrder.objects.values_list("connection_id", "external_id"))
    assert len(orders) == len(set(orders)), "5: an order twice"
    entries = list(LedgerDocument.objects.exclude(entry=None).values_list("entry_id", flat=True))
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

    def take_in(self, quantity: D, price: D | Fraction | None = None) -> None:
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


@dataclass
class ExactFirstIn(ExactCost):
    """First in, first out with fractions: every unit, or part of one, keeps what it came in at."""

    there: list[tuple[Fraction, Fraction]] = field(default_factory=list)

    def take_in(self, quantity: D, price: D | Fraction | None = None) -> None:
        """As at the average; what is not owed is the newest."""
        each = self.average if price is None else Fraction(price)
        super().take_in(quantity, price)
        rest = min(Fraction(quantity), self.units)
        if rest > 0:
            self.there.append((rest, each))

    def take_out(self, quantity: D) -> None:
        """The oldest leave first; what is not there leaves at the cost of the last that was."""
        left = Fraction(quantity)
        each = self.average
        while left and self.there:
            units, each = self.there.pop(0)
            taken = min(left, units)
            self.value -= taken * each
            left -= taken
            if taken < units:
                self.there.insert(0, (units - taken, each))
        self.value -= left * each
        self.units -= Fraction(quantity)
        self.average = self.value / self.units if self.units > 0 else each
