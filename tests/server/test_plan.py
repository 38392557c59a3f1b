"""The replenishment sheet page by page: kept in order, its figures as they are now."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from decimal import Decimal as D
from threading import Event
from typing import Any

import pytest
from django.db import connections, transaction
from django.test import Client
from django.utils import timezone

from tests.world import give, incoming, make_connection, make_item, make_supplier, make_user, order_line
from yuvrel.catalogue.models import Item
from yuvrel.events.actions import waiting_for
from yuvrel.events.models import Event as Happened
from yuvrel.people.models import Location
from yuvrel.people.queries import company_day
from yuvrel.people.roles import SYSTEM, Role
from yuvrel.planning import jobs, plan, queries
from yuvrel.planning.models import PlanMark, PlanRow
from yuvrel.sales.actions import take_till_sale
from yuvrel.stock.actions import OpeningRow, take_opening

pytestmark = pytest.mark.django_db
NOW = timezone.now


@pytest.fixture
def buyer(company: Location, client: Client) -> Client:
    client.force_login(make_user(Role.BUYER))
    return client


def stocked(sku: str = "", on_hand: int = 30) -> Item:
    """An item that has been in stock for sixty days."""
    item = make_item(sku)
    place = Location.objects.get(code="tannery-yard")
    take_opening(SYSTEM, [OpeningRow(item.pk, place.pk, D(on_hand), D(2))], NOW() - timedelta(days=60))
    return item


def sell(item: Item, units: int) -> None:
    """Sold at a till yesterday."""
    till = make_connection("till")
    sale = incoming(till, order_line(item, units, f"{units * 1.23:.2f}"), placed_at=NOW() - timedelta(days=1))
    take_till_sale(SYSTEM, sale)


def rows(client: Client, **query: Any) -> list[str]:
    """SKUs of all pages, walked one row at a time."""
    found: list[str] = []
    cursor = ""
    while True:
        answer = client.get("/api/v1/replenishment/rows", {"limit": 2, "cursor": cursor, "show": "all", **query}).json()
        found += [row["sku"] for row in answer["rows"]]
        cursor = answer["next"]
        if not cursor:
            return found


def test_rows_come_by_supplier_and_what_runs_out_first_first(buyer: Client) -> None:
    for sku, left in (("B-SLOW", 60), ("A-FAST", 3), ("C-NONE", 40), ("D-FREE", 9)):
        item = stocked(sku, 70)
        if sku != "D-FREE":
            make_supplier(item)
        sell(item, 70 - left)
    order = rows(buyer)
    assert order[-1] == "D-FREE", "what nobody supplies comes last"
    cover = {row.item.sku: row.runs_out for row in PlanRow.objects.select_related("item")}
    assert cover["A-FAST"] < cover["C-NONE"] < cover["B-SLOW"]
    assert set(order) == set(cover)
    late = rows(buyer, show="late")
    assert "A-FAST" in late and "B-SLOW" not in late
    head = buyer.get("/api/v1/replenishment").json()
    assert head["late"] == len(late) == plan.late_rows()
    assert D(head["late_amount"]) == sum(PlanRow.objects.filter(late=True).values_list("amount", flat=True))
    assert rows(buyer, q="fast") == ["A-FAST"]
    assert rows(buyer, location=999999) == []


def test_what_happened_a_moment_ago_is_on_the_sheet(buyer: Client) -> None:
    item = stocked("A-1", 50)
    make_supplier(item)
    assert rows(buyer, show="needed") == []
    sell(item, 45)
    answer = buyer.get("/api/v1/replenishment/rows").json()
    assert [(row["sku"], row["on_hand"], row["ribbon"]["late"]) for row in answer["rows"]] == [("A-1", "5", True)]
    item.active = False
    item.save()
    Happened.objects.create(consumer=plan.CONSUMER, kind=Happened.Kind.AVAILABILITY, subject_id=item.pk)
    assert rows(buyer) == []


def test_many_changes_are_left_to_the_job_and_the_figures_are_still_those_of_now(
    buyer: Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    items = [stocked(on_hand=30) for _ in range(4)]
    for item in items:
        make_supplier(item)
    assert len(rows(buyer)) == 4
    monkeypatch.setattr(plan, "SOON", 2)
    for item in items:
        sell(item, 29)
    assert rows(buyer, show="needed") == []
    answer = buyer.get("/api/v1/replenishment/rows", {"show": "all"}).json()
    assert {row["on_hand"] for row in answer["rows"]} == {"1"}
    jobs.refresh()
    assert len(rows(buyer, show="needed")) == 4


def test_a_new_day_works_everything_out_anew(buyer: Client) -> None:
    item = stocked("A-1", 30)
    make_supplier(item)
    sell(item, 5)
    assert plan.refresh(NOW()) == 1
    PlanRow.objects.update(runs_out=1)
    Happened.objects.update(done_at=NOW())
    assert plan.refresh(NOW()) == 0
    assert plan.refresh(NOW() + timedelta(days=1)) == 1
    assert PlanRow.objects.get().runs_out > 1
    assert PlanMark.objects.get().day == company_day(NOW() + timedelta(days=1))


def test_what_was_worked_in_is_not_worked_in_again(buyer: Client) -> None:
    item = stocked("A-1", 30)
    make_supplier(item)
    assert plan.refresh(NOW()) == 1
    assert plan.refresh(NOW()) == 0
    assert not waiting_for(plan.CONSUMER).exists()
    sell(item, 1)
    assert plan.refresh(NOW()) == 1


def test_the_rows_are_those_of_the_whole_sheet(buyer: Client) -> None:
    for n in range(7):
        item = stocked(on_hand=20 + n)
        make_supplier(item)
        sell(item, 10 + n)
    today = company_day(NOW())
    whole = {(line.item.pk, line.location.pk): line for line in queries.replenishment(today)}
    assert queries.pairs_of(today) == set(whole)
    plan.refresh(NOW())
    for row in PlanRow.objects.all():
        line = whole[row.item_id, row.location_id]
        assert (row.suggested, row.late) == (line.suggestion.quantity, line.suggestion.ribbon.late)
        assert row.amount == line.suggestion.quantity * line.price


def test_a_page_takes_a_fixed_number_of_queries(buyer: Client, django_assert_max_num_queries: Any) -> None:
    for _ in range(12):
        item = stocked(on_hand=4)
        make_supplier(item)
        sell(item, 3)
    plan.refresh(NOW())
    Happened.objects.update(done_at=NOW())
    with django_assert_max_num_queries(30):
        assert len(buyer.get("/api/v1/replenishment/rows").json()["rows"]) == 12
    with django_assert_max_num_queries(18):
        assert buyer.get("/api/v1/replenishment").status_code == 200


def test_a_cursor_that_is_not_ours_is_refused(buyer: Client) -> None:
    give(make_item("A-1"), 4, "1.00")
    assert buyer.get("/api/v1/replenishment/rows", {"cursor": "nonsense"}).json()["field"] == "cursor"
    assert buyer.get("/api/v1/replenishment/rows", {"limit": 5000}).json()["field"] == "limit"
    assert buyer.get("/api/v1/replenishment/rows", {"show": "best"}).status_code == 422


@pytest.mark.django_db(transaction=True)
def test_who_opens_the_sheet_waits_a_moment_for_another_who_works_on_it(company: Location) -> None:
    item = stocked("A-1", 50)
    make_supplier(item)
    plan.refresh(NOW())
    sell(item, 45)
    held = Event()

    def another() -> None:
        with transaction.atomic():
            PlanMark.objects.select_for_update().get()
            held.set()
            Event().wait(0.3)
        connections.close_all()

    with ThreadPoolExecutor(1) as pool:
        pool.submit(another)
        held.wait(20)
        plan.catch_up(NOW())
    today = company_day(NOW())
    line, *more = plan.rows("", "needed", None, "", 10, today)[0]
    assert (line.item.sku, more) == ("A-1", [])
    assert [len(plan.rows("", "all", None, "", 10, today, item)[0]) for item in (line.item.pk, line.item.pk + 1)] == [1, 0]


@pytest.mark.django_db(transaction=True)
def test_who_opens_the_sheet_does_not_wait_for_the_job(company: Location, monkeypatch: pytest.MonkeyPatch) -> None:
    item = stocked("A-1", 50)
    make_supplier(item)
    plan.refresh(NOW())
    sell(item, 45)
    monkeypatch.setattr(plan, "PATIENCE", 2)
    held, done = Event(), Event()

    def job() -> None:
        with transaction.atomic():
            PlanMark.objects.select_for_update().get()
            held.set()
            done.wait(20)
        connections.close_all()

    with ThreadPoolExecutor(1) as pool:
        pool.submit(job)
        held.wait(20)
        plan.catch_up(NOW())
        before = plan.rows("", "needed", None, "", 10, company_day(NOW()))[0]
        done.set()
    assert before == [], "what was known before, as the job is at it"
    plan.catch_up(NOW())
    assert len(plan.rows("", "needed", None, "", 10, company_day(NOW()))[0]) == 1
