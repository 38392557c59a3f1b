"""What was sold past zero: under which limit, promised for when. One order at a time takes from a limit."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import date
from decimal import Decimal

from django.db import connection
from django.db.models import Sum

from yuvrel.core.money import ZERO
from yuvrel.core.past_zero import Deliveries, PastZero, Sold, promised_on, wholes
from yuvrel.core.working import plain

from .models import OrderLine, Reservation, SalesOrder

# Whoever takes from a limit waits for whoever took before: two orders at once would both find the last unit.
TURN = "SELECT pg_advisory_xact_lock(7266, hashtext(%s))"


@dataclass(frozen=True)
class Allowance:
    """What a listing allows past zero: `scope` is the level where the limit is set, in one text; `deliveries` on their
    way to the place that serves it, by stocked item."""

    rule: PastZero
    scope: str
    deliveries: Mapping[int, Deliveries] = field(default_factory=dict)


def take_turns(scopes: Iterable[str]) -> None:
    """Hold these limits until the transaction ends, in one order for everybody."""
    with connection.cursor() as cursor:
        for scope in sorted(set(scopes)):
            cursor.execute(TURN, [scope])


def scopes_of(order: SalesOrder) -> set[str]:
    """The limits that an order took from."""
    return set(order.lines.exclude(past_zero_scope="").values_list("past_zero_scope", flat=True))


def promises_of(order: SalesOrder) -> dict[int, tuple[Decimal, date]]:
    """What an order was promised, by item: units past zero and the day."""
    rows = order.lines.values_list("item_id", "past_zero", "promised_on")
    return {item: (units, day) for item, units, day in rows if item and day}


def sold_under(scopes: Iterable[str]) -> dict[str, Sold]:
    """What was sold under some limits, in two queries; of orders that were cancelled nothing counts."""
    wanted = set(scopes)
    if not wanted:
        return {}
    lines = OrderLine.objects.filter(past_zero_scope__in=wanted, past_zero__gt=0).exclude(order__state="cancelled")
    everything = dict(lines.values_list("past_zero_scope").annotate(units=Sum("past_zero")).order_by())
    waiting = Reservation.objects.filter(line__in=lines, state=Reservation.State.BACKORDER)
    owed: dict[int, Decimal] = defaultdict(Decimal)
    whose: dict[int, tuple[str, Decimal]] = {}
    rows = waiting.values_list("line_id", "line__past_zero_scope", "line__past_zero", "item_id", "per_unit")
    for line, scope, units, _, per, quantity in rows.annotate(q=Sum("quantity")).order_by():
        # Of a kit the part of which most is missing tells how many of it wait.
        owed[line] = max(owed[line], wholes(quantity, per))
        whose[line] = scope, units
    unserved: dict[str, Decimal] = defaultdict(Decimal)
    for line, (scope, units) in whose.items():
        unserved[scope] += min(units, owed[line])
    return {scope: Sold(everything.get(scope, ZERO), unserved[scope]) for scope in wanted}


class Counter:
    """Takes from limits line by line; the caller holds them (`take_turns`)."""

    def __init__(self, scopes: Iterable[str], before: Mapping[int, tuple[Decimal, date]], today: date, placed: date) -> None:
        self.sold = sold_under(scopes)
        self.before, self.today, self.placed = before, today, placed

    def take(self, row: OrderLine, allowance: Allowance, short: Decimal, waits: Mapping[int, tuple[Decimal, Decimal]]) -> str:
        """Count a line of which `short` units cannot be reserved, and say for when they are promised.

        `waits`: by stocked item, what was owed there before and what this line is owed. Returns why it cannot be sold so:
        empty when it can.
        """
        rule, scope = allowance.rule, allowance.scope
        units = rule.under_limit(row.quantity, short)
        if not units:
            return ""
        sold = self.sold.get(scope, Sold())
        left = rule.left(sold)
        if units > left:
            return f"{plain(units)} of {row.sku or row.title} would be sold past zero, and {plain(left)} are left of the limit."
        self.sold[scope] = Sold(sold.all + units, sold.unserved + short)
        row.past_zero, row.past_zero_scope = units, scope
        if short:
            days = [
                promised_on(allowance.deliveries.get(part, ()), owed, more, self.today, rule.lead_days)
                for part, (owed, more) in waits.items()
            ]
            row.promised_on = self._kept(row, units, max(days))
        return ""

    def _kept(self, row: OrderLine, units: Decimal, day: date) -> date:
        """An earlier promise stands, unless more is wanted now."""
        had = self.before.get(row.item_id or 0)
        return min(day, had[1]) if had and had[0] >= units else day
