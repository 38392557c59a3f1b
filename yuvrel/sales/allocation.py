"""Who gets what there is: orders allocated when they are taken in, backorders served as goods come, the newest promise
given up when less is there than was promised.

A line's units are reserved at places: of one for now, the connection's; nothing here but `allocate` chooses it, and a
reservation says its place, so that a line can be served from several.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import cast

from django.db import transaction
from django.db.models import F
from django.db.models.functions import Coalesce, Greatest, TruncDate

from yuvrel.catalogue.kits import explode
from yuvrel.core.availability import reserve
from yuvrel.core.money import ZERO
from yuvrel.core.past_zero import wholes
from yuvrel.core.working import plain
from yuvrel.documents.actions import pass_on
from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.people.roles import Actor, audit
from yuvrel.stock.holding import give_up
from yuvrel.stock.models import StockBalance
from yuvrel.stock.moving import lock_balances

from . import past_zero
from .documents import ORDER
from .models import OrderLine, Reservation, SalesOrder

State = SalesOrder.State


@dataclass(frozen=True)
class Shelf:
    """What an order is reserved from: parts of each item, balances that are locked, limits that are held."""

    parts: Mapping[int, list[tuple[int, Decimal]]]
    balances: Mapping[tuple[int, int], StockBalance]
    counter: past_zero.Counter


def allocate(
    order: SalesOrder,
    rows: Sequence[OrderLine],
    parts: Mapping[int, list[tuple[int, Decimal]]],
    balances: Mapping[tuple[int, int], StockBalance],
    allowed: Allowed | None = None,
) -> tuple[str, str]:
    """Reserve what is there for the goods among these lines; the rest is owed as backorders.

    Returns what is short as a sentence, and why the order must be held: where less than the whole is there and it may
    not be sold past zero, nothing is reserved. Older backorders come first, so what they wait for is not free. The
    caller holds the balances' locks, and those of the limits.
    """
    free = {item: (b.on_hand, b.committed, b.backordered) for (item, _), b in balances.items()}
    reservations, short, refused = [], "", ""
    for number, row in enumerate(rows):
        if not row.item_id or row.kind != OrderLine.Kind.ITEM:
            continue
        waits: dict[int, tuple[Decimal, Decimal]] = {}
        missing = ZERO
        for part, each in parts[row.item_id]:
            on_hand, committed, waiting = free[part]
            reserved, owed = reserve((row.quantity - row.shipped) * each, on_hand, committed + waiting)
            free[part] = (on_hand, committed + reserved, waiting + owed)
            if owed:
                waits[part] = waiting, owed
                missing = max(missing, wholes(owed, each))
                short = short or (
                    f"Of {row.sku or row.title}, {plain(reserved + owed)} are wanted and {plain(reserved)} are left."
                )
            for quantity, state in ((reserved, "open"), (owed, "backorder")):
                if quantity:
                    reservations.append(
                        Reservation(
                            line=row, item_id=part, location_id=order.location_id, quantity=quantity, per_unit=each, state=state
                        )
                    )
        if allowed is not None:
            refused = refused or allowed.refusal(number, row, missing, waits, short)
    if not refused:
        Reservation.objects.bulk_create(reservations)
        OrderLine.objects.bulk_update([row for row in rows if row.past_zero], ["past_zero", "past_zero_scope", "promised_on"])
    return short, refused


@dataclass(frozen=True)
class Allowed:
    """What may be sold of each line beyond what is there: past zero under its limit, else as the connection says."""

    counter: past_zero.Counter
    lines: Sequence[past_zero.Allowance | None]
    backorders: bool

    def refusal(
        self, number: int, row: OrderLine, missing: Decimal, waits: Mapping[int, tuple[Decimal, Decimal]], short: str
    ) -> str:
        """Why the order must be held; empty when it need not be."""
        allowance = self.lines[number]
        if allowance is not None and allowance.rule.runs(self.counter.placed):
            return self.counter.take(row, allowance, missing, waits)
        return f"{short} This connection takes no backorders." if missing and not self.backorders else ""


def held_items(order: SalesOrder) -> set[int]:
    """Items that an order reserves or is owed."""
    waiting = Reservation.objects.filter(line__order=order, state__in=("open", "backorder"))
    return set(waiting.values_list("item_id", flat=True))


def take_back(order: SalesOrder, *, stays: bool, waits: bool = False) -> None:
    """Release what was reserved; where it `waits` until it was put back, only what is owed. Lines of which nothing was
    shipped or invoiced are written anew, or stay as they were."""
    waiting = Reservation.objects.filter(line__order=order, state__in=("open", "backorder"))
    if stays:
        waiting = waiting.filter(state=Reservation.State.BACKORDER) if waits else waiting
        waiting.update(state=Reservation.State.RELEASED)
        return
    untouched = order.lines.filter(shipped=0, invoiced=0)
    waiting.exclude(line__in=untouched).update(state=Reservation.State.RELEASED)
    Reservation.objects.filter(line__in=untouched).delete()
    untouched.delete()
    # What stays of it takes from its limit anew, with what is written over it.
    order.lines.exclude(past_zero_scope="").update(past_zero=0, past_zero_scope="", promised_on=None)


def waiting_state(order: SalesOrder) -> str:
    """Ready when everything left is reserved, received while something is owed."""
    owed = Reservation.objects.filter(line__order=order, state=Reservation.State.BACKORDER).exists()
    if order.shipments.exists():
        return State.PART_SHIPPED
    return State.RECEIVED if owed else State.READY


def allocate_after_all(order: SalesOrder) -> None:
    """An order held because it was short reserves what is there now; the rest becomes a backorder."""
    rows = [row for row in order.lines.all() if row.item_id and row.kind == OrderLine.Kind.ITEM]
    parts = explode(cast(int, row.item_id) for row in rows)
    touched = {part for held in parts.values() for part, _ in held}
    allocate(order, rows, parts, lock_balances((item, order.location_id) for item in touched))
    record(Event.Kind.AVAILABILITY, touched, f"order {order.number}")


def ready_to_ship(order: SalesOrder) -> dict[int, Decimal]:
    """What can leave now of each line: whole units for which every part is reserved."""
    ready: dict[int, Decimal] = {}
    reserved: dict[int, dict[int, Decimal]] = defaultdict(lambda: defaultdict(Decimal))
    each: dict[tuple[int, int], Decimal] = {}
    rows = Reservation.objects.filter(line__order=order, state__in=("open", "backorder"))
    for row in rows:
        reserved[row.line_id][row.item_id] += row.quantity if row.state == "open" else ZERO
        each[row.line_id, row.item_id] = row.per_unit
    for line in order.lines.filter(kind__in=("item", "service")):
        left = line.quantity - line.shipped
        parts = reserved.get(line.pk)
        if parts is None:
            ready[line.pk] = left
            continue
        possible = min(
            quantity // each[line.pk, item] if each[line.pk, item] != 1 else quantity for item, quantity in parts.items()
        )
        ready[line.pk] = min(left, possible)
    return ready


@transaction.atomic
def give_up_short(actor: Actor, item_ids: Iterable[int]) -> set[int]:
    """Where less is on hand than is reserved (a till sale, a count), the newest reservations become backorders, each
    with a trace: what cannot ship is not ready. What waits to be put back of cancelled orders goes first, and nobody is
    owed it; then what other documents have reserved, as no customer was promised that. Returns the orders it touched."""
    short = StockBalance.objects.filter(item_id__in=set(item_ids), committed__gt=Greatest(F("on_hand"), ZERO))
    pairs = set(short.values_list("item_id", "location_id"))
    if not pairs:
        return set()
    rows = Reservation.objects.filter(
        item_id__in={item for item, _ in pairs}, location_id__in={place for _, place in pairs}, state=Reservation.State.OPEN
    )
    orders = sorted(set(rows.values_list("line__order_id", flat=True)))
    list(SalesOrder.objects.select_for_update().filter(pk__in=orders).order_by("pk"))
    balances = lock_balances(pairs)
    over = {pair: balance.committed - max(ZERO, balance.on_hand) for pair, balance in balances.items()}
    given_up: dict[int, list[str]] = defaultdict(list)
    by_age = rows.select_related("line__order", "item").order_by("-line__order_id", "-id")
    for row in by_age.filter(line__order__state=State.CANCELLED):
        units = min(row.quantity, over.get((row.item_id, row.location_id), ZERO))
        if units > 0:
            over[row.item_id, row.location_id] -= units
            row.move(units, Reservation.State.RELEASED)
    give_up(actor, over)
    for row in by_age.exclude(line__order__state=State.CANCELLED):
        units = min(row.quantity, over.get((row.item_id, row.location_id), ZERO))
        if units <= 0:
            continue
        over[row.item_id, row.location_id] -= units
        row.move(units, Reservation.State.BACKORDER)
        given_up[row.line.order_id].append(f"{plain(units)} {row.item.sku}")
    for order in SalesOrder.objects.filter(pk__in=given_up):
        if order.state == State.READY:
            pass_on(ORDER, order, State.RECEIVED)
            order.save(update_fields=["state"])
            record(Event.Kind.ORDER, [order.pk], order.number)
        audit(actor, "reservation became backorder", "order", order.pk, after={"units": given_up[order.pk]})
    return set(given_up)


@transaction.atomic
def fill_backorders(item_ids: Iterable[int]) -> set[int]:
    """Reserve what has become free, the oldest promise first. Returns the orders it helped."""
    items = sorted(set(item_ids))
    waiting = list(Reservation.objects.filter(item_id__in=items, state="backorder").select_related("line").order_by("id"))
    if not waiting:
        return set()
    order_ids = sorted({row.line.order_id for row in waiting})
    list(SalesOrder.objects.select_for_update().filter(pk__in=order_ids).order_by("pk"))
    balances = lock_balances((row.item_id, row.location_id) for row in waiting)
    helped = set()
    rows = Reservation.objects.filter(pk__in=[row.pk for row in waiting], state="backorder").select_related("line")
    first = Coalesce("line__promised_on", TruncDate("line__order__placed_at"))
    for row in rows.order_by(first, "line__order_id", "id"):
        balance = balances[row.item_id, row.location_id]
        got, _ = reserve(row.quantity, balance.on_hand, balance.committed)
        if not got:
            continue
        balance.committed += got
        row.move(got, Reservation.State.OPEN)
        helped.add(row.line.order_id)
    for order in SalesOrder.objects.filter(pk__in=helped, state=State.RECEIVED):
        pass_on(ORDER, order, waiting_state(order))
        order.save(update_fields=["state"])
        record(Event.Kind.ORDER, [order.pk], order.number)
    return helped
