"""Goods that come back: announced, looked at, and put where each unit belongs, at the cost at which it left."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal

from django.db import transaction
from django.db.models import Max, Q, Sum

from yuvrel.books.actions import Posting, open_day, post
from yuvrel.books.models import JournalEntry
from yuvrel.catalogue.kits import explode
from yuvrel.catalogue.models import Item
from yuvrel.core import postings
from yuvrel.core.credits import cost_back
from yuvrel.core.errors import BadInputError, NotFoundError, RefusedError
from yuvrel.core.money import ZERO, allocate, spoken
from yuvrel.documents.actions import lock, next_number, pass_on
from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.ownership import in_hand
from yuvrel.people.models import Location
from yuvrel.people.queries import company_day
from yuvrel.people.roles import Ability, Actor, audit
from yuvrel.platform.bulk import update_many
from yuvrel.stock.actions import seen_by_a_count
from yuvrel.stock.models import ItemCost, Lot, StockMove
from yuvrel.stock.moving import Cause, Moving, lock_balances

from .documents import ORDER, RETURN, SHIPMENT
from .models import CreditNote, OrderLine, Return, ReturnLine, ReturnPart, SalesOrder, ShipmentLine, ShipmentPart
from .rules import order_rules

State = Return.State
Kind = ReturnPart.Kind
# Where goods wait that have to be repaired: a place of its own that nothing is sold from.
REPAIR_CODE, REPAIR_NAME = "repair", "Repair bench"


@dataclass(frozen=True)
class Coming:
    """So many of an order line that are to come back, and why."""

    line_id: int
    quantity: Decimal
    reason: str = ReturnLine.Reason.OTHER.value


@dataclass(frozen=True)
class Found:
    """What became of units of one line that came back, in units of the line."""

    restock: Decimal = ZERO
    repair: Decimal = ZERO
    write_off: Decimal = ZERO

    @property
    def units(self) -> Decimal:
        """All of them."""
        return self.restock + self.repair + self.write_off

    def parts(self) -> list[tuple[str, Decimal]]:
        """Each fate that some of them have."""
        found = ((Kind.RESTOCKED, self.restock), (Kind.REPAIR, self.repair), (Kind.WRITTEN_OFF, self.write_off))
        return [(kind.value, units) for kind, units in found if units]


@transaction.atomic
def announce(actor: Actor, order_id: int, lines: Sequence[Coming], at: datetime, note: str = "") -> Return:
    """Expect goods of an order back where they left from. Raises NotFoundError, and BadInputError naming the line for goods
    that did not leave, are on a return already, or are no goods that are kept in stock."""
    actor.need(Ability.RECEIVE)
    order = lock(ORDER, SalesOrder, order_id)
    wanted = [one for one in lines if one.quantity]
    if not wanted:
        raise BadInputError("Enter what comes back.", field="lines")
    rows = {row.pk: row for row in order.lines.select_related("item")}
    back = Return.objects.create(
        number=next_number(RETURN), order=order, location_id=order.location_id, made_at=at, note=note.strip()[:300]
    )
    for one in wanted:
        row = _coming(rows.get(one.line_id), one)
        ReturnLine.objects.create(back=back, order_line=row, quantity=one.quantity, reason=one.reason)
        row.returned += one.quantity
        row.save(update_fields=["returned"])
    _for_credit(back, [one.line_id for one in wanted])
    audit(actor, "expect return", RETURN.code, back.pk, after={"why": note.strip(), "order": order.number})
    return back


def _for_credit(back: Return, line_ids: Sequence[int]) -> None:
    """What was given back for these goods before anybody expected them is given back for this return."""
    notes = CreditNote.objects.filter(order=back.order, back=None, lines__order_line__in=line_ids, lines__quantity__gt=0)
    early = notes.order_by("pk").first()
    if early is not None:
        early.back = back
        early.save(update_fields=["back"])


def _coming(row: OrderLine | None, one: Coming) -> OrderLine:
    """The line that so many come back of. Raises BadInputError where they cannot."""
    field = f"lines.{one.line_id}"
    if row is None or row.item is None or row.item.kind == Item.Kind.SERVICE or row.kind != OrderLine.Kind.ITEM:
        raise BadInputError("That line is not goods of this order that are kept in stock.", field=field)
    if one.quantity < 0:
        raise BadInputError("A quantity cannot be negative.", field=field)
    if one.quantity != one.quantity.quantize(Decimal(1).scaleb(-row.item.decimals)):
        raise BadInputError(f"{row.title} is counted with {row.item.decimals} decimals.", field=field)
    free = row.shipped - row.returned
    if one.quantity > free:
        raise BadInputError(f"{row.title}: {spoken(free)} can come back, not {spoken(one.quantity)}.", field=field)
    if one.reason not in ReturnLine.Reason.values:
        raise BadInputError(f"A reason is one of {', '.join(ReturnLine.Reason.values)}.", field=field)
    return row


def _open(return_id: int, version: int | None) -> Return:
    found = Return.objects.filter(pk=return_id).values_list("order_id", flat=True).first()
    if found is None:
        raise NotFoundError("There is no such return.")
    # An order before its returns, always: a refund at the channel locks them in that order too.
    lock(ORDER, SalesOrder, found)
    back = lock(RETURN, Return, return_id, version)
    if back.state not in Return.OPEN:
        raise RefusedError(f"{back.number} is {back.state}; nothing more comes of it.", field="state")
    return back


@transaction.atomic
def inspect(actor: Actor, return_id: int, found: Mapping[int, Found], at: datetime, version: int | None = None) -> Return:
    """Goods came back and were looked at: each unit goes back to stock, to the repair bench, or is written off, at the cost
    at which it left. `found`: by return line.

    Raises NotFoundError, StaleError, BadInputError naming the line for more than was expected, and RefusedError for a
    return that is done with or a closed period.
    """
    actor.need(Ability.RECEIVE)
    back = _open(return_id, version)
    lines = {row.pk: row for row in back.lines.select_related("order_line__item", "order_line__order")}  # type: ignore[attr-defined]
    looked = {line_id: one for line_id, one in found.items() if one.units}
    if not looked:
        raise BadInputError("Enter what came back.", field="lines")
    for line_id, one in looked.items():
        _check_found(lines.get(line_id), line_id, one)
    made = [part for line_id, one in sorted(looked.items()) for part in _parts(lines[line_id], one, at)]
    _move(back, made, at)
    for line_id, one in looked.items():
        row = lines[line_id]
        row.restocked += one.restock
        row.repair += one.repair
        row.written_off += one.write_off
    update_many([lines[line_id] for line_id in looked], ["restocked", "repair", "written_off"])
    pass_on(RETURN, back, State.PART_RECEIVED if any(row.left for row in lines.values()) else State.RECEIVED)
    back.version += 1
    back.save()
    record(Event.Kind.AVAILABILITY, {part.item_id for part in made}, f"return {back.number}")
    audit(actor, "look at return", RETURN.code, back.pk, after={"why": _told(looked.values())})
    return back


def _told(found: Iterable[Found]) -> str:
    """What became of the units, as it stands in a sentence."""
    sums = {"back in stock": ZERO, "to repair": ZERO, "written off": ZERO}
    for one in found:
        for name, units in zip(sums, (one.restock, one.repair, one.write_off), strict=True):
            sums[name] += units
    return ", ".join(f"{spoken(units)} {name}" for name, units in sums.items() if units)


def _check_found(row: ReturnLine | None, line_id: int, one: Found) -> None:
    field = f"lines.{line_id}"
    if row is None:
        raise BadInputError("That line is not on this return.", field=field)
    line = row.order_line
    decimals = line.item.decimals if line.item else 0
    for units in (one.restock, one.repair, one.write_off):
        if units < 0:
            raise BadInputError("A quantity cannot be negative.", field=field)
        if units != units.quantize(Decimal(1).scaleb(-decimals)):
            raise BadInputError(f"{line.title} is counted with {decimals} decimals.", field=field)
    if one.units > row.left:
        raise BadInputError(f"{line.title}: {spoken(row.left)} are expected, not {spoken(one.units)}.", field=field)


def _left_with(line: OrderLine) -> dict[int, tuple[Decimal, Decimal]]:
    """What of a line left, by item: units and cost. Of a kit its components as they left then."""
    shipped = ShipmentLine.objects.filter(order_line=line)
    parts = (
        ShipmentPart.objects.filter(line__in=shipped).values_list("item").annotate(n=Sum("quantity"), c=Sum("cost")).order_by()
    )
    found = {item: (units, cost) for item, units, cost in parts}
    if found:
        return found
    sums = shipped.aggregate(n=Sum("quantity"), c=Sum("cost"))
    units, cost = sums["n"] or ZERO, sums["c"] or ZERO
    if line.item_id is None:
        return {}
    # A kit that left before its components were written down comes back as it is made now.
    made = explode([line.item_id])[line.item_id]
    averages = dict(ItemCost.objects.filter(item_id__in=[item for item, _ in made]).values_list("item_id", "last_average"))
    shares = allocate(cost, [averages.get(item, ZERO) * each for item, each in made], line.order.currency) if made else []
    return {item: (units * each, share) for (item, each), share in zip(made, shares, strict=True)}


def _parts(row: ReturnLine, one: Found, at: datetime) -> list[ReturnPart]:
    """Units by item and fate, each at its share of what the line left with."""
    line = row.order_line
    before = ReturnPart.objects.filter(line__order_line=line).values_list("item").annotate(n=Sum("quantity"), v=Sum("value"))
    had = {item: (units, value) for item, units, value in before.order_by()}
    made = []
    for item, (units, cost) in sorted(_left_with(line).items()):
        each = units / line.shipped if line.shipped else Decimal(1)
        done, worth = had.get(item, (ZERO, ZERO))
        for kind, quantity in one.parts():
            part = quantity * each
            value = cost_back(cost, units, done, worth, part, line.order.currency)
            made.append(ReturnPart.objects.create(line=row, item_id=item, kind=kind, quantity=part, value=value, at=at))
            done, worth = done + part, worth + value
    return made


def repair_bench() -> Location:
    """The company's place for goods that have to be repaired; nothing there is for sale."""
    found = Location.objects.filter(for_sale=False).first()
    if found is None:
        last = Location.objects.aggregate(m=Max("position"))["m"] or 0
        facts = {"company": in_hand(), "name": REPAIR_NAME, "position": last + 1, "for_sale": False}
        found, _ = Location.objects.get_or_create(code=REPAIR_CODE, defaults=facts)
    return found


def _move(back: Return, made: Sequence[ReturnPart], at: datetime) -> None:
    """Bring units in where they go, and post what the whole is worth."""
    kept = [part for part in made if part.kind != Kind.WRITTEN_OFF]
    bench = repair_bench().pk if any(part.kind == Kind.REPAIR for part in kept) else None
    places = [back.location_id if part.kind == Kind.RESTOCKED else bench or 0 for part in kept]
    lock_balances((part.item_id, place) for part, place in zip(kept, places, strict=True))
    lots = _lots(back, {part.item_id for part in kept})
    values = []
    with Moving((part.item_id for part in kept), Cause("return", back.number, at, back.ref, back.note)) as moving:
        for part, place in zip(kept, places, strict=True):
            moved = moving.put_in(part.item_id, place, part.quantity, part.value, lots.get(part.item_id))
            values.append((part.item_id, moved.moved, moved.true_up))
    seen_by_a_count([(part.item_id, place, -part.quantity) for part, place in zip(kept, places, strict=True)], at, back.number)
    post(
        Posting(
            JournalEntry.Kind.RETURN,
            open_day(company_day(at)),
            back.number,
            postings.goods_back(values, [(part.item_id, part.value) for part in made if part.kind == Kind.WRITTEN_OFF]),
            ref=back.ref,
            memo=f"goods of {back.order.number} came back",
            gather=order_rules(back.order.connection).gather(back.order.connection),
        )
    )


def _lots(back: Return, items: set[int]) -> dict[int, Lot]:
    """The lot that units of each item go back to: of those they left from the one that expires first."""
    shipments = list(back.order.shipments.values_list("pk", flat=True))  # type: ignore[attr-defined]
    left = Q(document_kind=SHIPMENT.code, document_id__in=shipments, item__in=items, lot__isnull=False, quantity__lt=0)
    found: dict[int, Lot] = {}
    for move in StockMove.objects.filter(left).select_related("lot").order_by("lot__expires_on", "pk"):
        if move.lot:
            found.setdefault(move.item_id, move.lot)
    return found


@transaction.atomic
def close(actor: Actor, return_id: int, version: int) -> Return:
    """What is still expected will not come: the rest is taken off; a return of which nothing came is cancelled."""
    actor.need(Ability.RECEIVE)
    back = _open(return_id, version)
    left = ZERO
    for row in back.lines.select_related("order_line").filter(quantity__gt=0):  # type: ignore[attr-defined]
        left += row.left
        row.order_line.returned -= row.left
        row.order_line.save(update_fields=["returned"])
        row.quantity -= row.left
        row.save(update_fields=["quantity"])
    came = any(row.quantity for row in back.lines.all())  # type: ignore[attr-defined]
    pass_on(RETURN, back, State.RECEIVED if came else State.CANCELLED)
    back.version += 1
    back.save()
    audit(actor, "rest will not come" if came else "cancel return", RETURN.code, back.pk, after={"units": spoken(left)})
    return back
