"""Customers and groups: made, given a list, and what each is asked to pay."""

from __future__ import annotations

from datetime import timedelta
from decimal import Decimal as D
from typing import Any

import pytest
from django.utils import timezone

from tests.world import NOW, incoming, make_company, make_connection, make_item, order_line
from yuvrel.core.errors import BadInputError, ForbiddenError, NotFoundError, StaleError
from yuvrel.people.roles import SYSTEM, Actor, Role
from yuvrel.pricing import queries as pricing
from yuvrel.pricing.actions import keep_list
from yuvrel.pricing.changes import Typed, type_prices
from yuvrel.sales.actions import take_order
from yuvrel.sales.customers import asked_prices, asked_working, customer_page, groups, keep, keep_group, sheet
from yuvrel.sales.models import Customer, SalesOrder

pytestmark = pytest.mark.django_db


@pytest.fixture
def place(db: None) -> Any:
    return make_company()


def test_the_own_list_speaks_before_the_group_and_the_base(place: Any) -> None:
    item, other = make_item("A"), make_item("B")
    club = keep_list(SYSTEM, None, 0, {"name": "Club", "method": "derived", "percent": D(-10)})
    own = keep_list(SYSTEM, None, 0, {"name": "Own"})
    type_prices(SYSTEM, own.pk, [Typed(item.pk, D(7)), Typed(item.pk, D(6), D(10))], NOW)
    group = keep_group(SYSTEM, None, 0, {"name": "Members", "price_list_id": club.pk})
    una = keep(SYSTEM, None, 0, {"name": "Una", "group_id": group.pk, "price_list_id": own.pk})
    bram = keep(SYSTEM, None, 0, {"name": "Bram", "group_id": group.pk})
    sam = keep(SYSTEM, None, 0, {"name": "Sam"})

    def asked(row: Customer, quantity: str = "1") -> list[Any]:
        return [(one.price, one.price_list) for one in asked_prices(row.pk, "Thing", D(quantity), NOW.date())]

    assert asked(una) == [(7, "Own"), (9, "Club")]
    assert asked(una, "10") == [(6, "Own"), (9, "Club")]
    assert asked(bram) == [(9, "Club"), (9, "Club")]
    assert asked(sam) == [(10, "Base prices"), (10, "Base prices")]
    told = asked_working(una.pk, item.pk, NOW.date())
    assert told.result == 7
    assert [(step.label, step.note) for step in told.steps[:3]] == [
        ("Una", "Own, counts"),
        ("group Members", "Club, overruled"),
        ("Larkmead", "Base prices, overruled"),
    ]
    assert pricing.holders()[own.pk] == ["1 customer"]
    assert pricing.holders()[club.pk] == ["group Members"]
    assert groups()[0]["customers"] == 2
    assert [row.price_list for row in sheet("", group.pk, "", 10, NOW)["rows"]] == ["Club", "Own"]
    assert other.price == 10


def test_customers_come_with_orders_and_the_sheet_says_what_they_bought(place: Any) -> None:
    item = make_item("A", on_hand=9)
    shop = make_connection()
    for n in range(2):
        facts = {"external_id": f"o{n}", "customer": {"name": "Una", "email": "U@t.example"}, "placed_at": timezone.now()}
        take_order(SYSTEM, incoming(shop, order_line(item, 1, "12.30"), **facts), timezone.now())
    una = Customer.objects.get()
    SalesOrder.objects.filter(external_id="o1").update(placed_at=timezone.now() - timedelta(days=400))
    (row,) = sheet("una t.example", None, "", 10, timezone.now())["rows"]
    assert (row.orders, row.net, row.email) == (1, 10, "u@t.example")
    page = customer_page(una.pk)
    assert (len(page["orders"]), page["from_channel"]) == (2, True)
    assert [one.sku for one in asked_prices(una.pk, "", D(1), NOW.date())] == ["A"]
    assert sheet("nobody", None, "", 10, timezone.now())["rows"] == []


@pytest.mark.parametrize(
    ("facts", "field"),
    [
        ({"name": " "}, "name"),
        ({"email": "nothing"}, "email"),
        ({"group_id": 99}, "group_id"),
        ({"price_list_id": 99}, "price_list_id"),
    ],
)
def test_what_cannot_be_names_its_field(place: Any, facts: dict[str, Any], field: str) -> None:
    with pytest.raises(BadInputError) as refused:
        keep(SYSTEM, None, 0, {"name": "Una", **facts})
    assert refused.value.field == field
    assert not Customer.objects.exists()


def test_who_may_whose_change_and_what_is_not_there(place: Any) -> None:
    keeper, viewer = Actor("Nuala", Role.BOOKKEEPER), Actor("Vera", Role.VIEWER)
    una = keep(keeper, None, 0, {"name": "Una"})
    with pytest.raises(ForbiddenError):
        keep(viewer, una.pk, una.version, {"name": "X"})
    group = keep_group(SYSTEM, None, 0, {"name": "Members"})
    with pytest.raises(ForbiddenError, match="change prices"):
        keep(keeper, una.pk, una.version, {"group_id": group.pk})
    una.refresh_from_db()
    assert una.group_id is None
    keep(keeper, una.pk, una.version, {"note": "rings first"})
    with pytest.raises(StaleError):
        keep(keeper, una.pk, una.version, {"note": "x"})
    with pytest.raises(StaleError):
        keep_group(SYSTEM, group.pk, 9, {"name": "Members"})
    for name in (" ", "members"):
        with pytest.raises(BadInputError):
            keep_group(SYSTEM, None, 0, {"name": name})
    for absent in (lambda: keep(SYSTEM, 99, 0, {}), lambda: customer_page(99), lambda: keep_group(SYSTEM, 99, 0, {"name": "X"})):
        with pytest.raises(NotFoundError):
            absent()


def test_an_address_is_kept_by_hand_and_no_order_writes_over_it(place: Any) -> None:
    shop = make_connection()
    item = make_item(on_hand=5)
    told = {"name": "Una Thorne", "email": "u@t.example"}
    order = take_order(
        SYSTEM, incoming(shop, order_line(item), customer=told, ship_to={"street": "1 Lane", "country": "Eire"}), timezone.now()
    ).order
    assert order.customer is not None
    # A country as the channel wrote it is in nobody's way until somebody writes one.
    kept = keep(SYSTEM, order.customer_id, 1, {"note": "Rings twice."})
    assert kept.address["country"] == "Eire"
    with pytest.raises(BadInputError, match="ERIN is no country of ISO 3166"):
        keep(SYSTEM, kept.pk, kept.version, {"country": "Erin"})
    assert keep(SYSTEM, kept.pk, kept.version, {"country": "Eire"}).address["country"] == "Eire"
    kept.refresh_from_db()
    kept = keep(SYSTEM, kept.pk, kept.version, {"street": "9 Kiln Quay", "country": "ie"})
    assert (kept.address["street"], kept.address["country"]) == ("9 Kiln Quay", "IE")
    take_order(SYSTEM, incoming(shop, order_line(item), customer=told, ship_to={"street": "2 Lane"}), timezone.now())
    kept.refresh_from_db()
    assert kept.address["street"] == "9 Kiln Quay"
    # What nobody wrote by hand goes on following the orders.
    later = {**told, "on_account": True}
    take_order(SYSTEM, incoming(shop, order_line(item), customer=later, ship_to={"street": "3 Lane"}), timezone.now())
    kept.refresh_from_db()
    assert (kept.on_account, kept.by_hand, kept.address["street"]) == (True, ["address"], "9 Kiln Quay")
