"""Who handles the orders of a connection: set by rule, named on each order, and everybody finds their own."""

from __future__ import annotations

from decimal import Decimal as D

import pytest
from django.test import Client

from tests.world import NOW, incoming, make_connection, make_item, make_user, order_line, set_rules
from yuvrel.core.errors import BadInputError
from yuvrel.people.models import Company, Location
from yuvrel.people.roles import SYSTEM, Role
from yuvrel.sales import returns
from yuvrel.sales.actions import ship, take_order
from yuvrel.sales.rules import handlers
from yuvrel.stock.queries import available_working

pytestmark = pytest.mark.django_db


def test_orders_name_who_handles_them_and_everybody_finds_their_own(company: Location, client: Client) -> None:
    keeper, viewer = make_user(Role.STOCKKEEPER), make_user(Role.VIEWER)
    keeper.first_name, keeper.last_name = "Ottilie", "Marsh"
    keeper.save()
    shop, other = make_connection(), make_connection()
    with pytest.raises(BadInputError, match="Nobody called viewer") as refused:
        set_rules(shop, handled_by=viewer.username)
    assert refused.value.field == "handled_by"
    set_rules(shop, handled_by="stockkeeper")
    item = make_item(on_hand=5)
    mine = take_order(SYSTEM, incoming(shop, order_line(item, 1)), NOW).order
    take_order(SYSTEM, incoming(other, order_line(item, 1)), NOW)
    client.force_login(keeper)
    assert {row["handled_by"] for row in client.get("/api/v1/orders").json()["rows"]} == {"Ottilie Marsh", ""}
    found = client.get("/api/v1/orders", {"handler": "me"}).json()
    assert ([row["id"] for row in found["rows"]], found["total"]) == ([mine.pk], "12.30")
    assert client.get(f"/api/v1/orders/{mine.pk}").json()["handled_by"] == "Ottilie Marsh"
    client.force_login(viewer)
    assert client.get("/api/v1/orders", {"handler": "me"}).json()["rows"] == []
    assert len(client.get("/api/v1/orders", {"handler": "stockkeeper"}).json()["rows"]) == 1


def test_only_people_of_the_company_who_handle_orders_can_be_chosen(company: Location) -> None:
    make_user(Role.VIEWER)
    make_user(Role.BUYER)
    elsewhere = make_user(Role.MANAGER)
    elsewhere.company = Company.objects.create(name="Elsewhere")
    elsewhere.save()
    keeper = make_user(Role.STOCKKEEPER)
    assert handlers() == [(keeper.username, keeper.username)]


def test_what_lies_at_the_repair_bench_is_on_hand_and_free_for_nobody(company: Location, client: Client) -> None:
    item = make_item(on_hand=2)
    order = take_order(SYSTEM, incoming(make_connection(), order_line(item, 2)), NOW).order
    ship(SYSTEM, order.pk, at=NOW)
    back = returns.announce(SYSTEM, order.pk, [returns.Coming(order.lines.get().pk, D(2))], NOW)
    returns.inspect(SYSTEM, back.pk, {back.lines.get().pk: returns.Found(restock=D(1), repair=D(1))}, NOW)  # type: ignore[attr-defined]
    client.force_login(make_user(Role.MANAGER))
    rows = {row["location"]: (row["on_hand"], row["available"]) for row in client.get("/api/v1/stock").json()["rows"]}
    assert (rows["Tannery Yard"], rows["Repair bench"]) == (("1", "1"), ("1", "0"))
    bench = Location.objects.get(for_sale=False)
    assert [step.value for step in available_working(item.pk, bench.pk).steps] == [1, 0, 1, 0]
    assert [row["for_sale"] for row in client.get("/api/v1/locations").json()] == [True, True, True, False]
