"""Orders past zero: taken within a limit, promised, served the oldest promise first, counted once under races."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from datetime import date, timedelta
from decimal import Decimal as D
from typing import Any

import pytest
from django.utils import timezone

from tests.invariants import assert_invariants
from tests.server.test_races import all_at_once
from tests.world import NOW, give, incoming, make_bundle, make_company, make_connection, make_item, order_line
from yuvrel.catalogue.models import Item
from yuvrel.channels.jobs import relay_now
from yuvrel.core.past_zero import PastZero, Sold
from yuvrel.people.roles import SYSTEM
from yuvrel.sales.actions import release, ship, take_order, take_till_sale
from yuvrel.sales.incoming import IncomingLine
from yuvrel.sales.models import Reservation, SalesOrder
from yuvrel.sales.past_zero import Allowance, sold_under
from yuvrel.stock.models import StockBalance

DAY = NOW.date()


def allowing(item: Item, units: int, limit: int = 10, way: Any = "preorder", **more: Any) -> IncomingLine:
    """A line of a listing that may be sold past zero, 21 days promised without a delivery."""
    allowance = Allowance(PastZero(way, D(limit), lead_days=21), "item|1|0|", **more)
    return replace(order_line(item, units), past_zero=allowance)


@pytest.fixture
def item(db: None) -> Item:
    make_company()
    return make_item("HIV-1", on_hand=2)


def test_within_the_limit_it_is_taken_and_promised(item: Item) -> None:
    shop = make_connection(backorders="held")
    coming = {item.pk: [(DAY + timedelta(5), D(2)), (DAY + timedelta(9), D(20))]}
    taken = take_order(SYSTEM, incoming(shop, allowing(item, 5, deliveries=coming)), NOW)
    line = taken.order.lines.get()
    assert (taken.problem, taken.order.state) == ("", "received")
    assert (line.past_zero, line.promised_on) == (D(3), DAY + timedelta(9))
    assert sold_under(["item|1|0|"])["item|1|0|"] == Sold(D(3), D(3))
    later = take_order(SYSTEM, incoming(shop, allowing(item, 1)), NOW).order
    assert later.lines.get().promised_on == DAY + timedelta(21)
    assert_invariants()


def test_beyond_the_limit_it_is_held_and_takes_nothing(item: Item) -> None:
    shop = make_connection()
    first = take_order(SYSTEM, incoming(shop, allowing(item, 10)), NOW)
    assert first.order.state == "received"
    taken = take_order(SYSTEM, incoming(shop, allowing(item, 3)), NOW)
    assert taken.order.state == "held"
    assert taken.problem == "3 of HIV-1 would be sold past zero, and 2 are left of the limit."
    assert not Reservation.objects.filter(line__order=taken.order).exists()
    assert take_order(SYSTEM, incoming(shop, allowing(item, 2)), NOW).order.state == "received"
    assert release(SYSTEM, taken.order.pk, NOW).state == "received"
    assert_invariants()


def test_two_lines_of_one_order_share_the_limit(item: Item) -> None:
    other = make_item("HIV-2")
    taken = take_order(SYSTEM, incoming(make_connection(), allowing(item, 8), allowing(other, 5)), NOW)
    assert taken.problem == "5 of HIV-2 would be sold past zero, and 4 are left of the limit."
    assert taken.order.state == "held"


def test_at_once_all_units_count_and_those_there_are_reserved(item: Item) -> None:
    shop = make_connection()
    taken = take_order(SYSTEM, incoming(shop, allowing(item, 2, way="preorder_at_once", limit=3)), NOW)
    assert taken.order.state == "ready"
    assert taken.order.lines.get().past_zero == D(2)
    ship(SYSTEM, taken.order.pk, at=NOW)
    assert sold_under(["item|1|0|"])["item|1|0|"] == Sold(D(2), D(0))
    assert take_order(SYSTEM, incoming(shop, allowing(item, 2, way="preorder_at_once", limit=3)), NOW).order.state == "held"


def test_a_cancelled_or_changed_order_gives_its_part_of_the_limit_back(item: Item) -> None:
    shop = make_connection()
    order = incoming(shop, allowing(item, 12))
    taken = take_order(SYSTEM, order, NOW)
    promised = taken.order.lines.get().promised_on
    assert promised == DAY + timedelta(21)
    # Less is wanted, days later: the promise that was made stands.
    less = replace(order, lines=[allowing(item, 7)], total=order.total, version=2)
    changed = take_order(SYSTEM, less, NOW + timedelta(days=4)).order
    assert (changed.lines.get().past_zero, changed.lines.get().promised_on) == (D(5), promised)
    more = replace(order, lines=[allowing(item, 8)], version=3)
    assert take_order(SYSTEM, more, NOW + timedelta(days=4)).order.lines.get().promised_on == DAY + timedelta(25)
    take_order(SYSTEM, replace(order, cancelled=True, version=4), NOW)
    assert sold_under(["item|1|0|"])["item|1|0|"] == Sold()
    assert_invariants()


def test_a_kit_counts_whole(item: Item) -> None:
    kit = make_bundle("KIT-1", {item: 3})
    taken = take_order(SYSTEM, incoming(make_connection(), allowing(kit, 2, deliveries={item.pk: [(DAY, D(4))]})), NOW)
    line = taken.order.lines.get()
    # 6 are wanted and 2 are there: 4 are missing, so both kits wait.
    assert (line.past_zero, line.promised_on) == (D(2), DAY + timedelta(1))
    assert sold_under(["item|1|0|"])["item|1|0|"] == Sold(D(2), D(2))


def test_the_oldest_promise_is_served_first_and_nobody_overtakes(item: Item) -> None:
    shop = make_connection()

    def order(units: int, day: date) -> SalesOrder:
        line = allowing(item, units, limit=99, deliveries={item.pk: [(day, D(99))]})
        return take_order(SYSTEM, incoming(shop, line), NOW).order

    late, soon = order(5, DAY + timedelta(30)), order(4, DAY + timedelta(3))
    give(item, 5)
    # Before the goods that came are given out: those who wait come first.
    newest = take_order(SYSTEM, incoming(shop, order_line(item, 1)), NOW).order
    assert newest.state == "received"
    relay_now()
    states = {row.pk: row.state for row in SalesOrder.objects.all()}
    # Late holds 2 from the start and waits for 3 more, soon for 4; the newest was promised for its own day.
    assert (states[newest.pk], states[soon.pk], states[late.pk]) == ("ready", "ready", "received")
    give(item, 3)
    relay_now()
    assert SalesOrder.objects.get(pk=late.pk).state == "ready"
    assert_invariants()


@pytest.mark.django_db(transaction=True)
def test_thirty_shoppers_in_two_shops_race_for_the_last_pre_orders(no_jobs_left: None) -> None:
    """Three on the shelf and a limit of five: eight go through, whichever; the rest is held, none is promised twice."""
    make_company()
    item = make_item("HIV-9", on_hand=3)
    shops = [make_connection(), make_connection()]
    orders = [incoming(shops[n % 2], allowing(item, 1, limit=5)) for n in range(30)]
    works: list[Callable[[], object]] = [lambda one=one: take_order(SYSTEM, one, timezone.now()) for one in orders]  # type: ignore[misc]
    assert all_at_once(works) == []
    states = list(SalesOrder.objects.values_list("state", flat=True))
    assert (states.count("ready"), states.count("received"), states.count("held")) == (3, 5, 22)
    assert sold_under(["item|1|0|"])["item|1|0|"] == Sold(D(5), D(5))
    assert_invariants()


@pytest.mark.django_db(transaction=True)
def test_two_shops_a_marketplace_and_a_till_race_for_the_last_units_and_pre_orders(no_jobs_left: None) -> None:
    """Three on the shelf and a limit of five; the till sells two of the three while thirty order elsewhere. Whatever the
    order in which they come: one unit is left and one order is ready, five are promised at most, nothing is sold twice."""
    make_company()
    item = make_item("HIV-9", on_hand=3)
    channels = [make_connection(), make_connection(), make_connection("market")]
    till = make_connection("till")
    orders = [incoming(channels[n % 3], allowing(item, 1, limit=5)) for n in range(30)]
    works: list[Callable[[], object]] = [lambda one=one: take_order(SYSTEM, one, timezone.now()) for one in orders]  # type: ignore[misc]
    sale = incoming(till, order_line(item, 2, "24.60"))
    works.insert(15, lambda: take_till_sale(SYSTEM, sale))
    assert all_at_once(works) == []
    for _ in range(3):
        relay_now()
    states = list(SalesOrder.objects.exclude(connection=till).values_list("state", flat=True))
    assert len(states) == 30
    balance = StockBalance.objects.get(item=item)
    assert (balance.on_hand, balance.committed, states.count("ready")) == (1, 1, 1)
    assert sold_under(["item|1|0|"])["item|1|0|"].unserved <= 5
    # What was reserved before the till took it waits as well, beside what was promised.
    assert 5 <= states.count("received") <= 7
    assert states.count("held") == 29 - states.count("received")
    assert_invariants()
