"""What was sold and what was in stock, item by item and place by place, over two years."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta
from decimal import Decimal

import numpy as np
from django.db.models.functions import TruncDate

from yuvrel.catalogue.kits import kits, parts_of
from yuvrel.core.forecast.series import Floats
from yuvrel.core.history import History, SoldLine, daily_units, exploded, history, seen_before_the_books, share_in_stock
from yuvrel.people.queries import company_zone
from yuvrel.platform.snapshot import one_moment
from yuvrel.sales.models import OrderLine, PastSale, SalesOrder
from yuvrel.stock.models import StockBalance, StockMove

from .models import SetAside
from .queries import Pair

WEEKS = 104
DAYS = WEEKS * 7
MONTH_DAYS, YEAR_DAYS = 30, 364
# A thousandth is the smallest quantity there is.
NOTHING = 0.0005


@dataclass(frozen=True)
class Past:
    """Weekly series with their one-offs; units sold in the 30 days that began 52 weeks ago (NaN: not in stock then)."""

    history: History
    last_year: Floats


@one_moment()
def read_past(batch: Sequence[Pair], today: date) -> Past:
    """Kits exploded to their parts, time without stock unknown, one-offs set aside unless somebody said otherwise."""
    start = today - timedelta(days=DAYS)
    made = kits()
    lines, decided, past_sales = _lines(batch, start, today, made)
    seen = _seen(batch, start, past_sales)
    parts = {kit: [(part, float(each)) for part, each in of] for kit, of in made.items()}
    told = history(lines, batch, today, DAYS, parts=parts, seen=seen, set_bulk_aside=True, decided=decided)
    own = set(batch)
    told = replace(told, bulk=tuple(bulk for bulk in told.bulk if (bulk.line.item, bulk.line.location) in own))
    begin = DAYS - YEAR_DAYS
    sold = daily_units(exploded(lines, parts), batch, start + timedelta(days=begin), MONTH_DAYS).sum(axis=1)
    in_stock = seen[:, begin : begin + MONTH_DAYS].sum(axis=1) > 0
    return Past(told, np.where(in_stock | (sold > 0), sold, np.nan))


def _lines(
    batch: Sequence[Pair], start: date, today: date, made: dict[int, list[tuple[int, Decimal]]]
) -> tuple[list[SoldLine], dict[int, bool], dict[Pair, int]]:
    """Order lines of the batch's items and of the kits they are in; what people decided of some; by item and place the
    day since the start on which it was first sold in an order taken in as history."""
    zone = company_zone()
    wanted = {item for item, _ in batch}
    wanted |= {kit for kit, of in made.items() if any(part in wanted for part, _ in of)}
    rows = (
        OrderLine.objects.filter(
            kind=OrderLine.Kind.ITEM,
            item_id__in=wanted,
            order__placed_at__gte=datetime(start.year, start.month, start.day, tzinfo=zone),
            order__placed_at__lt=datetime(today.year, today.month, today.day, tzinfo=zone),
        )
        .exclude(order__state=SalesOrder.State.CANCELLED)
        .annotate(day=TruncDate("order__placed_at", tzinfo=zone))
        .order_by("pk")
        .values_list("pk", "item_id", "order__location_id", "day", "quantity", "order__number", "order_id", "order__history")
    )
    said = {(row.order_id, row.item_id): row.aside for row in SetAside.objects.filter(item_id__in=wanted)}
    lines, decided = [], {}
    earlier, past_sales = _told_by_sheets(wanted, start, today, made)
    lines += earlier
    for pk, item, place, day, quantity, number, order, is_past in rows.iterator(chunk_size=10_000):
        lines.append(SoldLine(item, place, day, float(quantity), number, ref=pk))
        if (order, item) in said:
            decided[pk] = said[order, item]
        for part, _ in parts_of(made, item) if is_past else ():
            past_sales[part, place] = min((day - start).days, past_sales.get((part, place), DAYS))
    return lines, decided, past_sales


def _told_by_sheets(
    wanted: Iterable[int], start: date, today: date, made: dict[int, list[tuple[int, Decimal]]]
) -> tuple[list[SoldLine], dict[Pair, int]]:
    """What sheets say was sold before orders came in here, and the first day of each item and place since the start."""
    rows = PastSale.objects.filter(item__in=wanted, day__gte=start, day__lt=today, units__gt=0).order_by("pk")
    lines, first = [], dict[Pair, int]()
    for item, place, day, units in rows.values_list("item_id", "location_id", "day", "units").iterator(chunk_size=10_000):
        lines.append(SoldLine(item, place, day, float(units), "past sales", whole_day=True))
        for part, _ in parts_of(made, item):
            first[part, place] = min((day - start).days, first.get((part, place), DAYS))
    return lines, first


def _seen(batch: Sequence[Pair], start: date, past_sales: Mapping[Pair, int]) -> Floats:
    """Share of each day in stock, n × DAYS; days of 23 and 25 hours count as 24. Before stock was kept here, from the
    first sale on."""
    begin = datetime(start.year, start.month, start.day, tzinfo=company_zone())
    items = {item for item, _ in batch}
    times: dict[Pair, list[float]] = defaultdict(list)
    changes: dict[Pair, list[float]] = defaultdict(list)
    moves = StockMove.objects.filter(item_id__in=items, happened_at__gte=begin).order_by()
    for item, place, when, quantity in moves.values_list("item_id", "location_id", "happened_at", "quantity"):
        times[item, place].append((when - begin).total_seconds() / 86400)
        changes[item, place].append(float(quantity))
    on_hand = {
        (item, place): float(units)
        for item, place, units in StockBalance.objects.filter(item_id__in=items).values_list("item_id", "location_id", "on_hand")
    }
    opening = {pair: on_hand.get(pair, 0.0) - sum(changes[pair]) for pair in batch}
    seen = np.stack([share_in_stock(opening[p], times[p], changes[p], DAYS) for p in batch] or [np.zeros(DAYS)])
    first = [0 if opening[p] > NOTHING else int(min(times[p], default=DAYS)) for p in batch]
    return seen_before_the_books(seen, [past_sales.get(p, DAYS) for p in batch], first) if batch else seen
