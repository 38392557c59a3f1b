"""Orders: taken in once per version, reserved at once, shipped, invoiced, cancelled."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal
from typing import Any

from django.db import transaction

from yuvrel.catalogue.kits import explode
from yuvrel.core.errors import BadInputError, RefusedError
from yuvrel.core.money import ZERO, spoken
from yuvrel.core.working import plain
from yuvrel.documents.actions import lock, pass_on
from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.people.queries import company, company_day
from yuvrel.people.roles import Ability, Actor, audit
from yuvrel.stock.moving import lock_balances

from . import amending, foreign, past_zero
from .allocation import Allowed, Shelf, allocate, allocate_after_all, held_items, ready_to_ship, take_back, waiting_state
from .documents import ORDER, TO_LEAVE
from .incoming import IncomingLine, IncomingOrder, faults, fits
from .late_demand import note_demand
from .models import Customer, OrderLine, Reservation, SalesOrder, Shipment
from .payments import keep_payments, post_prepayment
from .rules import order_rules
from .shipping import hand_over
from .till_counts import heard_late

State = SalesOrder.State
STILL_THERE = "It was cancelled here, and the channel has changed it since. Cancel it there too."


@dataclass(frozen=True)
class Taken:
    """What became of an incoming version: new, changed, cancelled, or a repeat that did nothing."""

    order: SalesOrder
    outcome: str
    problem: str = ""
    field: str = ""


def claim(incoming: IncomingOrder, kind: str) -> SalesOrder:
    """The order's row, made when it is new, locked: two messages of one order wait for each other."""
    SalesOrder.objects.bulk_create(
        [
            SalesOrder(
                connection_id=incoming.connection_id,
                kind=kind,
                external_id=incoming.external_id,
                external_number=incoming.number,
                external_version=-1,
                number=incoming.full_number,
                location_id=incoming.location_id,
                currency=incoming.currency,
                total=incoming.total,
                paid=incoming.paid,
                placed_at=incoming.placed_at,
                ship_to=incoming.ship_to,
            )
        ],
        ignore_conflicts=True,
    )
    row = (
        SalesOrder.objects.select_for_update()
        .filter(connection_id=incoming.connection_id, external_id=incoming.external_id)
        .first()
    )
    if row is None:
        raise RefusedError(f"The number {incoming.full_number} belongs to another order.", field="number")
    return row


@transaction.atomic
def take_order(actor: Actor, incoming: IncomingOrder, at: datetime) -> Taken:
    """Apply one version of an order at most once: book its lines and reserve what is there.

    An order that does not add up, names an unknown item or another currency is held, with what
    can be reserved reserved. Later versions change it; of what was shipped nothing can be changed any more, and what was
    cancelled here stays so.
    """
    order = claim(incoming, SalesOrder.Kind.ORDER)
    if incoming.version <= order.external_version:
        return Taken(order, "repeated")
    incoming = foreign.in_our_currency(order, incoming)
    if order.cancelled_because and not incoming.cancelled:
        return _note_version(order, incoming, at, STILL_THERE, "status")
    new = order.external_version == -1
    was = None if new else _facts(order)
    begun = not new and order.shipments.exists()
    if begun and not incoming.cancelled:
        same = _same_lines(order, incoming)
        stuck = "" if same else amending.obstacle(order, incoming)
        if same or stuck:
            return _note_version(order, incoming, at, stuck)
    currency = company().base_currency
    problem, field = faults(incoming, currency)
    old = set() if new else held_items(order)
    promised = {} if new else past_zero.promises_of(order)
    scopes = {line.past_zero.scope for line in incoming.lines if line.past_zero}
    scopes |= set() if new else past_zero.scopes_of(order)
    past_zero.take_turns(scopes)
    parts = explode(line.item_id for line in incoming.lines if line.item_id and line.kind == "item")
    # What it held and what it will hold are locked together: an edit from one item to another
    # and its reverse would otherwise each wait for what the other has. What is cancelled is told
    # to the channel anew, even if nothing was held: it has put its own stock back up.
    touched = old | {part for held in parts.values() for part, _ in held}
    balances = lock_balances((item, order.location_id) for item in touched)
    if not new:
        take_back(order, stays=incoming.cancelled, waits=incoming.goods_wait)
        balances = lock_balances((item, order.location_id) for item in touched)
    order.external_version = incoming.version
    foreign.state(order, incoming)
    order.paid, order.ship_to = incoming.paid, incoming.ship_to
    order.customer, order.shipping_method = customer_of(incoming), incoming.shipping_method
    keep_payments(order, incoming, new=new)
    if incoming.cancelled:
        _give_up(order)
    else:
        counter = past_zero.Counter(scopes, promised, company_day(at), company_day(incoming.placed_at))
        refused = _book(order, incoming, problem, begun, Shelf(parts, balances, counter))
        if refused and not problem:
            problem, field = refused, "quantity"
    order.save()
    post_prepayment(order, at, new=new, gather=incoming.gather)
    record(Event.Kind.AVAILABILITY, touched, f"order {order.number}")
    note_demand(touched, company_day(order.placed_at), f"order {order.number}")
    record(Event.Kind.ORDER, [order.pk], order.number)
    told = {"version": incoming.version, "state": order.state}
    audit(actor, "take order", "order", order.pk, after=told | ({"same": True} if was and was == _facts(order) else {}))
    outcome = "cancelled" if incoming.cancelled else "new" if new else "changed"
    return Taken(order, outcome, *_to_look_at(incoming, problem, field))


def _to_look_at(incoming: IncomingOrder, problem: str, field: str) -> tuple[str, str]:
    """What of an order somebody has to look at, and the field; empty when nobody has to."""
    if field == "status":
        # It waits for the channel, as the rule says.
        problem, field = "", ""
    if not problem and not incoming.cancelled and incoming.unknown:
        problem, field = f"{incoming.unknown} Its stock is not known here.", "item"
    return problem, field


def _give_up(order: SalesOrder) -> None:
    """What has not left of an order is not to leave any more."""
    pass_on(ORDER, order, State.CANCELLED)
    order.held_because = order.stopped_because = ""
    amending.cut_to_shipped(order)
    order.net = sum(order.lines.values_list("net", flat=True), ZERO)


def _book(order: SalesOrder, incoming: IncomingOrder, problem: str, begun: bool, shelf: Shelf) -> str:
    """Write the lines of a version, reserve what is there for them, and say how the order stands then. Returns why it must
    be held because of what is there; `problem`: why it must be in any case."""
    kept = [line for line in incoming.lines if not problem or line.quantity > 0]
    rows = (amending.book_again if begun else book_lines)(order, kept, company().base_currency)
    allowed = Allowed(shelf.counter, [line.past_zero for line in kept], incoming.backorders)
    short, refused = allocate(order, rows, shelf.parts, shelf.balances, allowed)
    order.held_because = (problem or refused or order.stopped_because)[:300]
    to = State.HELD if order.held_because else State.RECEIVED if short else State.READY
    if begun and not order.held_because:
        to = State.PART_SHIPPED if any(amending.left_of(row) for row in rows) else State.SHIPPED
    pass_on(ORDER, order, to)
    return refused


def _note_version(order: SalesOrder, incoming: IncomingOrder, at: datetime, stuck: str, field: str = "lines") -> Taken:
    """A version that changes no line: how it is paid, or what cannot be changed any more and which field says so."""
    order.external_version = incoming.version
    order.send_by, order.penalty = incoming.send_by, incoming.penalty
    if not stuck:
        order.paid, order.ship_to = incoming.paid, incoming.ship_to
        keep_payments(order, incoming)
        post_prepayment(order, at, gather=incoming.gather)
    order.save()
    return Taken(order, "changed", stuck, field if stuck else "")


@transaction.atomic
def take_till_sale(actor: Actor, incoming: IncomingOrder, kind: str = SalesOrder.Kind.TILL) -> Taken:
    """Record a sale that already happened, at a till or out of the channel's own store: stock leaves at once, even below
    zero; it is never dropped.

    A line nobody knows here earns its revenue and takes no stock. A sale in another currency or with a quantity
    that cannot be is kept, held, and posted after somebody has looked at it (`release`).
    """
    order = claim(incoming, kind)
    if incoming.version <= order.external_version:
        return Taken(order, "repeated")
    if order.external_version >= 0:
        return Taken(order, "changed", "A sale was changed there that was already recorded here.", "version")
    incoming = foreign.in_our_currency(order, incoming)
    foreign.state(order, incoming)
    currency = company().base_currency
    problem, field = faults(incoming, currency)
    order.external_version = incoming.version
    known = [line for line in incoming.lines if line.kind in ("item", "service")]
    waits = incoming.currency != currency or incoming.total < 0 or not all(fits(line.quantity, line.counted_in) for line in known)
    rows = book_lines(order, [line for line in incoming.lines if line.quantity > 0], currency)
    keep_payments(order, incoming, new=True)
    order.held_because = problem[:300]
    pass_on(ORDER, order, State.HELD if waits else State.CLOSED)
    order.save()
    note_demand({row.item_id for row in rows if row.item_id}, company_day(order.placed_at), f"till sale {order.number}")
    if not waits:
        _hand_over_at_till(order)
        heard_late(order)
    audit(actor, "take till sale", "order", order.pk, after={"total": str(order.total), "state": order.state})
    return Taken(order, "new", problem, field)


def _hand_over_at_till(order: SalesOrder) -> None:
    """Stock out and revenue posted for everything on a till sale; what has no item, or cannot have such a quantity,
    moves no stock."""
    lines = list(order.lines.select_related("item"))
    goods = [line for line in lines if line.kind in ("item", "service")]
    unmoved = {line.pk for line in goods if line.item is None or not fits(line.quantity, line.item.decimals)}
    quantities = {line.pk: line.quantity for line in goods}
    said = "till sale" if order.kind == SalesOrder.Kind.TILL else "shipment"
    result = hand_over(order, quantities, at=order.placed_at, reason=said, unmoved=unmoved, lines=lines)
    record(Event.Kind.AVAILABILITY, result.items, f"{said} {order.number}")


def _same_lines(order: SalesOrder, incoming: IncomingOrder) -> bool:
    ours = sorted((line.kind, line.sku, line.quantity, line.net + line.tax) for line in order.lines.all())
    theirs = sorted((line.kind, line.sku, line.quantity, line.amount) for line in incoming.lines)
    return ours == theirs


def _facts(order: SalesOrder) -> tuple[Any, ...]:
    """What a person sees of an order; the same after a version that changed nothing."""
    lines = order.lines.order_by("pk").values_list("kind", "item", "sku", "title", "quantity", "net", "tax", "shipped")
    payments = order.payments.order_by("pk").values_list("method", "amount", "state")  # type: ignore[attr-defined]
    own = (order.state, order.held_because, order.total, order.paid, order.customer_id, order.ship_to, order.send_by)
    return *own, order.penalty, list(lines), list(payments)


def customer_of(incoming: IncomingOrder) -> Customer | None:
    name = str(incoming.customer.get("name", "")).strip()
    if not name:
        return None
    email = str(incoming.customer.get("email", "")).strip().lower()
    key = f"{incoming.connection_id}:{email or name}"[:120]
    told = {"name": name, "email": email, "address": incoming.ship_to, "on_account": bool(incoming.customer.get("on_account"))}
    # What a person wrote here stays, whatever the next order says.
    written = Customer.objects.filter(external_key=key).values_list("by_hand", flat=True).first() or []
    # Who is in a group there joins ours when first seen; afterwards the group is what a person here says.
    first = {**told, "group_id": incoming.customer.get("group_id")}
    customer, _ = Customer.objects.update_or_create(
        external_key=key,
        defaults={name: value for name, value in told.items() if name not in written},
        create_defaults=first,
    )
    return customer


def book_lines(order: SalesOrder, lines: Iterable[IncomingLine], currency: str) -> list[OrderLine]:
    """Write the lines; the order's net follows them and is saved with it by the caller."""
    rows = []
    for line in lines:
        net, tax = line.facts().taxed(currency)
        rows.append(
            OrderLine(
                order=order,
                kind=line.kind,
                item_id=line.item_id,
                external_id=line.external_id,
                sku=line.sku,
                title=line.title,
                quantity=line.quantity,
                units=line.units,
                net=net,
                tax=tax,
                tax_percent=line.tax_percent,
            )
        )
    order.net = sum((row.net for row in rows), ZERO)
    return OrderLine.objects.bulk_create(rows)


@transaction.atomic
def release(actor: Actor, order_id: int, at: datetime) -> SalesOrder:
    """Let a held order or till sale go on after somebody looked at it.

    Raises RefusedError saying what is still missing: an item, a quantity that can be shipped, a currency that the
    books are kept in.
    """
    actor.need(Ability.RESOLVE)
    order = lock(ORDER, SalesOrder, order_id)
    if order.state != State.HELD:
        raise RefusedError("This order is not held.", field="state")
    foreign.convert(order)
    _check_release(order)
    lines = sum((line.net + line.tax for line in order.lines.all()), ZERO)
    before = {"held_because": order.held_because, "lines": str(lines)}
    if order.total != lines:
        _book_difference(order, order.total - lines)
    order.held_because = order.stopped_because = ""
    if order.kind != SalesOrder.Kind.ORDER:
        _hand_over_at_till(order)
        pass_on(ORDER, order, State.CLOSED)
    else:
        if not held_items(order):
            allocate_after_all(order)
        pass_on(ORDER, order, waiting_state(order))
    order.save()
    heard_late(order)
    if order.kind == SalesOrder.Kind.ORDER:
        post_prepayment(order, at)
        record(Event.Kind.ORDER, [order.pk], order.number)
    audit(actor, "release order", "order", order.pk, before, {"total": str(order.total)})
    return order


@transaction.atomic
def put_back(actor: Actor, order_id: int) -> tuple[SalesOrder, Decimal]:
    """What a cancelled order still reserves is back on the shelf and for sale again. Returns it and how many units.

    Raises RefusedError for an order that is not cancelled, or of which nothing is to be put back.
    """
    actor.need(Ability.SHIP)
    order = lock(ORDER, SalesOrder, order_id)
    waiting = Reservation.objects.filter(line__order=order, state=Reservation.State.OPEN)
    rows = list(waiting.select_related("item").order_by("pk"))
    if order.state != State.CANCELLED or not rows:
        raise RefusedError("Of this order nothing is to be put back.", field="state")
    lock_balances((row.item_id, row.location_id) for row in rows)
    waiting.update(state=Reservation.State.RELEASED)
    record(Event.Kind.AVAILABILITY, {row.item_id for row in rows}, f"goods of order {order.number} are back")
    audit(actor, "put goods back", "order", order.pk, after={"units": [f"{spoken(row.quantity)} {row.item.sku}" for row in rows]})
    return order, sum((row.quantity for row in rows), ZERO)


def _check_release(order: SalesOrder) -> None:
    if order.total < 0:
        raise RefusedError(
            "Its total is negative, so there is nothing to sell. Record a refund where it was made.", field="total"
        )
    if order.kind != SalesOrder.Kind.ORDER:
        return
    for line in order.lines.filter(kind__in=("item", "service")).select_related("item"):
        if line.item is None:
            raise RefusedError("A line has no item. Link its listing, then try the snag again.", field="lines")
        if not fits(line.quantity, line.item.decimals):
            raise RefusedError(
                f"{line.title} is counted with {line.item.decimals} decimals, so {plain(line.quantity)} cannot be shipped. "
                "Have the order corrected at the channel, then try the snag again.",
                field="lines",
            )


def _book_difference(order: SalesOrder, amount: Decimal) -> None:
    """A line of its own for what the channel charged beside the lines it named."""
    OrderLine.objects.create(
        order=order,
        kind=OrderLine.Kind.SURCHARGE if amount > 0 else OrderLine.Kind.DISCOUNT,
        title="Difference to the channel's total",
        net=amount,
        tax=ZERO,
    )
    order.net += amount


@transaction.atomic
def hold(actor: Actor, order_id: int, why: str) -> SalesOrder:
    """Stop an order that is waiting, until somebody releases it; what it reserved stays reserved.

    Raises RefusedError for an order that does not wait, BadInputError without a reason.
    """
    actor.need(Ability.SHIP)
    order = lock(ORDER, SalesOrder, order_id)
    if order.state not in (State.READY, State.RECEIVED):
        raise RefusedError(f"An order that is {order.state} cannot be held.", field="state")
    if not why.strip():
        raise BadInputError("Enter the reason for holding it.", field="why")
    pass_on(ORDER, order, State.HELD)
    order.held_because = order.stopped_because = why.strip()[:300]
    order.save()
    record(Event.Kind.ORDER, [order.pk], order.number)
    audit(actor, "hold order", "order", order.pk, after={"why": why})
    return order


@transaction.atomic
def cancel(actor: Actor, order_id: int, why: str, at: datetime) -> SalesOrder:
    """Cancel here what has not left of an order: it is owed to nobody any more, what was reserved for it is free, and
    what stood as prepaid for it is taken back.

    Raises RefusedError for an order of which nothing is still to leave, BadInputError without a reason.
    """
    actor.need(Ability.SHIP)
    order = lock(ORDER, SalesOrder, order_id)
    if order.kind != SalesOrder.Kind.ORDER or order.state not in TO_LEAVE:
        raise RefusedError(f"An order that is {order.state} cannot be cancelled.", field="state")
    if not why.strip():
        raise BadInputError("Enter the reason for cancelling it.", field="why")
    touched = held_items(order)
    past_zero.take_turns(past_zero.scopes_of(order))
    lock_balances((item, order.location_id) for item in touched)
    take_back(order, stays=True, waits=order_rules(order.connection).goods_wait)
    _give_up(order)
    order.cancelled_because = why.strip()[:300]
    order.save()
    post_prepayment(order, at)
    record(Event.Kind.AVAILABILITY, touched, f"order {order.number}")
    note_demand(touched, company_day(order.placed_at), f"order {order.number}")
    record(Event.Kind.ORDER, [order.pk], order.number)
    audit(actor, "cancel order", "order", order.pk, after={"why": why})
    return order


@transaction.atomic
def ship(
    actor: Actor,
    order_id: int,
    *,
    at: datetime,
    quantities: Mapping[int, Decimal] | None = None,
    carrier: str = "",
    tracking: str = "",
) -> Shipment:
    """Hand goods over: stock out at moving average, cost and revenue posted, the channel to be told.

    Without `quantities` (line id to quantity) everything reserved and left goes. Raises
    RefusedError when the order is held or nothing is ready, BadInputError naming the line when
    more is asked for than is reserved.
    """
    actor.need(Ability.SHIP)
    order = lock(ORDER, SalesOrder, order_id)
    if order.state not in (State.READY, State.RECEIVED, State.PART_SHIPPED):
        why = f": {order.held_because}" if order.held_because else ""
        raise RefusedError(f"An order that is {order.state} cannot be shipped{why}.", field="state")
    wanted = dict(quantities) if quantities is not None else ready_to_ship(order)
    wanted = {line: quantity for line, quantity in wanted.items() if quantity}
    if not wanted:
        raise RefusedError("Nothing of this order is reserved and left to ship.", field="quantities")
    result = hand_over(
        order,
        wanted,
        at=at,
        reason="shipment",
        carrier=carrier.strip(),
        tracking=tracking.strip(),
    )
    left = any(line.shipped < line.quantity for line in order.lines.all() if line.kind in ("item", "service"))
    pass_on(ORDER, order, State.PART_SHIPPED if left else State.SHIPPED)
    order.save()
    record(Event.Kind.SHIPMENT, [result.shipment.pk], result.shipment.number)
    record(Event.Kind.ORDER, [order.pk], order.number)
    record(Event.Kind.AVAILABILITY, result.items, f"shipment {result.shipment.number}")
    audit(actor, "ship order", "order", order.pk, after={"shipment": result.shipment.number})
    return result.shipment
