"""A company chooses how its goods are valued when they leave; nothing is posted anew, and each item shows its layers."""

from __future__ import annotations

from decimal import Decimal as D
from typing import Any

import pytest
from django.test import Client

from tests.invariants import assert_invariants
from tests.world import NOW, give, incoming, make_company, make_connection, make_item, make_user, order_line
from yuvrel.books.models import JournalLine
from yuvrel.people.roles import SYSTEM, Role
from yuvrel.sales.actions import ship, take_order
from yuvrel.stock.actions import adjust
from yuvrel.stock.models import ItemCost, StockMove

pytestmark = pytest.mark.django_db


def choose(client: Client, way: str, status: int = 200) -> Any:
    at = "/api/v1/settings/company/0"
    body = {"level": "company", "values": {"valuation": way}}
    answer = client.patch(at, body, content_type="application/json")
    assert answer.status_code == status, answer.content
    return answer.json()


def test_what_came_first_leaves_first_from_the_day_it_is_chosen(client: Client) -> None:
    place = make_company()
    item = make_item("JAR", on_hand=10, cost="2.00")
    give(item, 10, "3.00", place)
    client.force_login(make_user(Role.STOCKKEEPER))
    choose(client, "fifo", 403)
    client.force_login(make_user(Role.BOOKKEEPER))
    choose(client, "dearest", 422)
    lines = JournalLine.objects.count()
    choose(client, "fifo")
    assert JournalLine.objects.count() == lines, "nothing is posted anew"
    # Twenty worth 50.00 count as one layer; ten more at 4.00 come after them.
    give(item, 10, "4.00", place)
    adjust(SYSTEM, item_id=item.pk, location_id=place.pk, reason="lost", at=NOW, change=D(-4))
    assert StockMove.objects.latest("pk").value == D("-10.00")
    page = client.get(f"/api/v1/items/{item.pk}").json()
    assert [(row["quantity"], row["unit_cost"], row["value"]) for row in page["layers"]] == [
        ("16", "2.50", "40.00"),
        ("10", "4.00", "40.00"),
    ]
    # An order takes the rest of the first layer and two of the second, and its profit knows what they cost.
    order = take_order(SYSTEM, incoming(make_connection(), order_line(item, 18, "200.00")), NOW).order
    ship(SYSTEM, order.pk, at=NOW)
    assert StockMove.objects.latest("pk").value == D("-48.00")
    row = ItemCost.objects.get(item=item)
    assert (row.quantity, row.value, row.last_average) == (D(8), D("32.00"), D("4.00"))
    steps = client.get(f"/api/v1/workings/value/{item.pk}-{place.pk}").json()["steps"]
    assert [(row["value"], row["note"]) for row in steps[:2]] == [("32", "8 at 4.0000"), ("32", "first in, first out")]
    assert_invariants()
    # Back at the average the layers are gone with the next move, and nothing else is.
    choose(client, "average")
    adjust(SYSTEM, item_id=item.pk, location_id=place.pk, reason="found", at=NOW, change=D(1))
    assert ItemCost.objects.get(item=item).layers == []
    assert client.get(f"/api/v1/items/{item.pk}").json()["layers"] is None
    assert_invariants()
