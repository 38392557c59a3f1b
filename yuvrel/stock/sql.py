"""All SQL of this app that the ORM does not write, named and commented."""

from __future__ import annotations

from collections.abc import Sequence

from django.db import connection

from yuvrel.ownership import company_id

# Rows are made in the order in which they are locked afterwards, so that two of these never block each other for good.
BALANCES = """
    INSERT INTO stock_stockbalance (item_id, location_id, on_hand, committed, backordered, incoming)
    SELECT item, place, 0, 0, 0, 0 FROM unnest(%s::bigint[], %s::bigint[]) AS v(item, place) ORDER BY item, place
    ON CONFLICT (item_id, location_id) DO NOTHING
"""
COSTS = """
    INSERT INTO stock_itemcost (company_id, item_id, quantity, value, last_average, last_cost, layers)
    SELECT %s, item, 0, 0, 0, 0, '[]' FROM unnest(%s::bigint[]) AS v(item) ORDER BY item
    ON CONFLICT (company_id, item_id) DO NOTHING
"""


def ensure_balances(pairs: Sequence[tuple[int, int]]) -> None:
    """A balance of nothing for each (item, location) that has none."""
    with connection.cursor() as cursor:
        cursor.execute(BALANCES, [[item for item, _ in pairs], [place for _, place in pairs]])


def ensure_costs(item_ids: Sequence[int]) -> None:
    """A cost state of nothing, of the company that is worked for, for each item that has none."""
    with connection.cursor() as cursor:
        cursor.execute(COSTS, [company_id(), list(item_ids)])
