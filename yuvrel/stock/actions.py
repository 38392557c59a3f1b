"""Everything that moves stock. Balances are locked in (item, location) order, then costs by item,
so that two events on the same goods wait for each other and never block each other for good."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal

from django.db import transaction
from django.db.models import F

from yuvrel.books.actions import Posting, open_day, post
from yuvrel.books.models import JournalEntry
from yuvrel.catalogue.models import Item
from yuvrel.core import cost as costing
from yuvrel.core import postings
from yuvrel.core.errors import BadInputError, NotFoundError, RefusedError
from yuvrel.core.money import ZERO, round_money, spoken
from yuvrel.documents.columns import from_document
from yuvrel.documents.registry import Ref
from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.people.models import Location
from yuvrel.people.queries import company_day
from yuvrel.people.roles import Ability, Actor, audit
from yuvrel.platform.bulk import insert_many, update_many

from .documents import ADJUSTMENT, COUNT, OPENING, write
from .models import CostChange, ItemCost, Lot, LotBalance, StockBalance, StockCount, StockMove
from .sql import ensure_balances, ensure_costs
from .valuation import state_of, valuation

TAKES_AWAY = ("damaged", "lost", "expired", "sample")
ADJUST_REASONS = ("damaged", "lost", "found", "count", "expired", "sample")


@dataclass(frozen=True)
class Cause:
    """Why units move: the reason, the document, when it happened."""

    reason: str
    document: str
    at: datetime
    ref: Ref | None = None
    note: str = ""


def lock_balances(pairs: Iterable[tuple[int, int]]) -> dict[tuple[int, int], StockBalance]:
    """The balances of (item, location) pairs, created where missing, locked in order."""
    wanted = sorted(set(pairs))
    ensure_balances(wanted)
    rows = (
        StockBalance.objects.select_for_update()
        .filter(item_id__in={i for i, _ in wanted}, location_id__in={loc for _, loc in wanted})
        .order_by("item_id", "location_id")
    )
    found = {(row.item_id, row.location_id): row for row in rows}
    return {pair: found[pair] for pair in wanted}


def lock_costs(item_ids: Iterable[int]) -> dict[int, ItemCost]:
    """The cost states of items, created where missing, locked in item order."""
    wanted = sorted(set(item_ids))
    ensure_costs(wanted)
    found = {row.item_id: row for row in ItemCost.objects.select_for_update().filter(item_id__in=wanted).order_by("item_id")}
    by = valuation()
    for row in found.values():
        row.valuation = by
    return found


def _cost_change(row: ItemCost, change: costing.CostChange, quantity: Decimal, cause: Cause) -> CostChange:
    """Only what comes in changes the average; an issue leaves at it and is no change of cost."""
    return CostChange(
        item_id=row.item_id,
        at=cause.at,
        cause=cause.reason,
        document=cause.document,
        **from_document(cause.ref),
        quantity=quantity,
        value=change.moved,
        true_up=change.true_up,
        quantity_before=change.before.quantity,
        value_before=change.before.value,
        average_before=change.before.average,
        average_after=change.after.average,
    )


def _carry(row: ItemCost, change: costing.CostChange) -> None:
    row.quantity, row.value = change.after.quantity, change.after.value
    row.last_average = change.after.average
    row.layers = costing.as_kept(change.after.layers)


def put_in(
    row: ItemCost, location_id: int, quantity: Decimal, value: Decimal, cause: Cause, lot: Lot | None = None
) -> costing.CostChange:
    """Bring units in at a value; the caller holds the locks and posts."""
    change = row.valuation.receive(state_of(row), quantity, value, came=cause.document)
    _cost_change(row, change, quantity, cause).save()
    _carry(row, change)
    row.save()
    _move(row.item_id, location_id, quantity, change.moved, cause, lot).save()
    record(Event.Kind.COST, [row.item_id], f"cost after {cause.document}")
    return change


def take_out(row: ItemCost, location_id: int, quantity: Decimal, cause: Cause, lot: Lot | None = None) -> costing.CostChange:
    """Take units out at what the company's valuation says; lots that expire first leave first."""
    change = row.valuation.issue(state_of(row), quantity)
    _carry(row, change)
    row.save()
    parts = [(lot, quantity)] if lot else _first_expired(row.item_id, location_id, quantity)
    left = -change.moved
    for index, (part_lot, part) in enumerate(parts):
        value = left if index == len(parts) - 1 else round_money(-change.moved * part / quantity)
        left -= value
        _move(row.item_id, location_id, -part, -value, cause, part_lot).save()
    return change


def _move(item_id: int, location_id: int, quantity: Decimal, value: Decimal, cause: Cause, lot: Lot | None) -> StockMove:
    return StockMove(
        item_id=item_id,
        location_id=location_id,
        lot=lot,
        quantity=quantity,
        value=value,
        reason=cause.reason,
        document=cause.document,
        **from_document(cause.ref),
        note=cause.note[:200],
        happened_at=cause.at,
    )


def _first_expired(item_id: int, location_id: int, quantity: Decimal) -> list[tuple[Lot | None, Decimal]]:
    """Which lots an issue takes from; what no lot covers has none."""
    parts: list[tuple[Lot | None, Decimal]] = []
    left = quantity
    rows = (
        LotBalance.objects.select_related("lot")
        .filter(lot__item_id=item_id, location_id=location_id, on_hand__gt=0)
        .order_by("lot__expires_on", "lot_id")
    )
    for row in rows:
        take = min(left, row.on_hand)
        parts.append((row.lot, take))
        left -= take
        if not left:
            return parts
    return [*parts, (None, left)]


def check_quantity(item: Item, quantity: Decimal, field: str = "quantity") -> None:
    """Raises BadInputError when an item cannot have such a quantity."""
    if item.kind != Item.Kind.STOCKED:
        raise BadInputError(f"{item.sku} is a {item.kind}; it has no stock of its own.", field="item")
    if quantity != quantity.quantize(Decimal(1).scaleb(-item.decimals)):
        raise BadInputError(f"{item.sku} is counted with {item.decimals} decimals; {quantity} has more.", field=field)
    if abs(quantity) >= Decimal(10) ** 12:
        raise BadInputError(f"{quantity} is too large a quantity.", field=field)


def _difference(
    item: Item, location: Location, balance: StockBalance, reason: str, change: Decimal | None, counted: Decimal | None
) -> Decimal:
    """The signed change an adjustment means; zero only for a count that agrees."""
    if reason not in ADJUST_REASONS:
        raise BadInputError(f"Reason must be one of {', '.join(ADJUST_REASONS)}.", field="reason")
    if (change is None) == (counted is None):
        raise BadInputError("Give either a change or a counted quantity.", field="change")
    if counted is not None:
        if counted < 0:
            raise BadInputError("A counted quantity cannot be negative.", field="counted")
        check_quantity(item, counted, "counted")
        return counted - balance.on_hand
    delta = change or ZERO
    check_quantity(item, delta, "change")
    if not delta:
        raise BadInputError("A change of zero changes nothing.", field="change")
    if reason in TAKES_AWAY and delta > 0:
        raise BadInputError(f"{reason.capitalize()} takes units away; the change must be negative.", field="change")
    if reason == "found" and delta < 0:
        raise BadInputError("Found brings units in; the change must be positive.", field="change")
    if delta < 0 and -delta > balance.on_hand:
        raise RefusedError(
            f"Only {spoken(balance.on_hand)} are on hand at {location.name}. Count the item instead.", field="change"
        )
    return delta


@transaction.atomic
def adjust(
    actor: Actor,
    *,
    item_id: int,
    location_id: int,
    reason: str,
    at: datetime,
    change: Decimal | None = None,
    counted: Decimal | None = None,
    lot_id: int | None = None,
    note: str = "",
) -> JournalEntry | None:
    """Put stock right: by a signed change, or to a counted quantity. Posts against the reason.

    A positive difference enters at the current average. A count that finds what the books say
    changes nothing. Raises RefusedError when more would be taken than is there, or when the
    reason does not fit.
    """
    actor.need(Ability.ADJUST)
    item = _item(item_id)
    location = _location(location_id)
    balance = lock_balances([(item.pk, location.pk)])[item.pk, location.pk]
    delta = _difference(item, location, balance, reason, change, counted)
    document = write(actor, ADJUSTMENT if counted is None else COUNT, at, reason, location, note)
    if counted is not None:
        StockCount.objects.create(
            item=item, location=location, counted=counted, expected=balance.on_hand, document=document, counted_at=at
        )
    if not delta:
        audit(actor, "count agrees", "item", item.pk, after={"on_hand": str(balance.on_hand), "location": location.code})
        return None
    audit(
        actor,
        f"adjust: {reason}",
        "item",
        item.pk,
        {"on_hand": str(balance.on_hand)},
        {"on_hand": str(balance.on_hand + delta), "location": location.code, "note": note},
    )
    lot = Lot.objects.filter(pk=lot_id, item=item).first() if lot_id else None
    cause = Cause(reason, document.number, at, document.ref, note)
    entry = _put_right(item, location, delta, cause, lot)
    record(Event.Kind.AVAILABILITY, [item.pk], f"{reason} {document.number}")
    return entry


def _put_right(item: Item, location: Location, delta: Decimal, cause: Cause, lot: Lot | None) -> JournalEntry | None:
    """Move a difference in at the average, or out, and post it against the account of its reason."""
    row = lock_costs([item.pk])[item.pk]
    if delta > 0:
        moved = put_in(row, location.pk, delta, round_money(state_of(row).average * delta), cause, lot)
    else:
        moved = take_out(row, location.pk, -delta, cause, lot)
    return post(
        Posting(
            JournalEntry.Kind.ADJUSTMENT,
            company_day(cause.at),
            cause.document,
            postings.adjustment(cause.reason, [(item.pk, moved.moved, moved.true_up)]),
            ref=cause.ref,
            memo=f"{item.sku} {cause.reason} {spoken(delta, signed=True)} {cause.note}".strip(),
        )
    )


def seen_by_a_count(takes: Iterable[tuple[int, int, Decimal]], sold_at: datetime, document: str) -> None:
    """Put back what a count has seen already: units sold before it, of which we hear only now; of units that came back
    before it, as many are taken out again.

    `takes` are (item, location, units), the units negative where they came back. The shelf was counted without those that
    were sold, and the books were set to that count; taking them out once more would make the books wrong. The correction is
    dated to the count, so that the stock as at any time comes out right. The caller holds the balances' locks.
    """
    listed = list(takes)
    costs = lock_costs(item for item, _, _ in listed)
    for item_id, location_id, quantity in sorted(listed):
        count = (
            StockCount.objects.filter(item_id=item_id, location_id=location_id, counted_at__gt=sold_at)
            .select_related("document")
            .order_by("counted_at")
            .first()
        )
        if count is None:
            continue
        note = f"{'sold' if quantity > 0 else 'back'} before the count, heard of after it: {document}"
        cause = Cause("count", count.document.number, count.counted_at, count.document.ref, note)
        row = costs[item_id]
        if quantity > 0:
            moved = put_in(row, location_id, quantity, round_money(state_of(row).average * quantity), cause)
        else:
            moved = take_out(row, location_id, -quantity, cause)
        post(
            Posting(
                JournalEntry.Kind.ADJUSTMENT,
                open_day(company_day(count.counted_at)),
                cause.document,
                postings.adjustment("count", [(item_id, moved.moved, moved.true_up)]),
                ref=cause.ref,
                memo=note,
            )
        )


@dataclass(frozen=True)
class OpeningRow:
    """One line of opening stock: units and their cost per unit in base currency."""

    item_id: int
    location_id: int
    quantity: Decimal
    unit_cost: Decimal
    lot_code: str = ""
    expires_on: date | None = None


def _lots_of(rows: Sequence[OpeningRow]) -> dict[tuple[int, str], Lot]:
    """The lots named in the rows, made where they are new."""
    named = {(row.item_id, row.lot_code): row.expires_on for row in rows if row.lot_code and row.expires_on}
    Lot.objects.bulk_create(
        [Lot(item_id=item, code=code, expires_on=day) for (item, code), day in named.items()], ignore_conflicts=True
    )
    found = Lot.objects.filter(item_id__in={item for item, _ in named}, code__in={code for _, code in named})
    return {(lot.item_id, lot.code): lot for lot in found}


@transaction.atomic
def take_opening(actor: Actor, rows: Sequence[OpeningRow], at: datetime) -> int:
    """Import opening stock as one event with one entry. Returns how many rows came in."""
    actor.need(Ability.OPEN_STOCK)
    if not rows:
        raise BadInputError("There is nothing to import.", field="file")
    lock_balances((row.item_id, row.location_id) for row in rows)
    costs = lock_costs(row.item_id for row in rows)
    document = write(actor, OPENING, at, "opening")
    number = document.number
    audit(actor, "take in opening stock", "opening", document.pk, after={"lines": len(rows)})
    cause = Cause("opening", number, at, document.ref)
    lots = _lots_of(rows)
    values, moves, changes = [], [], []
    for row in rows:
        cost = costs[row.item_id]
        worth = round_money(row.quantity * row.unit_cost)
        change = cost.valuation.receive(state_of(cost), row.quantity, worth, came=number)
        changes.append(_cost_change(cost, change, row.quantity, cause))
        _carry(cost, change)
        cost.last_cost = cost.last_cost or row.unit_cost
        lot = lots.get((row.item_id, row.lot_code))
        moves.append(_move(row.item_id, row.location_id, row.quantity, change.moved, cause, lot))
        values.append((row.item_id, change.moved, change.true_up))
    insert_many(moves)
    insert_many(changes)
    update_many(list(costs.values()), ["quantity", "value", "last_average", "last_cost", "layers"])
    post(
        Posting(
            JournalEntry.Kind.OPENING,
            company_day(at),
            number,
            postings.opening(values),
            ref=cause.ref,
            memo="opening stock",
        )
    )
    for kind in (Event.Kind.AVAILABILITY, Event.Kind.COST):
        record(kind, {row.item_id for row in rows}, number)
    return len(rows)


def change_incoming(changes: Iterable[tuple[int, int, Decimal]]) -> None:
    """Add to what is expected at (item, location); the caller is in its own transaction."""
    listed = list(changes)
    lock_balances((item_id, location_id) for item_id, location_id, _ in listed)
    for item_id, location_id, quantity in sorted(listed):
        StockBalance.objects.filter(item_id=item_id, location_id=location_id).update(incoming=F("incoming") + quantity)


def _item(item_id: int) -> Item:
    item = Item.objects.filter(pk=item_id).first()
    if item is None:
        raise NotFoundError("There is no such item.", field="item")
    return item


def _location(location_id: int) -> Location:
    location = Location.objects.filter(pk=location_id).first()
    if location is None:
        raise NotFoundError("There is no such location.", field="location")
    return location
