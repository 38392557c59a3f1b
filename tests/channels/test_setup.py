"""Set-up that leads: what would come in is looked at first, past orders come as history, going live is proved."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import pytest
from django.core import mail
from django.test import Client
from django.utils import timezone

from standins import hooks
from tests.channels.conftest import Standins
from tests.channels.test_contract import receive
from tests.channels.test_journey import World, settle
from tests.invariants import assert_invariants
from tests.world import give, set_rules
from yuvrel.books.models import JournalEntry
from yuvrel.channels import actions, inbound, linking, rehearsal, survey
from yuvrel.channels.jobs import first_intake, look_around, relay_now
from yuvrel.channels.models import Connection, InboundMessage, Listing, Run
from yuvrel.core.errors import BadInputError, ForbiddenError, RefusedError
from yuvrel.core.rules import Level, Rung
from yuvrel.people.models import User
from yuvrel.people.queries import company_day
from yuvrel.people.roles import SYSTEM, Actor, Role
from yuvrel.planning.demand_history import read_past
from yuvrel.planning.models import ForecastRun
from yuvrel.planning.queries import demand
from yuvrel.rules.actions import change
from yuvrel.sales.models import Customer, OrderLine, SalesOrder
from yuvrel.stock.models import StockBalance, StockMove

pytestmark = pytest.mark.django_db
MONTH = timedelta(days=30)


@pytest.fixture
def world(db: None, standins: Standins) -> World:
    return World(standins)


@pytest.fixture
def trade(world: World) -> Connection:
    """A second shop, tested and not live: two orders of last month were sent, one is open, one was cancelled."""
    hooks._waiting.clear()
    address = f"{world.standins.base}/shop/trade"
    row = actions.add(SYSTEM, kind="web_shop", name="Trade", address=address, sign_in={"token": "t"})
    set_rules(row, order_prefix="T-")
    _shelves(world)
    for days, state in ((40, "shipped"), (25, "shipped"), (3, "open"), (9, "cancelled")):
        _order(world, days, state)
    return actions.test(SYSTEM, row.pk, timezone.now())


def _shelves(world: World) -> None:
    """The shop says it has five of each."""
    with world.standins.store.transaction():
        for product in world.standins.store.all("trade", "product"):
            for variant in product["variants"]:
                variant["quantity"] = 5
            world.standins.store.amend("trade", "product", product["id"], product)


def _order(world: World, days: int, state: str) -> dict[str, Any]:
    order = world.buy({"v1": 1, "v4": 1} if days == 25 else {"v1": 1}, account="trade")
    at = (timezone.now() - timedelta(days=days)).isoformat()
    changed = {"created_at": at, "updated_at": at, "fulfilment": "shipped" if state == "shipped" else "open"}
    order |= {**changed, "status": "cancelled" if state == "cancelled" else "paid"}
    with world.standins.store.transaction():
        world.standins.store.put("trade", "order", order["id"], order)
    return order


def looked_at(row: Connection, days: int = 60) -> dict[str, dict[str, int]]:
    """What a look says would come in: part, group, count."""
    run = survey.ask_survey(SYSTEM, row.pk, company_day(timezone.now()) - timedelta(days=days))
    look_around(run.pk, str(company_day(timezone.now()) - timedelta(days=days)))
    run.refresh_from_db()
    assert run.state == "done", run.log
    found = Connection.objects.get(pk=row.pk).survey
    return {part["name"]: {group["label"]: group["count"] for group in part["groups"]} for part in found["parts"]}


def test_what_would_come_in_is_counted_and_nothing_comes_in(trade: Connection) -> None:
    before = (SalesOrder.objects.count(), Listing.objects.count(), InboundMessage.objects.count(), Customer.objects.count())
    found = looked_at(trade)
    left = "match nothing, and become no items by themselves"
    assert found["listings"] == {"match an item by SKU or barcode": 3, left: 1}
    told = next(part for part in Connection.objects.get(pk=trade.pk).survey["parts"] if part["name"] == "listings")
    assert told["groups"][-1]["examples"][0][1].endswith("It has no SKU.")
    assert found["quantities"] == {
        "have no stock here yet: enter it as opening stock": 1,
        "have stock here": 2,
    }
    assert found["open_orders"] == {"come in when it goes live": 1}
    assert found["past_orders"] == {"count as demand": 1, "have a line that no item is known for": 1}
    assert found["customers"] == {"are new": 1}
    survey_kept = Connection.objects.get(pk=trade.pk).survey
    assert "costs" in survey_kept["gives_no"]
    examples = next(part for part in survey_kept["parts"] if part["name"] == "past_orders")["groups"][0]["examples"]
    assert examples[0][1].startswith("Una")
    assert before == (
        SalesOrder.objects.count(),
        Listing.objects.count(),
        InboundMessage.objects.count(),
        Customer.objects.count(),
    )
    # Only as far back as was asked.
    assert "past_orders" not in {name for name, groups in looked_at(trade, 20).items() if groups}


def _take_in(row: Connection, listings: str, days: int | None) -> Run:
    since = company_day(timezone.now()) - timedelta(days=days) if days else None
    run = survey.ask_intake(SYSTEM, row.pk, listings=listings, since=since)
    user = User.objects.create(username=f"u{run.pk}", email="m@larkmead.example")
    first_intake(run.pk, listings, str(since or ""), SYSTEM.name, SYSTEM.role.value, user.pk)
    run.refresh_from_db()
    return run


def test_past_orders_count_as_demand_and_touch_neither_stock_nor_books(world: World, trade: Connection, settings: Any) -> None:
    settings.MAIL_IS_SET = True
    before = (StockMove.objects.count(), JournalEntry.objects.count(), sorted(StockBalance.objects.values_list("on_hand")))
    run = _take_in(trade, "match", 60)
    assert (run.state, run.failed) == ("done", 0)
    orders = SalesOrder.objects.filter(connection=trade)
    assert {(order.history, order.state) for order in orders} == {(True, "closed")}
    assert orders.count() == 2
    assert before == (
        StockMove.objects.count(),
        JournalEntry.objects.count(),
        sorted(StockBalance.objects.values_list("on_hand")),
    )
    assert not world.standins.store.all("trade", "switchboard")
    today = company_day(timezone.now())
    series = read_past([(world.small.pk, world.place.pk)], today).history.series
    assert (series.values * series.weight).sum() == pytest.approx(2)
    # The first of them was sold forty days ago, long before stock was kept here: since then it counts as in stock.
    seen = demand(today, {(world.small.pk, world.place.pk)})
    # Forty days ago may have been on other clocks: late in the evening that was the day after.
    first = min(orders.values_list("placed_at", flat=True))
    assert (seen.units.sum(), seen.in_stock.sum()) == (2, (today - company_day(first)).days)
    assert ForecastRun.objects.filter(asked_by=SYSTEM.name).exists()
    assert Customer.objects.filter(orders__connection=trade).distinct().count() == 1
    assert "first intake of Trade: done" in mail.outbox[-1].subject
    assert "2 new" in mail.outbox[-1].body
    assert_invariants()


def test_the_same_intake_twice_changes_nothing_and_a_line_takes_its_item_later(world: World, trade: Connection) -> None:
    _take_in(trade, "match", 60)
    again = _take_in(trade, "", 60)
    assert (again.taken, again.changed, again.unchanged) == (0, 0, 2)
    nameless = OrderLine.objects.get(order__connection=trade, kind="item", item=None)
    linking.link(SYSTEM, Listing.objects.get(connection=trade, external_id="v4").pk, world.large.pk)
    third = _take_in(trade, "", 60)
    assert (third.taken, third.changed, third.unchanged) == (0, 1, 1)
    nameless.refresh_from_db()
    assert nameless.item == world.large


def test_live_it_takes_in_what_is_open_and_leaves_what_was_sent(world: World, trade: Connection) -> None:
    _take_in(trade, "match", 60)
    row = actions.go_live(SYSTEM, trade.pk, timezone.now(), company_day(timezone.now() - 2 * MONTH))
    inbound.poll(row)
    settle()
    living = SalesOrder.objects.get(connection=trade, history=False)
    assert living.state == "ready"
    assert SalesOrder.objects.filter(connection=trade, history=True).count() == 2
    # What was history stays history, whatever the shop says of it later.
    past = SalesOrder.objects.filter(connection=trade, history=True).first()
    assert past
    with world.standins.store.transaction():
        order = world.standins.store.get("trade", "order", past.external_id) or {}
        order |= {"version": 2, "status": "refunded", "updated_at": timezone.now().isoformat()}
        world.standins.store.put("trade", "order", past.external_id, order)
    inbound.poll(row)
    past.refresh_from_db()
    assert (past.state, past.external_version) == ("closed", 1)
    assert_invariants()


def test_without_it_only_what_comes_from_now_on_is_taken_in(world: World, trade: Connection) -> None:
    row = actions.go_live(SYSTEM, trade.pk, timezone.now())
    inbound.poll(row)
    assert not SalesOrder.objects.filter(connection=trade).exists()
    actions.pause(SYSTEM, trade.pk)
    for day, fault in ((timezone.now() + MONTH, "between 1990 and tomorrow"), (timezone.now() - MONTH, "has been live before")):
        with pytest.raises(BadInputError, match=fault) as refusal:
            actions.go_live(SYSTEM, trade.pk, timezone.now(), company_day(day))
        assert refusal.value.field == "orders_from"


def test_a_till_s_past_sales_are_history_too(world: World) -> None:
    with world.standins.store.transaction():
        for n in range(3):
            at = (timezone.now() - timedelta(days=5 + n)).isoformat()
            row = {"pos": 1, "plu": "2", "code": "", "label": "Big smoker", "count": 2, "sum": "49.20", "vat": "23"}
            facts = {"id": f"old{n}", "number": f"{n}", "sold_at": at, "uploaded_at": at, "currency": "EUR", "tender": "cash"}
            world.standins.store.put("mill", "receipt", f"old{n}", {**facts, "rows": [row], "total": "49.20"})
    run = _take_in(world.till, "", 30)
    assert run.taken == 3
    assert {order.kind for order in SalesOrder.objects.filter(connection=world.till)} == {"till"}
    assert demand(company_day(timezone.now()), {(world.large.pk, world.place.pk)}).units.sum() == 6
    # Asked again as a living connection, none of them moves stock.
    inbound.poll(world.till)
    assert StockBalance.objects.get(item=world.large).on_hand == 4


def test_a_sale_made_since_it_went_live_is_never_history(world: World) -> None:
    """Asked of a living till before its own reading comes to it: the sale moves stock all the same."""
    at = timezone.now().isoformat()
    row = {"pos": 1, "plu": "2", "code": "", "label": "Big smoker", "count": 1, "sum": "24.60", "vat": "23"}
    facts = {"id": "now", "number": "1", "sold_at": at, "uploaded_at": at, "currency": "EUR", "tender": "cash"}
    with world.standins.store.transaction():
        world.standins.store.put("mill", "receipt", "now", {**facts, "rows": [row], "total": "24.60"})
    assert _take_in(world.till, "", 30).taken == 0
    inbound.poll(world.till)
    assert StockBalance.objects.get(item=world.large).on_hand == 3


def test_the_webhook_is_proved_by_a_round_trip(trade: Connection) -> None:
    hooks._waiting.clear()
    row = actions.go_live(SYSTEM, trade.pk, timezone.now())
    assert row.hook_proved_at is None
    (call,) = hooks._waiting
    client = Client()
    assert hooks.send(call, lambda url, body, headers: receive(client, url, body, headers))
    row.refresh_from_db()
    assert row.hook_proved_at is not None
    assert not InboundMessage.objects.filter(connection=row).exists()
    hooks._waiting.clear()


def test_what_cannot_be_looked_at_is_refused(world: World, trade: Connection) -> None:
    today = company_day(timezone.now())
    with pytest.raises(BadInputError, match="last 5 years"):
        survey.ask_survey(SYSTEM, trade.pk, today - timedelta(days=9 * 366))
    with pytest.raises(BadInputError, match="last 5 years"):
        survey.ask_survey(SYSTEM, trade.pk, today + timedelta(days=2))
    with pytest.raises(BadInputError) as refusal:
        survey.ask_intake(SYSTEM, trade.pk, listings="everything", since=None)
    assert refusal.value.field == "listings"
    with pytest.raises(ForbiddenError):
        survey.ask_survey(Actor("viewer", Role.VIEWER), trade.pk, today)
    Connection.objects.filter(pk=trade.pk).update(state="draft")
    with pytest.raises(RefusedError, match="Test the connection first"):
        survey.ask_survey(SYSTEM, trade.pk, today)


def test_nothing_goes_out_until_it_is_picked(world: World, trade: Connection) -> None:
    set_rules(trade, flows_out="no")
    _take_in(trade, "match", None)
    found = rehearsal.first_push(Connection.objects.get(pk=trade.pk))
    assert (found["listings"], found["silent"]) == (0, 3)
    item = world.small
    change(SYSTEM, Rung(Level.ITEM, item.title, item.pk), {"flows_out": "yes"}, timezone.now())
    found = rehearsal.first_push(Connection.objects.get(pk=trade.pk))
    assert (found["listings"], found["silent"], found["rising"]) == (1, 2, 1)
    assert (found["rows"][0]["now"], found["rows"][0]["then"]) == (1, 10)
    actions.go_live(SYSTEM, trade.pk, timezone.now())
    settle()
    assert (world.shown("SMK-S", "trade"), world.shown("SMK-L", "trade")) == (10, 5)


def test_what_goes_out_no_more_is_the_channel_s_own(world: World) -> None:
    assert world.shown("SMK-L") == 4
    set_rules(world.shop, flows_out="no")
    settle()
    give(world.large, 3)
    settle()
    assert world.shown("SMK-L") == 4
    row = Listing.objects.get(connection=world.shop, external_id="v2")
    assert (row.offered, row.offer_state) == (None, "")
    set_rules(world.shop, flows_out="yes")
    relay_now()
    settle()
    assert world.shown("SMK-L") == 7
