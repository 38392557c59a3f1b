"""One journal a day: a till whose sales the ledger is told together, and what it is told by itself all the same."""

from __future__ import annotations

from datetime import date, timedelta
from decimal import Decimal as D
from typing import Any

import pytest
from django.utils import timezone

from tests.channels.conftest import Standins
from tests.channels.test_journey import World, settle
from tests.invariants import assert_invariants, assert_told_once
from tests.world import incoming, make_connection, order_line, set_rules
from yuvrel.agreement import actions as agreement
from yuvrel.agreement.models import Drift
from yuvrel.books import queries as books
from yuvrel.books.actions import NOTHING, account_sums, gather_days
from yuvrel.books.models import JournalEntry, LedgerDocument
from yuvrel.channels.models import MappedAccount
from yuvrel.people.queries import company_day
from yuvrel.people.roles import SYSTEM
from yuvrel.sales.actions import ship, take_order, take_till_sale

pytestmark = pytest.mark.django_db


@pytest.fixture
def world(db: None, standins: Standins) -> World:
    found = World(standins)
    set_rules(found.till, ledger_document="day")
    return found


def sell(world: World, units: int, back: int, amount: str = "24.60") -> None:
    """A sale at the till, so many days ago."""
    at = timezone.now() - timedelta(days=back)
    take_till_sale(SYSTEM, incoming(world.till, order_line(world.small, units, amount), placed_at=at))


def there(world: World) -> dict[str, dict[str, Any]]:
    """What the ledger has, by number."""
    return {doc["number"]: doc for _, doc in world.standins.store.rows("books", "document")}


def level(world: World) -> None:
    """The ledger says what our books say, and what must hold holds."""
    LedgerDocument.objects.update(made_at=timezone.now() - timedelta(hours=1))
    agreement.check_ledger(world.ledger)
    assert list(Drift.objects.filter(code="A6", healed_at=None).values_list("title", "expected", "found")) == []
    assert_invariants()


def tomorrow() -> date:
    return company_day(timezone.now()) + timedelta(days=1)


def test_the_sales_of_a_day_are_told_together_once_it_is_over(world: World) -> None:
    sell(world, 1, 1)
    sell(world, 2, 1, "49.20")
    sell(world, 1, 0)
    settle()
    yesterday = company_day(timezone.now()) - timedelta(days=1)
    assert not any(world.till.name in number for number in there(world)), "the day is not over"
    assert set(LedgerDocument.objects.filter(gather=world.till.name).values_list("state", flat=True)) == {"gathered"}
    assert gather_days(company_day(timezone.now())) == 1
    settle()
    told = there(world)[f"{world.till.name} {yesterday}"]
    assert (told["kind"], told["date"]) == ("journal", f"{yesterday}")
    assert sum(D(one["amount"]) for one in told["postings"]) == 0
    assert -sum(D(one["amount"]) for one in told["postings"] if one["account"] in ("4000", "2200")) == D("73.80")
    level(world)
    assert_told_once()
    row = books.journal(told["number"], "invoice", "", 10)["rows"]
    assert {(one.ledger_number, one.ledger_state) for one in row} == {(told["number"], "sent")}
    # The next day it is today's turn; nothing is told twice.
    assert (gather_days(tomorrow()), gather_days(tomorrow())) == (1, 0)
    settle()
    assert len([number for number in there(world) if number.startswith(world.till.name)]) == 2
    level(world)


def test_a_sale_heard_of_after_its_day_is_told_in_one_more(world: World) -> None:
    sell(world, 1, 2)
    gather_days(tomorrow())
    sell(world, 1, 2)
    gather_days(tomorrow())
    settle()
    day = company_day(timezone.now()) - timedelta(days=2)
    assert {f"{world.till.name} {day}", f"{world.till.name} {day} 2"} <= set(there(world))
    level(world)


def test_what_is_owed_on_account_is_told_by_itself(world: World) -> None:
    set_rules(world.shop, ledger_document="day")
    member = {"name": "Hollow Lane Bees", "on_account": True}
    facts: dict[str, Any] = {"paid": False, "customer": member, "placed_at": timezone.now()}
    owed = take_order(SYSTEM, incoming(world.shop, order_line(world.small, 1), **facts), timezone.now()).order
    paid = take_order(SYSTEM, incoming(world.shop, order_line(world.small, 1)), timezone.now()).order
    for order in (owed, paid):
        ship(SYSTEM, order.pk, at=timezone.now())
    settle()
    of_owed, of_paid = (LedgerDocument.objects.get(number=order.number) for order in (owed, paid))
    assert (of_owed.contact, of_owed.state, of_paid.state) == ("Hollow Lane Bees", "sent", "gathered")
    assert owed.number in there(world)
    gather_days(tomorrow())
    settle()
    level(world)


def test_a_day_that_comes_to_nothing_is_not_told(world: World) -> None:
    shop = make_connection(name="Quiet shop", ledger_document="day")
    order = take_order(SYSTEM, incoming(shop, order_line(world.small, 1), gather=shop.name), timezone.now()).order
    facts = {
        "external_id": order.external_id,
        "number": order.external_number,
        "version": 2,
        "cancelled": True,
        "gather": shop.name,
    }
    take_order(SYSTEM, incoming(shop, **facts), timezone.now())
    assert JournalEntry.objects.filter(document=order.number).count() == 2
    gather_days(tomorrow())
    whole = LedgerDocument.objects.get(day__isnull=False)
    assert (whole.state, whole.external_id, set(total for _, total in account_sums(whole))) == ("sent", NOTHING, {D(0)})
    settle()
    assert not any("Quiet" in number for number in there(world))
    level(world)


def test_a_day_that_the_ledger_refuses_is_a_snag_and_can_be_told_again(world: World) -> None:
    sell(world, 1, 1)
    settle()
    MappedAccount.objects.filter(connection=world.ledger, account__role="sales").delete()
    gather_days(tomorrow())
    settle()
    whole = LedgerDocument.objects.get(day__isnull=False)
    assert whole.state == "refused"
    # The day stays whole: its entries are not told one by one.
    assert set(whole.gathered.values_list("state", flat=True)) == {"gathered"}
    assert_told_once()
