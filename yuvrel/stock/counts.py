"""Stock counted elsewhere and set in one go: one count for a place, however many items were counted there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal

from django.db import transaction

from yuvrel.books.actions import Posting, post
from yuvrel.books.models import JournalEntry
from yuvrel.core import postings
from yuvrel.core.errors import BadInputError
from yuvrel.core.money import ZERO
from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.people.models import Location
from yuvrel.people.queries import company_day
from yuvrel.people.roles import Ability, Actor, audit

from .documents import COUNT, write
from .models import Lot, LotBalance, StockCount, StockDocument
from .moving import Cause, Moving, lock_balances, lots_named
from .valuation import state_of


@dataclass(frozen=True)
class Counted:
    """So many units lie there. `unit_cost`: in base currency, of those that are more than the books say; None: the
    moving average. `lot`: the code of the lot that was counted, with its day where it is new; none: what lies there of no
    lot, which of most items is all."""

    item_id: int
    units: Decimal
    unit_cost: Decimal | None = None
    lot: str = ""
    expires_on: date | None = None


@transaction.atomic
def count_all(actor: Actor, location: Location, rows: Sequence[Counted], at: datetime, note: str) -> StockDocument:
    """Set what lies at a place to what was counted, with one document and one entry.

    What is missing leaves at the moving average, what is more comes in at its cost. Raises BadInputError for a quantity
    below zero, and for units of an item that nobody has said the cost of.
    """
    actor.need(Ability.ADJUST)
    balances = lock_balances((row.item_id, location.pk) for row in rows)
    document = write(actor, COUNT, at, COUNT.code, location, note)
    cause = Cause(COUNT.code, document.number, at, document.ref, note)
    lots, held = _lots_of(rows), _held(rows, location)
    of_lots: dict[int, Decimal] = {}
    for (item, _), units in held.items():
        of_lots[item] = of_lots.get(item, ZERO) + units
    values: list[tuple[int, Decimal, Decimal]] = []
    changes: dict[int, Decimal] = {}
    with Moving((row.item_id for row in rows), cause) as moving:
        for row in rows:
            if row.units < 0:
                raise BadInputError("Fewer than none cannot be counted.", field="on_hand")
            lot = lots.get((row.item_id, row.lot.casefold()))
            loose = balances[row.item_id, location.pk].on_hand - of_lots.get(row.item_id, ZERO)
            before = held.get((row.item_id, lot.pk), ZERO) if lot else loose
            changes[row.item_id] = changes.get(row.item_id, ZERO) + row.units - before
            if row.units != before:
                values.append(_set(moving, location, row, row.units - before, lot))
    StockCount.objects.bulk_create(
        StockCount(
            item_id=item_id,
            location=location,
            counted=balances[item_id, location.pk].on_hand + change,
            expected=balances[item_id, location.pk].on_hand,
            document=document,
            counted_at=at,
        )
        for item_id, change in changes.items()
    )
    if values:
        lines = postings.adjustment(cause.reason, values)
        memo = f"{location.name}: {note}"[:200]
        post(Posting(JournalEntry.Kind.ADJUSTMENT, company_day(at), cause.document, lines, ref=cause.ref, memo=memo))
        record(Event.Kind.AVAILABILITY, {item for item, _, _ in values}, f"count {document.number}")
    audit(actor, "count", "document", document.pk, after={"number": document.number, "rows": len(rows), "note": note})
    return document


def _lots_of(rows: Sequence[Counted]) -> dict[tuple[int, str], Lot]:
    """The lots that the rows name, made where they are new."""
    named = [row for row in rows if row.lot]
    known = Lot.objects.filter(item_id__in={row.item_id for row in named})
    found = {(lot.item_id, lot.code.casefold()): lot for lot in known}
    fresh: dict[tuple[int, str], tuple[str, date]] = {}
    for row in named:
        key = (row.item_id, row.lot.casefold())
        if key in found or key in fresh:
            continue
        if row.expires_on is None:
            raise BadInputError(f"Nobody has said until when lot {row.lot} keeps.", field="expires_on")
        fresh[key] = (row.lot, row.expires_on)
    made = lots_named({(item, code): day for (item, _), (code, day) in fresh.items()})
    return found | {(item, code.casefold()): lot for (item, code), lot in made.items()}


def _held(rows: Sequence[Counted], location: Location) -> dict[tuple[int, int], Decimal]:
    """What of each lot of the items lies there, by item and lot."""
    there = LotBalance.objects.filter(location=location, lot__item_id__in={row.item_id for row in rows})
    return {(item, lot): units for item, lot, units in there.values_list("lot__item_id", "lot_id", "on_hand")}


def _set(moving: Moving, location: Location, row: Counted, delta: Decimal, lot: Lot | None) -> tuple[int, Decimal, Decimal]:
    """Move a difference in or out; (item, value moved, true-up)."""
    cost = moving.costs[row.item_id]
    if delta > 0 and row.unit_cost is None and not state_of(cost).average:
        raise BadInputError("Nobody has said what one costs, so no more can come in.", field="cost")
    moved = moving.put_right(row.item_id, location.pk, delta, each=row.unit_cost, lot=lot)
    if delta > 0 and row.unit_cost:
        cost.last_cost = cost.last_cost or row.unit_cost
    return row.item_id, moved.moved, moved.true_up
