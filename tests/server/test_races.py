"""Real threads with real transactions after the same goods: nobody sees a deadlock, no unit goes twice."""

from __future__ import annotations

import random
import threading
from collections.abc import Callable
from datetime import timedelta
from decimal import Decimal as D
from typing import Any

import pytest
from django.db import connection, connections, transaction
from django.db.models import Sum
from django.utils import timezone

from tests.invariants import assert_invariants, assert_told_once
from tests.world import NOW, incoming, make_company, make_connection, make_item, make_listing, make_supplier, order_line
from yuvrel.buying.actions import Arrived, Wanted, draft, receive, send
from yuvrel.catalogue.categories import keep, tree
from yuvrel.catalogue.models import Category
from yuvrel.channels import sql
from yuvrel.channels.jobs import consume, relay_now
from yuvrel.channels.models import Listing
from yuvrel.channels.quarantine import in_one
from yuvrel.events.actions import record, waiting_for
from yuvrel.events.models import Event
from yuvrel.people.models import Location
from yuvrel.people.roles import SYSTEM
from yuvrel.planning import alerts, plan
from yuvrel.planning.queries import Line, one_line
from yuvrel.sales.actions import ship, take_order, take_till_sale
from yuvrel.sales.models import Reservation, SalesOrder
from yuvrel.stock.actions import adjust
from yuvrel.stock.models import StockBalance, StockDocument
from yuvrel.stock.moving import lock_costs

pytestmark = [pytest.mark.django_db(transaction=True), pytest.mark.usefixtures("no_jobs_left")]


def all_at_once(works: list[Callable[[], object]]) -> list[Exception]:
    """Run every piece in a thread of its own, released together; what went wrong."""
    faults: list[Exception] = []
    gate = threading.Barrier(len(works))

    def run(work: Callable[[], object]) -> None:
        try:
            gate.wait()
            work()
        except Exception as error:
            faults.append(error)
        finally:
            connections.close_all()

    threads = [threading.Thread(target=run, args=(work,)) for work in works]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return faults


def test_numbers_are_given_once_and_without_gaps(company: Location) -> None:
    items = [make_item(f"N-{n}", on_hand=9) for n in range(6)]
    works = [
        lambda item=item: adjust(SYSTEM, item_id=item.pk, location_id=company.pk, reason="lost", at=NOW, change=D(-1))
        for item in items
        for _ in range(2)
    ]
    assert not all_at_once(works)
    assert sorted(StockDocument.objects.filter(kind="adjustment").values_list("number", flat=True)) == [
        f"ADJ-{1001 + n}" for n in range(12)
    ]


def test_categories_moved_into_each_other_at_once_stay_in_the_tree() -> None:
    """Of two that would lie in each other the later is refused, whichever it is; ten times over."""
    for n in range(10):
        pair = [Category.objects.create(name=f"{name} {n}") for name in ("Left", "Right")]
        moves = [(pair[0].pk, pair[1].pk), (pair[1].pk, pair[0].pk)]
        faults = all_at_once([lambda m=m: keep(SYSTEM, m[0], {"parent_id": m[1]}) for m in moves])  # type: ignore[misc]
        assert ["cannot lie in" in str(fault) for fault in faults] == [True]
    assert len(tree()) == 20


@pytest.mark.parametrize("at_the_same_place", [False, True])
def test_forty_shoppers_and_a_till_race_for_ten_units(at_the_same_place: bool) -> None:
    """One shop takes backorders, the other does not. With the till at another place, or coming late,
    exactly ten are reserved; each unit it takes first is one less."""
    place = make_company()
    corner = Location.objects.get(code="mill-lane")
    item = make_item(on_hand=10)
    patient, strict = make_connection(), make_connection(backorders="held")
    till = make_connection("till", fulfils_from=place if at_the_same_place else corner)
    orders = [incoming((patient, strict)[n % 2], order_line(item, 1), backorders=n % 2 == 0) for n in range(40)]
    works: list[Callable[[], object]] = [lambda x=x: take_order(SYSTEM, x, NOW) for x in orders]  # type: ignore[misc]
    sales = [incoming(till, order_line(item, 1)) for _ in range(2)]
    works[20:20] = [lambda x=x: take_till_sale(SYSTEM, x) for x in sales]  # type: ignore[misc]
    assert all_at_once(works) == []

    balance = StockBalance.objects.get(item=item, location=place)
    sold_here = 2 if at_the_same_place else 0
    assert SalesOrder.objects.filter(kind="till", state="closed").count() == 2
    assert balance.on_hand == 10 - sold_here
    reserved = Reservation.objects.filter(state="open").aggregate(n=Sum("quantity"))["n"]
    assert balance.committed == reserved
    assert 10 - sold_here <= reserved <= 10
    states = {s: SalesOrder.objects.filter(kind="order", state=s).count() for s in ("ready", "received", "held")}
    assert states["ready"] == reserved
    assert sum(states.values()) == 40
    assert states["received"] == balance.backordered
    held = SalesOrder.objects.filter(state="held")
    assert {row.connection_id for row in held} <= {strict.pk}
    assert not Reservation.objects.filter(line__order__in=held).exists()
    assert_invariants()


def test_receipts_adjustments_shipments_and_edits_of_the_same_items_at_once() -> None:
    """Every edit moves an order from one item to another, half of them the other way round."""
    place = make_company()
    one, two = make_item(on_hand=60, cost="2.17"), make_item(on_hand=60, cost="3.33")
    for item in (one, two):
        make_supplier(item)
    shop, till = make_connection(), make_connection("till")
    works: list[Callable[[], object]] = []

    def edit(order: SalesOrder, to: object) -> object:
        facts = {"external_id": order.external_id, "number": order.external_number, "version": 2}
        return take_order(SYSTEM, incoming(shop, order_line(to, 2), **facts), NOW)  # type: ignore[arg-type]

    for n in range(8):
        first, second = (one, two) if n % 2 else (two, one)
        changed = take_order(SYSTEM, incoming(shop, order_line(first, 2)), NOW).order
        shipped = take_order(SYSTEM, incoming(shop, order_line(first, 1), order_line(second, 1)), NOW).order
        wanted = [Wanted(first.pk, place.pk, D(3))]
        (purchase,) = draft(SYSTEM, wanted, NOW)
        send(SYSTEM, purchase.pk, purchase.version, NOW)
        line = purchase.lines.get()
        sale = incoming(till, order_line(second, 1), order_line(first, 1))
        works += [
            lambda o=changed, to=second: edit(o, to),  # type: ignore[misc]
            lambda o=shipped: ship(SYSTEM, o.pk, at=NOW),  # type: ignore[misc]
            lambda p=purchase, x=line: receive(SYSTEM, p.pk, [Arrived(x.pk, D(3))], NOW),  # type: ignore[misc]
            lambda i=first: adjust(SYSTEM, item_id=i.pk, location_id=place.pk, reason="lost", change=D(-1), at=NOW),  # type: ignore[misc]
            lambda x=sale: take_till_sale(SYSTEM, x),  # type: ignore[misc]
            lambda x=incoming(shop, order_line(second, 1), order_line(first, 1)): take_order(SYSTEM, x, NOW),  # type: ignore[misc]
        ]
    works += [relay_now, relay_now]
    random.Random(5).shuffle(works)
    assert all_at_once(works) == []
    # Each of the two: 60 opened, 12 received, 8 shipped, 4 lost, 8 sold at the till.
    for item in (one, two):
        assert StockBalance.objects.get(item=item).on_hand == 60 + 12 - 8 - 4 - 8
    assert SalesOrder.objects.filter(state="shipped").count() == 8
    assert_invariants()
    assert_told_once()


def test_the_same_version_from_two_sides_at_once_is_one_order() -> None:
    make_company()
    item = make_item(on_hand=10)
    shop = make_connection()
    order = incoming(shop, order_line(item, 2))
    assert all_at_once([lambda: take_order(SYSTEM, order, NOW)] * 12) == []
    assert SalesOrder.objects.count() == 1
    assert StockBalance.objects.get(item=item).committed == 2
    assert_invariants()


def test_many_shoppers_of_kits_that_share_parts_do_not_block_each_other() -> None:
    from tests.world import make_bundle

    make_company()
    parts = [make_item(on_hand=30) for _ in range(4)]
    kits = [make_bundle(f"KIT-{n}", {parts[(n + k) % 4]: 1 for k in (3, 1, 2)}) for n in range(4)]
    shop = make_connection()
    orders = [incoming(shop, order_line(kits[n % 4], 1), order_line(kits[(n * 3 + 1) % 4], 1)) for n in range(32)]
    assert all_at_once([lambda x=x: take_order(SYSTEM, x, NOW) for x in orders]) == []  # type: ignore[misc]
    assert SalesOrder.objects.count() == 32
    total = StockBalance.objects.aggregate(c=Sum("committed"), b=Sum("backordered"))
    assert total["c"] + total["b"] == 32 * 2 * 3
    assert total["c"] <= 120
    assert_invariants()


def test_the_sheet_never_counts_a_delivery_twice() -> None:
    """Five of ten arrive between the queries of the sheet: on hand and still to come are of the same moment."""
    place = make_company()
    item = make_item(on_hand=3)
    make_supplier(item)
    (order,) = draft(SYSTEM, [Wanted(item.pk, place.pk, D(10))], NOW)
    send(SYSTEM, order.pk, order.version, NOW)
    line = order.lines.get()
    arrived = []

    def deliver(execute: Any, sql: str, *rest: Any) -> Any:
        if "buying_purchaseline" in sql and not arrived:
            arrived.append(sql)
            assert not all_at_once([lambda: receive(SYSTEM, order.pk, [Arrived(line.pk, D(5))], NOW)])
        return execute(sql, *rest)

    with connection.execute_wrapper(deliver):
        seen = one_line(item.pk, place.pk, NOW.date())
    assert arrived
    assert (seen.suggestion.position.on_hand, _coming(seen)) == (D(3), D(10))
    after = one_line(item.pk, place.pk, NOW.date())
    assert (after.suggestion.position.on_hand, _coming(after)) == (D(8), D(5))


def _coming(line: Line) -> D:
    return sum((units for _, units in line.suggestion.position.arrivals), D(0))


def test_an_event_that_commits_late_is_worked_on_all_the_same() -> None:
    """One transaction is held open after it wrote its event; others with higher numbers commit and are worked on."""
    make_company()
    first, second = make_item(), make_item()
    while relay_now():
        continue
    Event.objects.all().delete()
    written, go_on = threading.Event(), threading.Event()

    def held_open() -> None:
        with transaction.atomic():
            record(Event.Kind.AVAILABILITY, [first.pk], "late")
            written.set()
            go_on.wait(30)
        connections.close_all()

    thread = threading.Thread(target=held_open)
    thread.start()
    assert written.wait(30)
    record(Event.Kind.AVAILABILITY, [second.pk], "early")
    assert consume("offers") == 1
    assert plan.refresh(timezone.now()) >= 0
    go_on.set()
    thread.join()
    late = Event.objects.filter(cause="late")
    early = Event.objects.filter(cause="early")
    assert max(late.values_list("pk", flat=True)) < min(early.values_list("pk", flat=True))
    assert {row.subject_id for row in waiting_for("offers")} == {first.pk}
    assert {row.subject_id for row in waiting_for(plan.CONSUMER)} == {first.pk}
    assert consume("offers") == 1
    plan.refresh(timezone.now())
    alerts.work(timezone.now())
    assert not Event.objects.filter(done_at=None).exists()


def test_one_consumer_does_not_wait_for_another() -> None:
    """While prices are being worked out, offers are not held up."""
    make_company()
    item = make_item()
    while relay_now():
        continue
    began, go_on = threading.Event(), threading.Event()

    def slow_prices() -> None:
        with transaction.atomic():
            sql.alone("prices")
            began.set()
            go_on.wait(30)
        connections.close_all()

    thread = threading.Thread(target=slow_prices)
    thread.start()
    assert began.wait(30)
    record(Event.Kind.AVAILABILITY, [item.pk], "sold")
    record(Event.Kind.PRICE, [item.pk], "dearer")
    assert consume("offers") == 1
    assert waiting_for("prices").count() == 1
    go_on.set()
    thread.join()
    assert consume("prices") == 1


def test_of_two_that_block_each_other_one_goes_again(company: Location) -> None:
    shop = make_connection()
    rows = [make_listing(shop, make_item(f"D-{n}")).pk for n in range(2)]
    both_have_one, tries = threading.Barrier(2), []

    def lock(first: int, second: int) -> None:
        tries.append(first)
        Listing.objects.select_for_update().get(pk=first)
        if tries.count(first) == 1:
            both_have_one.wait(30)
        Listing.objects.select_for_update().get(pk=second)

    assert not all_at_once([lambda pair=pair: in_one(lambda: lock(*pair)) for pair in (rows, rows[::-1])])
    # Whoever gave way may come again before the other one has noticed, and give way once more.
    assert len(tries) > 2


def test_a_late_sale_locks_costs_in_their_order_whichever_was_counted_since(company: Location) -> None:
    """Of two items the second was counted after the sale. Somebody who works on both, first the first, is not in its way:
    it waits before it holds anything that the other one needs."""
    first, second = make_item("A", on_hand=9), make_item("B", on_hand=9)
    till = make_connection("till")
    adjust(SYSTEM, item_id=second.pk, location_id=company.pk, reason="count", at=timezone.now(), counted=D(8))
    has_first, pause = threading.Event(), threading.Event()
    early = timezone.now() - timedelta(hours=1)
    sale = incoming(till, order_line(first), order_line(second), placed_at=early)

    def sell() -> None:
        has_first.wait(30)
        take_till_sale(SYSTEM, sale)

    @transaction.atomic
    def work_on_both() -> None:
        lock_costs([first.pk])
        has_first.set()
        for _ in range(300):
            with connection.cursor() as cursor:
                cursor.execute("SELECT pg_stat_clear_snapshot()")
                cursor.execute("SELECT 1 FROM pg_stat_activity WHERE datname = current_database() AND wait_event_type = 'Lock'")
                if cursor.fetchone():
                    break
            pause.wait(0.1)
        else:
            raise AssertionError("the sale did not wait")
        lock_costs([second.pk])

    assert not all_at_once([sell, work_on_both])
    assert StockBalance.objects.get(item=second).on_hand == 8, "the count had seen it"
