"""Purchase orders from draft to receipt."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import Any

from django.db import transaction

from yuvrel.books.actions import Posting, post
from yuvrel.books.models import JournalEntry
from yuvrel.books.rates import rate_on
from yuvrel.catalogue.models import Item
from yuvrel.core import postings
from yuvrel.core.errors import BadInputError, NotFoundError, RefusedError
from yuvrel.core.gtin import normal_sku
from yuvrel.core.money import ZERO, round_money, round_unit_cost, spoken
from yuvrel.core.replenish import SupplierTerms
from yuvrel.documents.actions import lock, next_number, pass_on
from yuvrel.documents.registry import Ref
from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.people.models import Location
from yuvrel.people.queries import company, company_day
from yuvrel.people.roles import Ability, Actor, audit
from yuvrel.platform.bulk import insert_many, update_many
from yuvrel.stock.actions import check_quantity
from yuvrel.stock.moving import Cause, Moving, change_incoming, lock_balances, lots_named

from .documents import PURCHASE_ORDER, RECEIPT
from .models import (
    GoodsReceipt,
    GoodsReceiptLine,
    PriceBreak,
    PurchaseLine,
    PurchaseOrder,
    Supplier,
    SupplierItem,
)

State = PurchaseOrder.State


@dataclass(frozen=True)
class Wanted:
    """A quantity of an item for a location, with the Working that suggested it."""

    item_id: int
    location_id: int
    quantity: Decimal
    working: dict[str, Any] = field(default_factory=dict)


@transaction.atomic
def draft(actor: Actor, wanted: Sequence[Wanted], at: datetime) -> list[PurchaseOrder]:
    """One draft per preferred supplier and location, priced from the supplier's prices.

    Raises BadInputError when an item has no supplier or a quantity is not positive.
    """
    actor.need(Ability.BUY)
    if not wanted:
        raise BadInputError("Select at least one row to buy.", field="lines")
    if len({(w.item_id, w.location_id) for w in wanted}) < len(wanted):
        raise BadInputError("An item is listed twice for one location.", field="lines")
    terms = {
        row.item_id: row
        for row in SupplierItem.objects.select_related("supplier", "item")
        .prefetch_related("prices")
        .filter(item_id__in=[w.item_id for w in wanted], preferred=True)
    }
    groups: dict[tuple[int, int], list[Wanted]] = defaultdict(list)
    for want in wanted:
        if want.item_id not in terms:
            raise BadInputError("An item has no supplier; set one first.", field=f"lines.{want.item_id}")
        if want.quantity <= 0:
            raise BadInputError("The order quantity must be greater than zero.", field=f"lines.{want.item_id}")
        check_quantity(terms[want.item_id].item, want.quantity)
        groups[terms[want.item_id].supplier_id, want.location_id].append(want)
    known = set(Location.objects.values_list("pk", flat=True))
    orders = []
    for (_, location_id), lines in sorted(groups.items()):
        if location_id not in known:
            raise NotFoundError("There is no such location.", field="location")
        orders.append(_draft_one(actor, location_id, lines, terms, at))
    return orders


def _draft_one(
    actor: Actor, location_id: int, lines: Sequence[Wanted], terms: Mapping[int, SupplierItem], at: datetime
) -> PurchaseOrder:
    supplier = terms[lines[0].item_id].supplier
    order = PurchaseOrder.objects.create(
        number=next_number(PURCHASE_ORDER),
        supplier=supplier,
        location_id=location_id,
        currency=supplier.currency,
        expected_on=company_day(at) + timedelta(days=supplier.lead_days),
    )
    PurchaseLine.objects.bulk_create(
        PurchaseLine(
            order=order,
            item_id=w.item_id,
            supplier_code=terms[w.item_id].code,
            quantity=w.quantity,
            price=price_at(list(terms[w.item_id].prices.all()), w.quantity),
            working=w.working,
        )
        for w in lines
    )
    audit(actor, "draft purchase order", "purchase order", order.pk, after={"lines": len(lines)})
    return order


def price_at(prices: Sequence[PriceBreak], quantity: Decimal) -> Decimal:
    """The all-units price of a quantity: that of the highest break it reaches; zero without prices."""
    return SupplierTerms(tuple((row.from_quantity, row.price) for row in prices)).price(quantity)


def lock_draft(order_id: int, version: int) -> PurchaseOrder:
    """The draft, locked. Raises NotFoundError, StaleError, and RefusedError when it was sent already."""
    order = lock(PURCHASE_ORDER, PurchaseOrder, order_id, version)
    if order.state != State.DRAFT:
        raise RefusedError(f"{order.number} is {order.state}; only a draft can be changed.", field="state")
    return order


@transaction.atomic
def change_draft(
    actor: Actor, order_id: int, version: int, lines: Mapping[int, tuple[Decimal, Decimal]], expected_on: date | None
) -> PurchaseOrder:
    """Set quantity and price of a draft's lines; a quantity of zero takes the line off."""
    actor.need(Ability.BUY)
    order = lock_draft(order_id, version)
    rows = {row.pk: row for row in order.lines.select_related("item")}
    for line_id, (quantity, price) in lines.items():
        if line_id not in rows:
            raise BadInputError("That line is not on this order.", field=f"lines.{line_id}")
        if quantity < 0 or price < 0:
            raise BadInputError("Quantity and price cannot be negative.", field=f"lines.{line_id}")
        if quantity == 0:
            rows[line_id].delete()
            continue
        check_quantity(rows[line_id].item, quantity, f"lines.{line_id}")
        rows[line_id].quantity, rows[line_id].price = quantity, price
        rows[line_id].save()
    order.expected_on = expected_on or order.expected_on
    order.version += 1
    order.save()
    audit(actor, "change purchase order", "purchase order", order.pk, after={"version": order.version})
    return order


@transaction.atomic
def send(actor: Actor, order_id: int, version: int, at: datetime) -> PurchaseOrder:
    """A draft becomes sent: its units are incoming, and the supplier's inbox is to be told."""
    actor.need(Ability.BUY)
    order = lock(PURCHASE_ORDER, PurchaseOrder, order_id, version)
    pass_on(PURCHASE_ORDER, order, State.SENT)
    lines = list(order.lines.all())
    if not lines:
        raise RefusedError("There is nothing on this order.", field="lines")
    order.sent_at = at
    order.version += 1
    order.save()
    change_incoming((line.item_id, order.location_id, line.quantity) for line in lines)
    record(Event.Kind.PURCHASE_ORDER, [order.pk], order.number)
    record(Event.Kind.AVAILABILITY, [line.item_id for line in lines], order.number)
    audit(actor, "send purchase order", "purchase order", order.pk)
    return order


@dataclass(frozen=True)
class Answer:
    """What a supplier said; quantities by item SKU."""

    reference: str
    accepted: bool
    note: str = ""
    quantities: Mapping[str, Decimal] = field(default_factory=dict)
    expected_on: date | None = None


@transaction.atomic
def acknowledge(actor: Actor, number: str, answer: Answer, at: datetime) -> str:
    """Note the supplier's answer. Saying it twice changes nothing. Returns what became of it."""
    actor.need(Ability.BUY)
    order = PurchaseOrder.objects.select_for_update().filter(number=number).first()
    if order is None:
        raise NotFoundError(f"There is no purchase order {number}.", field="number")
    if order.acknowledged_at or order.state in (State.CANCELLED, State.DRAFT):
        return "repeated"
    order.acknowledged_at = at
    order.supplier_reference, order.supplier_note = answer.reference[:80], answer.note[:300]
    lines = list(order.lines.select_related("item").order_by("item_id"))
    if not answer.accepted:
        pass_on(PURCHASE_ORDER, order, State.CANCELLED)
        change_incoming((row.item_id, order.location_id, row.received - row.quantity) for row in lines)
    else:
        if order.state == State.SENT:
            pass_on(PURCHASE_ORDER, order, State.ACKNOWLEDGED)
        order.expected_on = answer.expected_on or order.expected_on
        for row in lines:
            row.confirmed = answer.quantities.get(row.item.sku, row.quantity)
            row.save(update_fields=["confirmed"])
    order.version += 1
    order.save()
    record(Event.Kind.AVAILABILITY, [row.item_id for row in lines], f"{number} answered")
    audit(actor, "supplier answered", "purchase order", order.pk, after={"accepted": answer.accepted})
    return "accepted" if answer.accepted else "refused"


@transaction.atomic
def cancel(actor: Actor, order_id: int, version: int) -> PurchaseOrder:
    """Give up what has not arrived."""
    actor.need(Ability.BUY)
    order = lock(PURCHASE_ORDER, PurchaseOrder, order_id, version)
    before = order.state
    pass_on(PURCHASE_ORDER, order, State.CANCELLED)
    if before != State.DRAFT:
        open_lines = [(r.item_id, order.location_id, min(ZERO, r.received - r.quantity)) for r in order.lines.all()]
        change_incoming(open_lines)
        record(Event.Kind.AVAILABILITY, [item for item, _, _ in open_lines], f"{order.number} cancelled")
    order.version += 1
    order.save()
    audit(actor, "cancel purchase order", "purchase order", order.pk)
    return order


@dataclass(frozen=True)
class Arrived:
    """Units that arrived on a line; expiry-tracked items need their lot and its date."""

    line_id: int
    quantity: Decimal
    lot_code: str = ""
    expires_on: date | None = None

    @property
    def lot(self) -> str:
        """The code its lot is kept under."""
        return self.lot_code.strip()[:40]


@transaction.atomic
def receive(actor: Actor, order_id: int, arrived: Sequence[Arrived], at: datetime) -> GoodsReceipt:
    """Take goods in at the order's price and the rate of the day.

    The moving average moves, Goods received not billed is posted, incoming falls. Raises
    RefusedError when more arrives than is still ordered.
    """
    actor.need(Ability.RECEIVE)
    order = lock(PURCHASE_ORDER, PurchaseOrder, order_id)
    if order.state not in PurchaseOrder.OPEN:
        raise RefusedError(f"{order.number} is {order.state}; nothing can be received on it.", field="state")
    lines = {row.pk: row for row in order.lines.select_related("item")}
    arrived = [row for row in arrived if row.quantity]
    _check_arrived(arrived, lines)
    day = company_day(at)
    base = company().base_currency
    rate = rate_on(order.currency, day, base)
    number = next_number(RECEIPT)
    receipt = GoodsReceipt.objects.create(order=order, number=number, received_at=at, rate=rate)
    lock_balances((lines[row.line_id].item_id, order.location_id) for row in arrived)
    values = _bring_in(receipt, lines, arrived, base)
    change_incoming((lines[r.line_id].item_id, order.location_id, -r.quantity) for r in arrived)
    left = any(row.received < row.quantity for row in lines.values())
    pass_on(PURCHASE_ORDER, order, State.PART_RECEIVED if left else State.RECEIVED)
    order.version += 1
    order.save()
    post(
        Posting(
            JournalEntry.Kind.RECEIPT,
            day,
            number,
            postings.receipt(values),
            ref=Ref(RECEIPT.code, receipt.pk),
            memo=f"{order.supplier.name} {order.number}",
        )
    )
    record(Event.Kind.AVAILABILITY, [lines[r.line_id].item_id for r in arrived], f"receipt {number}")
    audit(actor, "receive goods", "purchase order", order.pk, after={"receipt": number})
    return receipt


def _check_arrived(arrived: Sequence[Arrived], lines: Mapping[int, PurchaseLine]) -> None:
    if not arrived:
        raise BadInputError("Enter the quantity received on at least one line.", field="lines")
    if len({row.line_id for row in arrived}) < len(arrived):
        raise BadInputError("A line is given twice.", field="lines")
    for row in arrived:
        line = lines.get(row.line_id)
        if line is None:
            raise BadInputError("That line is not on this order.", field=f"lines.{row.line_id}")
        if row.quantity < 0:
            raise BadInputError("A received quantity cannot be negative.", field=f"lines.{row.line_id}")
        check_quantity(line.item, row.quantity, f"lines.{row.line_id}")
        left = line.quantity - line.received
        if row.quantity > left:
            raise RefusedError(
                f"{line.item.sku}: {spoken(row.quantity)} arrived, but only {spoken(left)} are still "
                "ordered. Receive what was ordered and raise another order for the rest.",
                field=f"lines.{row.line_id}",
            )
        if line.item.expiry_tracked and not (row.lot and row.expires_on):
            raise BadInputError(f"{line.item.sku} expires: give its lot and date.", field=f"lines.{row.line_id}")


def _bring_in(
    receipt: GoodsReceipt, lines: Mapping[int, PurchaseLine], arrived: Sequence[Arrived], base: str
) -> list[tuple[int, Decimal, Decimal]]:
    """Move in what arrived and note it on its lines; (item, value moved, true-up) of each."""
    order = receipt.order
    cause = Cause("receipt", receipt.number, receipt.received_at, Ref(RECEIPT.code, receipt.pk))
    named = {(lines[row.line_id].item_id, row.lot): row.expires_on for row in arrived if row.lot and row.expires_on}
    lots = lots_named(named)
    values, noted = [], []
    with Moving((lines[row.line_id].item_id for row in arrived), cause) as moving:
        for row in arrived:
            line = lines[row.line_id]
            value = round_money(line.price * row.quantity / receipt.rate, base)
            lot = lots.get((line.item_id, row.lot))
            change = moving.put_in(line.item_id, order.location_id, row.quantity, value, lot)
            moving.costs[line.item_id].last_cost = round_unit_cost(value / row.quantity)
            line.received += row.quantity
            noted.append(GoodsReceiptLine(receipt=receipt, line=line, lot=lot, quantity=row.quantity, value=value))
            values.append((line.item_id, change.moved, change.true_up))
    update_many([lines[row.line_id] for row in arrived], ["received"])
    insert_many(noted)
    return values


@transaction.atomic
def take_sent(
    actor: Actor,
    inbox_id: int,
    number: str,
    currency: str,
    lines: Sequence[tuple[str, Decimal, Decimal]],
    expected_on: date | None,
    at: datetime,
) -> PurchaseOrder:
    """An order of ours that a supplier holds and that is not here: it is written anew as it was sent at `at`, lines as (SKU,
    quantity, price). A draft of that number becomes what was sent.

    Raises RefusedError for an inbox of no supplier, another currency, an item that is not known, or an order of that number
    that is more than a draft.
    """
    actor.need(Ability.BUY)
    supplier = supplier_of(inbox_id)
    if supplier is None:
        raise RefusedError("This inbox belongs to no supplier.", field="connection")
    items = {normal_sku(item.sku): item for item in Item.objects.filter(sku__in=[sku for sku, *_ in lines])}
    strange = [sku for sku, *_ in lines if normal_sku(sku) not in items]
    if strange:
        raise RefusedError(f"There is no item {strange[0]} here.", field="lines")
    order = PurchaseOrder.objects.select_for_update().filter(number=number).first()
    if order is not None and (order.state != State.DRAFT or order.supplier_id != supplier.pk):
        raise RefusedError(f"{number} is here already, as {order.state}.", field="number")
    if order is None:
        place = Location.objects.order_by("position", "pk").first()
        if place is None:
            raise RefusedError("There is no place that it could come to.", field="location")
        order = PurchaseOrder(number=number, supplier=supplier, location=place, state=State.DRAFT)
    else:
        order.lines.all().delete()
    order.currency, order.expected_on = currency, expected_on or company_day(at) + timedelta(days=supplier.lead_days)
    order.save()
    codes = dict(SupplierItem.objects.filter(supplier=supplier).values_list("item_id", "code"))
    for sku, quantity, price in lines:
        item = items[normal_sku(sku)]
        PurchaseLine.objects.create(order=order, item=item, supplier_code=codes.get(item.pk, ""), quantity=quantity, price=price)
    audit(actor, "found purchase order after a restore", "purchase order", order.pk, after={"lines": len(lines)})
    sent = send(actor, order.pk, order.version, at)
    delivered(sent.pk, at)
    return sent


def delivered(order_id: int, at: datetime) -> None:
    """The supplier's inbox took the order."""
    PurchaseOrder.objects.filter(pk=order_id, delivered_at=None).update(delivered_at=at)


def supplier_of(inbox_id: int) -> Supplier | None:
    """The supplier whose inbox a connection is."""
    return Supplier.objects.filter(inboxes__connection=inbox_id).first()
