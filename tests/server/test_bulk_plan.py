"""Many rows changed at once, by a plan that does not hang on what the database believes of the table."""

from __future__ import annotations

import json
from decimal import Decimal as D
from typing import Any

import pytest
from django.db import connection

from tests.world import make_item
from yuvrel.people.models import Location
from yuvrel.platform.bulk import MANY, update_many
from yuvrel.stock.models import ItemCost

pytestmark = pytest.mark.django_db


@pytest.mark.parametrize(("rows", "one_by_one"), [(MANY, False), (MANY - 1, True)])
def test_many_rows_are_not_compared_each_with_each(company: Location, rows: int, one_by_one: bool) -> None:
    item = make_item("A", on_hand=1)
    cost = ItemCost.objects.get(item=item)
    with connection.cursor() as cursor:
        # As it is believed after statistics were gathered while all that had been written was taken back.
        cursor.execute("UPDATE pg_class SET relpages = 800, reltuples = 0 WHERE relname = 'stock_itemcost'")
    joins: list[str] = []

    def explain(execute: Any, sql: Any, params: Any, many: bool, context: Any) -> Any:
        text = sql if isinstance(sql, str) else sql.as_string(connection.connection)
        if "WITH given" in text:
            with connection.connection.cursor() as cursor:
                plan = cursor.execute("EXPLAIN (FORMAT JSON) " + text, params).fetchone()[0]
            joins.extend(_joins(plan[0]["Plan"]))
        return execute(sql, params, many, context)

    with connection.execute_wrapper(explain):
        update_many([cost, *(ItemCost(pk=-n, quantity=D(n), value=D(n)) for n in range(1, rows))], ["quantity", "value"])
    assert joins
    assert ("Nested Loop" in joins) is one_by_one, json.dumps(joins)
    with connection.cursor() as cursor:
        cursor.execute("SHOW enable_nestloop")
        assert cursor.fetchone() == ("on",)


def _joins(plan: dict[str, Any]) -> list[str]:
    """The ways of joining in a plan."""
    found = [str(plan["Node Type"])] if "Join Type" in plan else []
    return found + [way for part in plan.get("Plans", []) for way in _joins(part)]
