"""Units that come and go. Balances are locked in (item, location) order, then costs by item, so that two events on the
same goods wait for each other and never block each other for good. What a move is worth is worked out at once; what one
event moves is written together, in as many statements whether it has one line or five hundred."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal
from types import TracebackType
from typing import Self

from yuvrel.core import cost as costing
from yuvrel.core.money import round_money
from yuvrel.documents.columns import from_document
from yuvrel.documents.registry import Ref
from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.platform.bulk import insert_many, update_many

from .models import CostChange, ItemCost, Lot, LotBalance, StockBalance, StockMove
from .sql import ensure_balances, ensure_costs
from .valuation import state_of, valuation


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


def change_incoming(changes: Iterable[tuple[int, int, Decimal]]) -> None:
    """Add to what is expected at (item, location); the caller is in its own transaction."""
    listed = list(changes)
    balances = lock_balances((item_id, location_id) for item_id, location_id, _ in listed)
    for item_id, location_id, quantity in listed:
        balances[item_id, location_id].incoming += quantity
    update_many(list(balances.values()), ["incoming"])


def lots_named(named: dict[tuple[int, str], date]) -> dict[tuple[int, str], Lot]:
    """The lots of these items and codes, made where they are new, to keep until the day given."""
    if not named:
        return {}
    Lot.objects.bulk_create(
        [Lot(item_id=item, code=code, expires_on=day) for (item, code), day in sorted(named.items())], ignore_conflicts=True
    )
    found = Lot.objects.filter(item_id__in={item for item, _ in named}, code__in={code for _, code in named})
    return {(lot.item_id, lot.code): lot for lot in found}


def lock_costs(item_ids: Iterable[int]) -> dict[int, ItemCost]:
    """The cost states of items, created where missing, locked in item order."""
    wanted = sorted(set(item_ids))
    ensure_costs(wanted)
    found = {row.item_id: row for row in ItemCost.objects.select_for_update().filter(item_id__in=wanted).order_by("item_id")}
    by = valuation()
    for row in found.values():
        row.valuation = by
    return found


@dataclass
class _Held:
    """What lies of a lot at a place."""

    lot: Lot
    units: Decimal


class Moving:
    """What one event moves, for one cause, while the locks on the cost states of its items are held.

    Who makes one holds the locks of the balances, and posts. It is written when its block ends without an error.
    """

    def __init__(self, item_ids: Iterable[int], cause: Cause) -> None:
        self.cause = cause
        self.costs = lock_costs(item_ids)
        self.moves: list[StockMove] = []
        self._changes: list[CostChange] = []
        self._lots: dict[int, dict[int, list[_Held]]] = {}

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        if kind is None:
            self._write()

    def put_in(
        self, item_id: int, location_id: int, quantity: Decimal, value: Decimal, lot: Lot | None = None
    ) -> costing.CostChange:
        """Bring units in at a value."""
        row = self.costs[item_id]
        change = row.valuation.receive(state_of(row), quantity, value, came=self.cause.document)
        self._changes.append(_cost_change(row, change, quantity, self.cause))
        _carry(row, change)
        self._move(item_id, location_id, quantity, change.moved, lot)
        return change

    def take_out(self, item_id: int, location_id: int, quantity: Decimal, lot: Lot | None = None) -> costing.CostChange:
        """Take units out at what the company's valuation says; lots that expire first leave first."""
        row = self.costs[item_id]
        change = row.valuation.issue(state_of(row), quantity)
        _carry(row, change)
        parts = [(lot, quantity)] if lot else self._first_expired(item_id, location_id, quantity)
        left = -change.moved
        for index, (part_lot, part) in enumerate(parts):
            value = left if index == len(parts) - 1 else round_money(-change.moved * part / quantity)
            left -= value
            self._move(item_id, location_id, -part, -value, part_lot)
        return change

    def put_right(
        self,
        item_id: int,
        location_id: int,
        delta: Decimal,
        *,
        each: Decimal | None = None,
        lot: Lot | None = None,
    ) -> costing.CostChange:
        """Move a difference: in at so much each, or at the average, or out."""
        if delta < 0:
            return self.take_out(item_id, location_id, -delta, lot)
        worth = state_of(self.costs[item_id]).average if each is None else each
        return self.put_in(item_id, location_id, delta, round_money(worth * delta), lot)

    def _write(self) -> None:
        moved = {move.item_id for move in self.moves}
        insert_many(self._changes)
        update_many([self.costs[item] for item in sorted(moved)], ["quantity", "value", "last_average", "last_cost", "layers"])
        insert_many(self.moves)
        record(Event.Kind.COST, {change.item_id for change in self._changes}, f"cost after {self.cause.document}")

    def _move(self, item_id: int, location_id: int, quantity: Decimal, value: Decimal, lot: Lot | None) -> None:
        if lot:
            there = self._lots_at(location_id).setdefault(item_id, [])
            held = next((one for one in there if one.lot.pk == lot.pk), None)
            if held:
                held.units += quantity
            else:
                there.append(_Held(lot, quantity))
                there.sort(key=lambda one: (one.lot.expires_on, one.lot.pk))
        self.moves.append(
            StockMove(
                item_id=item_id,
                location_id=location_id,
                lot=lot,
                quantity=quantity,
                value=value,
                reason=self.cause.reason,
                document=self.cause.document,
                **from_document(self.cause.ref),
                note=self.cause.note[:200],
                happened_at=self.cause.at,
            )
        )

    def _lots_at(self, location_id: int) -> dict[int, list[_Held]]:
        """What lies of each lot of the items at a place, with what was moved since, those that expire first first."""
        if location_id not in self._lots:
            found = self._lots[location_id] = {}
            rows = LotBalance.objects.select_related("lot").filter(lot__item__in=self.costs, location_id=location_id)
            for row in rows.order_by("lot__expires_on", "lot_id"):
                found.setdefault(row.lot.item_id, []).append(_Held(row.lot, row.on_hand))
        return self._lots[location_id]

    def _first_expired(self, item_id: int, location_id: int, quantity: Decimal) -> list[tuple[Lot | None, Decimal]]:
        """Which lots an issue takes from; what no lot covers has none."""
        parts: list[tuple[Lot | None, Decimal]] = []
        left = quantity
        for held in self._lots_at(location_id).get(item_id, []):
            units = min(left, held.units)
            if units > 0:
                parts.append((held.lot, units))
                left -= units
            if not left:
                return parts
        return [*parts, (None, left)]


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
