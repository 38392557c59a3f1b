"""Tills that are closed and counted: what should be there, what differs, and sales that are heard of late."""

from __future__ import annotations

from decimal import Decimal as D
from typing import Any

import httpx
import pytest
from django.db.models import Sum
from django.test import Client
from django.utils import timezone

from tests.channels.conftest import Standins
from tests.channels.test_journey import World, settle
from tests.invariants import assert_invariants
from tests.world import make_user
from yuvrel.agreement import actions as agreement
from yuvrel.agreement.models import Drift
from yuvrel.books.models import JournalEntry, JournalLine, Period
from yuvrel.channels import inbound
from yuvrel.channels.close_intake import take_closes
from yuvrel.channels.models import Connection, Snag
from yuvrel.core.errors import BadInputError
from yuvrel.people.queries import company_day
from yuvrel.people.roles import SYSTEM, Role
from yuvrel.sales.actions import release
from yuvrel.sales.models import SalesOrder, TillCount
from yuvrel.sales.till_counts import CountedTender, count_working, take_count
from yuvrel.server.document_page import document_page

pytestmark = pytest.mark.django_db


@pytest.fixture
def world(db: None, standins: Standins) -> World:
    return World(standins)


def at_till(world: World, path: str, **form: str) -> None:
    answer = httpx.post(f"{world.standins.base}/till/mill/{path}", data=form, trust_env=False)
    assert answer.status_code == 302


def sell(world: World, tender: str, count: int = 1, upload: bool = True) -> None:
    """Large smokers at 24.60."""
    at_till(world, "sell", tender=tender, **{"q-2": f"{count}"})
    if upload:
        at_till(world, "upload")
        inbound.poll(Connection.objects.get(pk=world.till.pk))


def close(world: World, **counted: str) -> None:
    at_till(world, "close", **{name.replace("_", "-"): amount for name, amount in counted.items()})
    take_closes(Connection.objects.get(pk=world.till.pk), timezone.now())


def balance(role: str) -> D:
    total = JournalLine.objects.filter(account__role=role).aggregate(total=Sum("amount"))["total"]
    return total or D(0)


def rows(client: Client, **query: Any) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = client.get("/api/v1/till-counts", query).json()["rows"]
    return found


def test_what_is_missing_is_booked_and_the_books_agree(world: World, client: Client) -> None:
    sell(world, "cash", 2)
    sell(world, "card")
    close(world, float_cash="100.00", counted_cash="147.20", counted_card="24.60")
    (entry,) = JournalEntry.objects.filter(kind="till count")
    assert dict(entry.lines.values_list("account__role", "amount")) == {"clearing": D("-2.00"), "cash_difference": D("2.00")}
    client.force_login(make_user(Role.VIEWER))
    card, cash = rows(client)
    assert (cash["method"], cash["opening"], cash["taken"], cash["expected"]) == ("cash", "100.00", "49.20", "149.20")
    assert (cash["counted"], cash["difference"]) == ("147.20", "-2.00")
    assert (card["method"], card["taken"], card["difference"]) == ("card", "24.60", "0.00")
    assert [row["method"] for row in rows(client, show="differing")] == ["cash"]
    assert rows(client, q="card")[0]["method"] == "card"
    assert rows(client, connection=world.shop.pk) == []
    working = count_working(cash["id"])
    assert [(step.label, step.value) for step in working.steps][-3:] == [
        ("Should be there", D("149.20")),
        ("Counted", D("147.20")),
        ("Difference", D("-2.00")),
    ]
    assert sum(step.value for step in working.steps[:-3]) == D("149.20")  # type: ignore[misc]
    told = document_page("till-count", TillCount.objects.get().pk)
    assert ("Cash", "100.00 at the start, 49.20 taken, 147.20 counted") in [(one["label"], one["value"]) for one in told["facts"]]
    assert [one.kind for one in told["entries"]] == ["till count"]
    settle()
    agreement.check_connection(Connection.objects.get(pk=world.ledger.pk))
    assert not Drift.objects.filter(code="A6", healed_at=None).exists()
    assert_invariants()


def test_the_same_close_twice_is_one_and_the_next_begins_where_it_ended(world: World) -> None:
    sell(world, "cash")
    close(world, counted_cash="24.60")
    assert take_closes(Connection.objects.get(pk=world.till.pk), timezone.now()) == 0
    assert not JournalEntry.objects.filter(kind="till count").exists(), "nothing differed"
    sell(world, "cash", 2)
    close(world, counted_cash="50.00")
    first, second = TillCount.objects.order_by("closed_at")
    assert second.since == first.closed_at
    assert second.lines.get().taken == D("49.20")
    assert balance("cash_difference") == D("-0.80"), "more than there should be"


def test_a_sale_that_is_heard_of_late_belongs_into_its_close(world: World) -> None:
    sell(world, "cash", upload=False)
    close(world, counted_cash="24.60")
    assert balance("cash_difference") == D("-24.60"), "nothing is known to have been sold"
    at_till(world, "upload")
    inbound.poll(Connection.objects.get(pk=world.till.pk))
    assert balance("cash_difference") == 0
    assert TillCount.objects.get().lines.get().taken == D("24.60")
    assert JournalEntry.objects.filter(kind="till count").count() == 2, "nothing is edited: the difference is taken back"


def test_a_held_sale_counts_once_it_goes_on(world: World) -> None:
    with world.standins.store.transaction():
        article = world.standins.store.get("mill", "article", "2") or {}
        world.standins.store.put("mill", "article", "2", {**article, "price": "-5.00"})
    sell(world, "cash")
    sale = SalesOrder.objects.get()
    assert sale.state == "held"
    SalesOrder.objects.filter(pk=sale.pk).update(total=D("5.00"))
    sale.lines.update(net=D("4.07"), tax=D("0.93"))
    sale.payments.create(external_id="1", method="cash", role="clearing", amount=D("5.00"), state="paid")
    close(world, counted_cash="5.00")
    assert balance("cash_difference") == D("-5.00")
    release(SYSTEM, sale.pk, timezone.now())
    assert balance("cash_difference") == 0


def test_a_close_that_is_heard_of_after_the_next_one_divides_its_time(world: World) -> None:
    till = Connection.objects.get(pk=world.till.pk)
    sell(world, "cash")
    middle = timezone.now()
    sell(world, "cash", 2)
    counted = [CountedTender("cash", D(0), D("49.20"))]
    late, _ = take_count(SYSTEM, till, "b", "Z2", timezone.now(), "EUR", counted)
    assert balance("cash_difference") == D("24.60")
    take_count(SYSTEM, till, "a", "Z1", middle, "EUR", [CountedTender("cash", D(0), D("24.60"))])
    late.refresh_from_db()
    assert (late.since, balance("cash_difference")) == (middle, 0)


def test_a_count_of_a_closed_month_is_booked_into_the_next_open_one(world: World) -> None:
    now = timezone.now()
    today = company_day(now)
    Period.objects.create(month=today.replace(day=1), closed_at=now)
    take_count(SYSTEM, world.till, "a", "Z1", now, "EUR", [CountedTender("cash", D(0), D("1.00"))])
    assert JournalEntry.objects.get(kind="till count").date > today.replace(day=28)


def test_what_cannot_be_is_named_and_the_others_go_on(world: World) -> None:
    count = [CountedTender("cash", D(0), D("1.00"))]
    with pytest.raises(BadInputError, match="counted in PLN"):
        take_count(SYSTEM, world.till, "a", "Z1", timezone.now(), "PLN", count)
    with pytest.raises(BadInputError, match="counted twice"):
        take_count(SYSTEM, world.till, "a", "Z1", timezone.now(), "EUR", count * 2)
    at = timezone.now().isoformat()
    odd = {"id": "odd", "number": "Z7", "closed_at": at, "updated_at": at, "currency": "EUR", "tenders": "none"}
    with world.standins.store.transaction():
        world.standins.store.put("mill", "close", "odd", odd)
    close(world, counted_cash="3.00")
    assert [one.number for one in TillCount.objects.all()] == ["Z0001"]
    snag = Snag.objects.get(kind="till count", resolved_at=None)
    assert (snag.title, "Z7" in snag.detail) == ("1 till counts cannot be taken in", True)
    with world.standins.store.transaction():
        mended = {**odd, "tenders": [{"tender": "cash", "float": "0", "counted": "2.00"}]}
        world.standins.store.put("mill", "close", "odd", mended)
    take_closes(Connection.objects.get(pk=world.till.pk), timezone.now())
    assert TillCount.objects.count() == 2
    assert not Snag.objects.filter(kind="till count", resolved_at=None).exists()
