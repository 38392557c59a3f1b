"""What one company has, another does not reach: every id of every route, as the manager of a company beside it."""

from __future__ import annotations

import re
from decimal import Decimal
from typing import Any

import pytest
from django.contrib.auth.models import Group
from django.db import transaction
from django.test import Client

from tests.companies import forget_company
from tests.routes import real_ids, routes, working_keys
from tests.server.test_routes import IN_BETWEEN, WITH_A_FILE, call, person
from yuvrel.books.begin import begin
from yuvrel.people.models import SheetView, User
from yuvrel.people.roles import Role
from yuvrel.server.workings import WORKINGS

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("larkmead")]
# What companies share: the range with its texts and pictures, and suppliers. Whatever of these belongs to one company
# (prices, costs, stock, orders) is asked for by that company alone.
SHARED = {"item_id", "product_id", "picture_id", "category_id", "supplier_id", "size", "language", "kind", "form", "sheet", "way"}


# Of a Working the keys that name something shared: an item by itself, or an account that every company has.
SHARED_KEYS = {"cost", "booked", "account"}


# What is asked here is of an item, and answered for who asks alone: nothing is reached in the other company.
OF_WHAT_IS_SHARED = ("get_working", "rehearse_replenishment")


@pytest.fixture
def others() -> Any:
    """Ids of Larkmead, and a manager of Fen North, who has nothing yet."""
    ids, keys = real_ids(person(Role.MANAGER)), working_keys()
    SheetView.objects.filter(pk=ids["view_id"]).update(shared=True)
    north = begin("Fen North", "GBP", "Europe/London", [("shed", "The Shed")], Decimal(20), further=True)
    forget_company()
    user = User.objects.create_user(username="robin", company=north)
    user.groups.add(Group.objects.get(name=Role.MANAGER.value))
    client = Client()
    client.force_login(user)
    yield ids, keys, client
    forget_company()


def test_none_of_anothers_ids_is_found(others: Any) -> None:
    ids, keys, client = others
    wrong, tried = [], 0
    for route in routes():
        named = set(re.findall(r"{(\w+)}", route.path)) - SHARED
        if not named or route.operation in (*IN_BETWEEN, *WITH_A_FILE, *OF_WHAT_IS_SHARED):
            continue
        tried += 1
        with transaction.atomic():
            answer = call(client, route, route.at(ids))
            transaction.set_rollback(True)
        if answer.status_code != 404:
            wrong.append(f"{route.operation} {route.method} {sorted(named)}: {answer.status_code} {answer.content[:120]!r}")
    assert not wrong, "\n".join(wrong)
    assert tried > 90
    for kind in set(WORKINGS) - SHARED_KEYS:
        answer = client.get(f"/api/v1/workings/{kind}/{keys[kind]}")
        assert answer.status_code == 404, (kind, answer.content[:200])


def test_views_are_shared_within_a_company_alone(others: Any) -> None:
    ids, _, client = others
    shown = client.get("/api/v1/sheets/orders").json()["views"]
    assert shown == []
    own = Client()
    own.force_login(person(Role.BUYER))
    assert [view["id"] for view in own.get("/api/v1/sheets/orders").json()["views"]] == [ids["view_id"]]
    assert client.delete(f"/api/v1/sheets/orders/views/{ids['view_id']}").status_code == 404
    assert SheetView.objects.filter(pk=ids["view_id"]).exists()


def test_of_another_company_it_is_told_that_it_uses_an_item_and_nothing_more(others: Any) -> None:
    ids, _, client = others
    said = client.get(f"/api/v1/items/{ids['item_id']}/obstacles").json()
    assert said == [{"said": "Another company that shares this range uses it.", "link": ""}]
