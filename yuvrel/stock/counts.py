"""Stock counted elsewhere and set in one go: one count for a place, however many items were counted there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal

from django.db import transaction

from yuvrel.books.actions import Posting, post
from yuvrel.books.models import JournalEntry
from yuvrel.core import postings
from yuvrel.core.errors import BadInputError
from yuvrel.core.money import round_money
from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.people.models import Location
from yuvrel.people.queries import company_day
from yuvrel.people.roles import Ability, Actor, audit

from .actions import Cause, lock_balances, lock_costs, put_in, state_of, take_out
from .documents import COUNT, write
from .models import ItemCost, StockCount, StockDocument


@dataclass(frozen=True)
class Counted:
    """So many units lie there. `unit_cost`: in base currency, of those that are more than the books say; None: the
    moving average."""

    item_id: int
    units: Decimal
    unit_cost: Decimal | None = None


@transaction.atomic
def count_all(actor: Actor, location: Location, rows: Sequence[Counted], at: datetime, note: str) -> StockDocument:
    """Set what lies at a place to what was counted, with one document and one entry.

    What is missing leaves at the moving average, what is more comes in at its cost. Raises BadInputError for a quantity
    below zero, and for units of an item that nobody has said the cost of.
    """
    actor.need(Ability.ADJUST)
    balances = lock_balances((row.item_id, location.pk) for row in rows)
    costs = lock_costs(row.item_id for row in rows)
    document = write(actor, COUNT, at, COUNT.code, location, note)
    cause = Cause(COUNT.code, document.number, at, document.ref, note)
    counts, values = [], []
    for row in rows:
        before = balances[row.item_id, location.pk].on_hand
        counts.append(
            StockCount(
                item_id=row.item_id,
                location=location,
                counted=row.units,
                expected=before,
                document=document,
                counted_at=at,
            )
        )
        if row.units < 0:
            raise BadInputError("Fewer than none cannot be counted.", field="on_hand")
        if row.units != before:
            values.append(_set(costs[row.item_id], location, row, row.units - before, cause))
    StockCount.objects.bulk_create(counts)
    if values:
        lines = postings.adjustment(cause.reason, values)
        memo = f"{location.name}: {note}"[:200]
        post(Posting(JournalEntry.Kind.ADJUSTMENT, company_day(at), cause.document, lines, ref=cause.ref, memo=memo))
        record(Event.Kind.AVAILABILITY, {item for item, _, _ in values}, f"count {document.number}")
    audit(actor, "count", "document", document.pk, after={"number": document.number, "rows": len(rows), "note": note})
    return document


def _set(cost: ItemCost, location: Location, row: Counted, delta: Decimal, cause: Cause) -> tuple[int, Decimal, Decimal]:
    """Move a difference in or out; (item, value moved, true-up)."""
    if delta < 0:
        moved = take_out(cost, location.pk, -delta, cause)
        return row.item_id, moved.moved, moved.true_up
    each = state_of(cost).average if row.unit_cost is None else row.unit_cost
    if row.unit_cost is None and not each:
        raise BadInputError("Nobody has said what one costs, so no more can come in.", field="cost")
    value = round_money(delta * each)
    moved = put_in(cost, location.pk, delta, value, cause)
    if not cost.last_cost and row.unit_cost:
        cost.last_cost = row.unit_cost
        cost.save(update_fields=["last_cost"])
    return row.item_id, moved.moved, moved.true_up
