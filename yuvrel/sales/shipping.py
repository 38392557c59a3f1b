"""Goods change hands: the shipment, its cost, its invoice and both postings."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence, Set
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import cast

from yuvrel.books.actions import Posting, open_day, post
from yuvrel.books.models import JournalEntry, LedgerDocument
from yuvrel.catalogue.kits import explode
from yuvrel.catalogue.models import Item
from yuvrel.core import postings
from yuvrel.core.errors import BadInputError, RefusedError
from yuvrel.core.money import ZERO, spoken
from yuvrel.core.orders import BookedLine, InvoicePart, LineKind, invoice_parts
from yuvrel.core.postings import Revenue
from yuvrel.core.postings import Role as AccountRole
from yuvrel.documents.registry import Ref
from yuvrel.people.queries import company, company_day
from yuvrel.platform.bulk import update_many
from yuvrel.stock.actions import seen_by_a_count
from yuvrel.stock.moving import Cause, Moving, lock_balances

from .documents import INVOICE, SHIPMENT
from .models import Invoice, OrderLine, Reservation, SalesOrder, Shipment, ShipmentLine, ShipmentPart
from .payments import settlement
from .rules import OrderRules, order_rules


@dataclass(frozen=True)
class HandedOver:
    """The shipment, and the items whose stock changed."""

    shipment: Shipment
    items: set[int]


@dataclass(frozen=True)
class _Take:
    """Units of an item that leave a location for a line."""

    line: OrderLine
    item_id: int
    location_id: int
    quantity: Decimal


def hand_over(
    order: SalesOrder,
    quantities: Mapping[int, Decimal],
    *,
    at: datetime,
    reason: str,
    carrier: str = "",
    tracking: str = "",
    unmoved: Set[int] = frozenset(),
    lines: Sequence[OrderLine] | None = None,
) -> HandedOver:
    """Ship `quantities` (line id to units) and invoice them; lines in `unmoved` move no stock. The caller holds the
    order's lock, and may have read all its `lines` with their items.

    A shipment uses reservations; a sale that already happened takes what it sold whether it is there or not, is
    booked into an open month even when its own is closed, and minds the counts made since.
    """
    of_order = {line.pk: line for line in (order.lines.select_related("item") if lines is None else lines)}
    if order.currency != company().base_currency:
        raise RefusedError(f"It is in {order.currency}; nothing is posted without a rate.", field="currency")
    _check(of_order, quantities, unmoved)
    serial = order.shipments.count() + 1
    number = order.number if serial == 1 else f"{order.number}-{serial}"
    shipment = Shipment.objects.create(order=order, number=number, carrier=carrier, tracking=tracking, shipped_at=at)
    ref = Ref(SHIPMENT.code, shipment.pk)
    rules = order_rules(order.connection)
    gather = rules.gather(order.connection)
    day = company_day(at)
    if order.kind != SalesOrder.Kind.ORDER:
        day = open_day(day)
        takes = _from_till(order, of_order, {key: units for key, units in quantities.items() if key not in unmoved})
        seen_by_a_count([(take.item_id, take.location_id, take.quantity) for take in takes], at, number)
    else:
        takes = _from_reserved(of_order, quantities)
    costs = _take_stock(takes, Cause(reason, number, at, ref))
    parts, revenue = invoice_parts([_booked(line) for line in of_order.values()], dict(quantities), order.currency)
    _note_lines(shipment, of_order, quantities, parts, costs)
    settled = settlement(order, revenue.total)
    settled.take(shipment)
    _invoice(order, shipment, parts, of_order, revenue, settled.against, day, rules)
    per_item: dict[int, Decimal] = defaultdict(Decimal)
    for take, cost in costs:
        per_item[take.item_id] += cost
    post(
        Posting(
            JournalEntry.Kind.COST,
            day,
            number,
            postings.cost_of_shipment(sorted(per_item.items())),
            ref=ref,
            memo="cost of the goods",
            gather=gather,
        )
    )
    return HandedOver(shipment, set(per_item))


def _check(lines: Mapping[int, OrderLine], quantities: Mapping[int, Decimal], unmoved: Set[int]) -> None:
    for line_id, quantity in quantities.items():
        line = lines.get(line_id)
        if line is None or line.kind not in ("item", "service"):
            raise BadInputError("That line is not one of this order's goods.", field=f"quantities.{line_id}")
        if quantity <= 0:
            raise BadInputError("A quantity to ship must be greater than zero.", field=f"quantities.{line_id}")
        left = line.quantity - line.shipped
        if quantity > left:
            raise BadInputError(
                f"{line.title}: {spoken(quantity)} is more than the {spoken(left)} left to ship.",
                field=f"quantities.{line_id}",
            )
        decimals = line.item.decimals if line.item else 0
        if line_id not in unmoved and quantity != quantity.quantize(Decimal(1).scaleb(-decimals)):
            raise BadInputError(f"{line.title} is counted with {decimals} decimals.", field=f"quantities.{line_id}")


def _from_till(order: SalesOrder, lines: Mapping[int, OrderLine], quantities: Mapping[int, Decimal]) -> list[_Take]:
    found = explode(line.item_id for line in lines.values() if line.item_id)
    takes = []
    for line_id, quantity in quantities.items():
        line = lines[line_id]
        if line.item is None or line.item.kind == Item.Kind.SERVICE:
            continue
        takes += [_Take(line, part, order.location_id, quantity * each) for part, each in found[line.item.pk]]
    lock_balances((take.item_id, take.location_id) for take in takes)
    return takes


def _from_reserved(lines: Mapping[int, OrderLine], quantities: Mapping[int, Decimal]) -> list[_Take]:
    """Use up open reservations, splitting one where only a part leaves."""
    open_rows = Reservation.objects.filter(line_id__in=list(quantities), state="open").order_by("id")
    by_part: dict[tuple[int, int], list[Reservation]] = defaultdict(list)
    per_unit: dict[tuple[int, int], Decimal] = {}
    every = Reservation.objects.filter(line_id__in=list(quantities)).exclude(state="released")
    for line_id, item_id, each in every.values_list("line_id", "item_id", "per_unit"):
        per_unit[line_id, item_id] = each
    balances = lock_balances({(row.item_id, row.location_id) for row in open_rows})
    there = {pair: balance.on_hand for pair, balance in balances.items()}
    for row in open_rows:
        by_part[row.line_id, row.item_id].append(row)
    takes, whole = [], []
    for (line_id, item_id), each in per_unit.items():
        needed = quantities[line_id] * each
        held = by_part[line_id, item_id]
        free = sum((row.quantity for row in held), ZERO)
        if needed > free:
            raise BadInputError(
                f"{lines[line_id].title}: {spoken(free)} are reserved, {spoken(needed)} are asked for.",
                field=f"quantities.{line_id}",
            )
        for row in held:
            part = min(needed, row.quantity)
            if part:
                there[row.item_id, row.location_id] -= part
                if there[row.item_id, row.location_id] < 0:
                    raise RefusedError(
                        f"{lines[line_id].title}: fewer are on hand than are reserved; some were sold at a till or not found.",
                        field=f"quantities.{line_id}",
                    )
                takes.append(_Take(lines[line_id], item_id, row.location_id, part))
                if part == row.quantity:
                    row.state = Reservation.State.USED
                    whole.append(row)
                else:
                    row.move(part, Reservation.State.USED)
                needed -= part
    update_many(whole, ["state"])
    return takes


def _take_stock(takes: list[_Take], cause: Cause) -> list[tuple[_Take, Decimal]]:
    ordered = sorted(takes, key=lambda take: (take.item_id, take.location_id, take.line.pk))
    with Moving((take.item_id for take in takes), cause) as moving:
        return [(take, -moving.take_out(take.item_id, take.location_id, take.quantity).moved) for take in ordered]


def _booked(line: OrderLine) -> BookedLine:
    return BookedLine(
        line.pk, cast(LineKind, line.kind), line.quantity, line.net, line.tax, line.invoiced, line.invoiced_net, line.invoiced_tax
    )


def _note_lines(
    shipment: Shipment,
    lines: Mapping[int, OrderLine],
    quantities: Mapping[int, Decimal],
    parts: list[InvoicePart],
    costs: list[tuple[_Take, Decimal]],
) -> None:
    per_line: dict[int, Decimal] = defaultdict(Decimal)
    for take, cost in costs:
        per_line[take.line.pk] += cost
    made = ShipmentLine.objects.bulk_create(
        ShipmentLine(shipment=shipment, order_line=lines[i], quantity=q, cost=per_line[i]) for i, q in quantities.items()
    )
    _note_parts({row.order_line_id: row for row in made}, costs)
    for part in parts:
        line = lines[part.line_id]
        line.invoiced += part.quantity
        line.invoiced_net += part.net
        line.invoiced_tax += part.tax
        line.shipped += quantities.get(line.pk, ZERO)
    OrderLine.objects.bulk_update(
        [lines[part.line_id] for part in parts], ["invoiced", "invoiced_net", "invoiced_tax", "shipped"]
    )


def _note_parts(rows: Mapping[int, ShipmentLine], costs: list[tuple[_Take, Decimal]]) -> None:
    """Of kits also which components left and at what cost: should they come back, the kit may be made of others by then."""
    parts: dict[tuple[int, int], ShipmentPart] = {}
    for take, cost in costs:
        if take.item_id == take.line.item_id:
            continue
        key = take.line.pk, take.item_id
        part = parts.setdefault(key, ShipmentPart(line=rows[take.line.pk], item_id=take.item_id, quantity=ZERO, cost=ZERO))
        part.quantity += take.quantity
        part.cost += cost
    ShipmentPart.objects.bulk_create(parts.values())


def _terms(order: SalesOrder, rules: OrderRules) -> int:
    """Days until an invoice is due: the customer's own terms, else the connection's."""
    own = order.customer.payment_days if order.customer else None
    return rules.payment_days if own is None else own


def _invoice(
    order: SalesOrder,
    shipment: Shipment,
    parts: list[InvoicePart],
    lines: Mapping[int, OrderLine],
    revenue: Revenue,
    against: Mapping[str, Decimal],
    day: date,
    rules: OrderRules,
) -> None:
    owed = bool(against.get(AccountRole.RECEIVABLE))
    invoice = Invoice.objects.create(
        shipment=shipment,
        number=shipment.number,
        issued_on=day,
        due_on=day + timedelta(days=_terms(order, rules)) if owed else None,
        net=revenue.total - revenue.tax,
        tax=revenue.tax,
        total=revenue.total,
    )
    details = [lines[p.line_id].told(p.quantity, p.net, p.tax) for p in parts]
    post(
        Posting(
            JournalEntry.Kind.INVOICE,
            day,
            shipment.number,
            postings.invoice(revenue, against),
            ref=Ref(INVOICE.code, invoice.pk),
            memo=f"{order.connection.name} order {order.external_number}",
            ledger_kind=LedgerDocument.Kind.INVOICE,
            number=shipment.number,
            contact=rules.contact(order.customer, owed=owed),
            details=details,
            due=invoice.due_on,
            gather="" if owed else rules.gather(order.connection),
        )
    )
