"""Stock put right: by a change, by a count, by what was there when the books opened."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal

from django.db import transaction

from yuvrel.books.actions import Posting, open_day, post
from yuvrel.books.models import JournalEntry
from yuvrel.catalogue.models import Item
from yuvrel.core import postings
from yuvrel.core.errors import BadInputError, NotFoundError, RefusedError
from yuvrel.core.money import ZERO, round_money, spoken
from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.people.models import Location
from yuvrel.people.queries import company_day
from yuvrel.people.roles import Ability, Actor, audit

from .documents import ADJUSTMENT, COUNT, OPENING, write
from .models import Lot, StockBalance, StockCount
from .moving import Cause, Moving, lock_balances, lock_costs, lots_named

TAKES_AWAY = ("damaged", "lost", "expired", "sample")
ADJUST_REASONS = ("damaged", "lost", "found", "count", "expired", "sample")


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
    with Moving([item.pk], cause) as moving:
        moved = moving.put_right(item.pk, location.pk, delta, lot=lot)
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
    listed = sorted(takes)
    counted = _first_counts({(item, place) for item, place, _ in listed}, sold_at)
    if counted:
        # Of all that the sale takes, in their order: what is put back first must not be locked before what leaves then.
        lock_costs(item for item, _, _ in listed)
    for item_id, location_id, quantity in listed:
        count = counted.get((item_id, location_id))
        if count is None:
            continue
        note = f"{'sold' if quantity > 0 else 'back'} before the count, heard of after it: {document}"
        cause = Cause("count", count.document.number, count.counted_at, count.document.ref, note)
        with Moving([item_id], cause) as moving:
            moved = moving.put_right(item_id, location_id, quantity)
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


def _first_counts(pairs: set[tuple[int, int]], after: datetime) -> dict[tuple[int, int], StockCount]:
    """Of each (item, location) that was counted after a moment, the first such count."""
    items, places = {item for item, _ in pairs}, {place for _, place in pairs}
    rows = StockCount.objects.filter(item__in=items, location__in=places, counted_at__gt=after).select_related("document")
    rows = rows.order_by("item_id", "location_id", "counted_at", "pk").distinct("item_id", "location_id")
    return {(row.item_id, row.location_id): row for row in rows if (row.item_id, row.location_id) in pairs}


@dataclass(frozen=True)
class OpeningRow:
    """One line of opening stock: units and their cost per unit in base currency."""

    item_id: int
    location_id: int
    quantity: Decimal
    unit_cost: Decimal
    lot_code: str = ""
    expires_on: date | None = None


@transaction.atomic
def take_opening(actor: Actor, rows: Sequence[OpeningRow], at: datetime) -> int:
    """Import opening stock as one event with one entry. Returns how many rows came in."""
    actor.need(Ability.OPEN_STOCK)
    if not rows:
        raise BadInputError("There is nothing to import.", field="file")
    lock_balances((row.item_id, row.location_id) for row in rows)
    document = write(actor, OPENING, at, "opening")
    number = document.number
    audit(actor, "take in opening stock", "opening", document.pk, after={"lines": len(rows)})
    lots = lots_named({(row.item_id, row.lot_code): row.expires_on for row in rows if row.lot_code and row.expires_on})
    values = []
    with Moving((row.item_id for row in rows), Cause("opening", number, at, document.ref)) as moving:
        for row in rows:
            worth = round_money(row.quantity * row.unit_cost)
            lot = lots.get((row.item_id, row.lot_code))
            change = moving.put_in(row.item_id, row.location_id, row.quantity, worth, lot)
            moving.costs[row.item_id].last_cost = moving.costs[row.item_id].last_cost or row.unit_cost
            values.append((row.item_id, change.moved, change.true_up))
    post(
        Posting(
            JournalEntry.Kind.OPENING,
            company_day(at),
            number,
            postings.opening(values),
            ref=document.ref,
            memo="opening stock",
        )
    )
    record(Event.Kind.AVAILABILITY, {row.item_id for row in rows}, number)
    return len(rows)


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
