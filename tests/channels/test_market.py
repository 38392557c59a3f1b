"""The marketplace: tokens that run out, batches it works on later, a store of its own, dirty offers by the hundred."""

from __future__ import annotations

from datetime import date, timedelta
from decimal import Decimal as D
from typing import Any

import pytest
from django.utils import timezone

from tests.channels.conftest import Standins
from tests.channels.test_journey import World, settle
from tests.invariants import assert_invariants
from tests.world import give, set_rules
from yuvrel.books.models import JournalLine
from yuvrel.catalogue.models import Category
from yuvrel.channels import actions, inbound, linking, offers, prices, snags, submissions
from yuvrel.channels.credentials import connector_for
from yuvrel.channels.jobs import ask_for, relay_now
from yuvrel.channels.models import Connection, Listing, Snag, Submission, SubmittedLine
from yuvrel.channels.schedules import due_parts
from yuvrel.connectors.messages import RemoteOrder
from yuvrel.core.errors import BadInputError, RefusedError
from yuvrel.core.rules import Level, Rung
from yuvrel.people.models import Location
from yuvrel.people.queries import company_day
from yuvrel.people.roles import SYSTEM
from yuvrel.rules.actions import change
from yuvrel.rules.models import SettingValue
from yuvrel.rules.queries import INHERIT
from yuvrel.sales.actions import ship
from yuvrel.sales.models import SalesOrder
from yuvrel.sales.order_page import order_page
from yuvrel.sales.queries import order_sheet
from yuvrel.server import today as today_sheet
from yuvrel.stock.models import StockBalance

pytestmark = pytest.mark.django_db


@pytest.fixture
def world(db: None, standins: Standins) -> World:
    return World(standins)


@pytest.fixture
def market(world: World) -> Connection:
    row = world.market()
    settle()
    return Connection.objects.get(pk=row.pk)


def change_account(world: World, **facts: Any) -> None:
    """Change what the marketplace's account says of itself."""
    with world.standins.store.transaction():
        account = world.standins.store.get("hedge", "account", "hedge") or {}
        world.standins.store.amend("hedge", "account", "hedge", {**account, **facts})


def there(world: World, key: str) -> dict[str, Any]:
    return world.standins.store.get("hedge", "offer-ie", key) or {}


def test_its_offers_are_paired_and_told_in_batches(world: World, market: Connection) -> None:
    linked = dict(Listing.objects.filter(connection=market, link="linked").values_list("external_id", "item__sku"))
    assert linked == {"o1": "SMK-S", "o2": "SMK-L", "o4": "SMK-S"}
    assert (there(world, "o1")["quantity"], there(world, "o2")["quantity"]) == (10, 4)
    # What it keeps in a store of its own it counts itself.
    assert there(world, "o4")["quantity"] == 6
    kept = Listing.objects.get(connection=market, external_id="o4")
    assert (kept.offered, kept.offer_state) == (None, "")
    assert {row.sort for row in Submission.objects.filter(connection=market)} == {"quantities"}


def test_a_token_that_has_run_out_is_granted_anew(world: World, market: Connection) -> None:
    """Whether the account says so beforehand, or only when it is used (RFC 6749, 4.4; RFC 6750, 3.1)."""
    store = world.standins.store
    assert len(store.all("hedge", "token")) == 1
    with store.transaction():
        for token in store.all("hedge", "token"):
            store.amend("hedge", "token", token["id"], {**token, "until": "2000-01-01"})
    inbound.poll(market)
    assert len(store.all("hedge", "token")) == 2
    change_account(world, token_seconds=0)
    with store.transaction():
        store.amend("hedge", "token", store.all("hedge", "token")[-1]["id"], {"until": "2000-01-01", "scopes": []})
    assert actions.test(SYSTEM, market.pk, timezone.now()).test_report["fault"].startswith("This token is not known")
    change_account(world, token_seconds=60)
    assert actions.test(SYSTEM, market.pk, timezone.now()).test_report["ok"]


@pytest.mark.parametrize(
    ("given", "fault"),
    [
        ({"client": "us", "secret": "wrong", "region": "ie"}, "does not know this client id"),
        ({"client": "nobody", "secret": "s", "region": "ie"}, "does not know this client id"),
        ({"client": "us", "secret": "s", "region": "de"}, "lacks the region de"),
    ],
)
def test_a_wrong_way_in_is_named(world: World, given: dict[str, str], fault: str) -> None:
    address = f"{world.standins.base}/market/hedge"
    row = actions.add(SYSTEM, kind="market", name="Wrong", address=address, sign_in=given)
    tested = actions.test(SYSTEM, row.pk, timezone.now())
    assert tested.state == "draft"
    assert fault in tested.test_report["fault"]


def test_what_is_missing_to_sign_in_is_asked_for(world: World) -> None:
    with pytest.raises(BadInputError, match="Enter the region") as refusal:
        actions.add(SYSTEM, kind="market", name="M", address="http://127.0.0.1:9", sign_in={"client": "a", "secret": "b"})
    assert refusal.value.field == "sign_in.region"


def test_two_regions_of_one_account_live_side_by_side(world: World, market: Connection) -> None:
    france = world.market("fr")
    settle()
    assert (world.standins.store.get("hedge", "offer-fr", "f1") or {})["quantity"] == 10
    world.order_at_market("f1", 2, "fr")
    world.order_at_market("o1", 1)
    for row in (market, france):
        inbound.poll(row)
    settle()
    assert SalesOrder.objects.filter(connection=france).count() == SalesOrder.objects.filter(connection=market).count() == 1
    assert there(world, "o1")["quantity"] == (world.standins.store.get("hedge", "offer-fr", "f1") or {})["quantity"] == 7
    with pytest.raises(RefusedError, match="Add another connection"):
        actions.change_settings(SYSTEM, market.pk, market.version, {"sign_in": {"region": "fr"}})


def test_what_changes_while_a_batch_is_under_way_goes_with_the_next(world: World, market: Connection) -> None:
    change_account(world, batch_seconds=3600)
    give(world.small, 1)
    relay_now()
    assert offers.push(market) == 1
    give(world.small, 2)
    relay_now()
    # It is not handed in twice, and what came later is not forgotten.
    assert offers.push(market) == 0
    assert submissions.collect(market) == 0
    row = Listing.objects.get(connection=market, external_id="o1")
    assert (row.offer_state, row.offered) == ("pending", 13)
    _worked_on(world)
    assert submissions.collect(market) == 1
    row.refresh_from_db()
    assert (row.offer_state, row.shown, row.offered) == ("pending", 11, 13)
    change_account(world, batch_seconds=0)
    assert offers.push(market) == 1
    submissions.collect(market)
    row.refresh_from_db()
    assert (row.offer_state, row.shown) == ("agreed", 13)


def _worked_on(world: World) -> None:
    """The marketplace has come to every batch."""
    store = world.standins.store
    with store.transaction():
        for batch in store.all("hedge", "batch"):
            store.amend("hedge", "batch", batch["id"], {**batch, "ready_at": "2000-01-01T00:00:00+00:00"})


@pytest.mark.parametrize("forgotten", [True, False])
def test_a_batch_that_is_lost_there_is_handed_in_again(world: World, market: Connection, forgotten: bool) -> None:
    change_account(world, batch_seconds=36_000)
    give(world.small, 1)
    relay_now()
    offers.push(market)
    waiting = Submission.objects.get(state="waiting")
    if forgotten:
        Submission.objects.filter(pk=waiting.pk).update(key="nothing")
    else:
        Submission.objects.filter(pk=waiting.pk).update(submitted_at=timezone.now() - submissions.LONGEST * 2)
    assert submissions.collect(market) == 1
    waiting.refresh_from_db()
    assert waiting.state == "lost"
    assert "is handed in again" in Snag.objects.get(kind="feeds", resolved_at=None).detail
    change_account(world, batch_seconds=0)
    assert offers.push(market) == 1
    submissions.collect(market)
    assert there(world, "o1")["quantity"] == 11
    assert not Snag.objects.filter(resolved_at=None).exists()


def test_each_refused_line_has_its_reason_and_the_others_go_through(world: World, market: Connection) -> None:
    set_rules(market, price_owner="here")
    relay_now()
    prices.push(market)
    submissions.collect(market)
    for item in (world.small, world.large):
        give(item, 1)
    with world.standins.store.transaction():
        world.standins.store.amend("hedge", "offer-ie", "o2", {**there(world, "o2"), "kept_by": "market"})
    relay_now()
    offers.push(market)
    submissions.collect(market)
    said = dict(SubmittedLine.objects.filter(submission__sort="quantities").values_list("listing__external_id", "said"))
    assert said == {"o1": "", "o2": "it is kept in our own store; we count it ourselves"}
    snag = Snag.objects.get(resolved_at=None)
    assert (snag.listing and snag.listing.external_id, snag.field) == ("o2", "quantity")
    # Read again, it is known to be kept there: nothing is offered, and nothing refused any more.
    linking.take_listings(SYSTEM, market.pk, timezone.now(), create=False)
    row = Listing.objects.get(connection=market, external_id="o2")
    assert (row.kept_there, row.offered, row.offer_state) == (True, None, "")


def test_what_it_no_longer_keeps_is_offered_again(world: World, market: Connection) -> None:
    with world.standins.store.transaction():
        world.standins.store.amend("hedge", "offer-ie", "o4", {**there(world, "o4"), "kept_by": "seller"})
    linking.take_listings(SYSTEM, market.pk, timezone.now(), create=False)
    settle()
    assert there(world, "o4")["quantity"] == 10


def test_it_asks_for_results_only_while_a_batch_is_under_way(world: World, market: Connection) -> None:
    later = timezone.now() + timedelta(hours=1)
    assert "feeds" not in {part.name for _, part in due_parts([market], later)}
    change_account(world, batch_seconds=3600)
    give(world.small, 1)
    relay_now()
    offers.push(market)
    assert "feeds" in {part.name for _, part in due_parts([market], later)}
    _worked_on(world)
    ask_for(market, "feeds")
    assert not submissions.are_waiting(market)


def test_what_it_sends_itself_leaves_its_own_place_and_never_ours(world: World, market: Connection) -> None:
    order = world.order_at_market("o4", 2)
    inbound.poll(market)
    snag = Snag.objects.get(resolved_at=None)
    assert (snag.field, SalesOrder.objects.count()) == ("their_place", 0)
    mill = Location.objects.get(code="mill-lane")
    give(world.small, 6, "8.00", place=mill)
    actions.change_settings(SYSTEM, market.pk, market.version, {"their_place": mill.pk})
    assert "Taken in" in snags.try_again(SYSTEM, snag.pk)
    row = SalesOrder.objects.get()
    assert (row.kind, row.state, row.location, f"{row.total}") == ("sent", "closed", mill, order["total"])
    assert StockBalance.objects.get(item=world.small, location=mill).on_hand == 4
    assert StockBalance.objects.get(item=world.small, location=world.place).on_hand == 10
    cost = JournalLine.objects.filter(entry__kind="cost", account__role="cost_of_sales").get()
    assert cost.amount == 16
    settle()
    # Nobody tells the marketplace what it has done itself.
    assert not (world.standins.store.get("hedge", "order-ie", order["order"]) or {})["parcels"]
    assert_invariants()


def test_a_cancelled_order_comes_back(world: World, market: Connection) -> None:
    order = world.order_at_market("o1", 3)
    inbound.poll(market)
    settle()
    assert there(world, "o1")["quantity"] == 7
    with world.standins.store.transaction():
        kept = world.standins.store.get("hedge", "order-ie", order["order"]) or {}
        at = timezone.now().isoformat()
        world.standins.store.put(
            "hedge", "order-ie", order["order"], {**kept, "state": "cancelled", "revision": 2, "updated_at": at}
        )
    inbound.poll(market)
    settle()
    assert SalesOrder.objects.get().state == "cancelled"
    assert there(world, "o1")["quantity"] == 10
    assert_invariants()


DIRT: list[dict[str, Any]] = [
    {"title": ""}, {"title": None}, {"price": "free"}, {"quantity": "NaN"}, {"offer": ""}, {"barcode": ["x"]}, {"variation": 3},
    {"title": "x" * 5000}, {"price": "1e99"}, {"seller_code": {"a": 1}},
]  # fmt: skip


def test_of_two_thousand_offers_every_dirty_one_is_accounted_for(world: World, market: Connection) -> None:
    """One in fifty is dirty: each is named or taken as it can be, the others come in whole."""
    store = world.standins.store
    with store.transaction():
        for n in range(2000):
            key = f"x{n:05d}"
            offer = {"offer": key, "title": f"Thing {n}", "seller_code": f"X-{n}", "price": "5.00", "quantity": 1}
            store.put("hedge", "offer-ie", key, {"id": key, **offer, **(DIRT[n // 50 % len(DIRT)] if n % 50 == 7 else {})})
    run = linking.take_listings(SYSTEM, market.pk, timezone.now(), create=False)
    assert (run.state, run.failed, run.taken) == ("done", 40, 1960)
    assert Listing.objects.filter(connection=market, external_id__startswith="x").count() == 1960
    snag = Snag.objects.get(kind="listings", resolved_at=None)
    assert snag.title == "40 listings cannot be read"


def test_a_second_region_begins_with_what_the_first_has(world: World, market: Connection) -> None:
    """Places, rules and the way in are copied; the prefix is not, and another address needs its own secret."""
    jars = Category.objects.create(name="Jars")
    set_rules(market, buffer="3", order_prefix="H-")
    rung = Rung(Level.CATEGORY_ON_CONNECTION, "Jars on it", jars.pk, market.pk)
    change(SYSTEM, rung, {"buffer": "1"}, timezone.now())
    mill = Location.objects.get(code="mill-lane")
    actions.change_settings(SYSTEM, market.pk, market.version, {"feeds": [mill.pk], "their_place": mill.pk})
    given = {"kind": "market", "name": "France", "address": market.address, "sign_in": {"region": "fr"}}
    row = actions.add(SYSTEM, **given, copy_from=market.pk)
    assert actions.test(SYSTEM, row.pk, timezone.now()).state == "tested"
    assert (row.their_place, list(row.feeds.all())) == (mill, [mill])
    kept = SettingValue.objects.filter(name="buffer")
    assert kept.get(level="connection", subject=row.pk).value == "3"
    assert kept.get(level="category on a connection", within=row.pk).subject == jars.pk
    assert not SettingValue.objects.filter(name="order_prefix", subject=row.pk).exists()
    with pytest.raises(BadInputError, match="Enter the client secret"):
        given |= {"name": "Elsewhere", "address": "http://127.0.0.1:9", "sign_in": {"region": "fr", "client": "us"}}
        actions.add(SYSTEM, **given, copy_from=market.pk)
    with pytest.raises(BadInputError, match="of this kind"):
        actions.add(SYSTEM, **{**given, "kind": "till", "name": "T", "sign_in": {"token": "t"}}, copy_from=market.pk)


def test_a_mistyped_secret_is_not_carried_by_the_token_of_the_right_one(world: World, market: Connection) -> None:
    given = {"client": "us", "secret": "mistyped", "region": "fr"}
    row = actions.add(SYSTEM, kind="market", name="Wrong", address=market.address, sign_in=given)
    assert "does not know this client id" in actions.test(SYSTEM, row.pk, timezone.now()).test_report["fault"]


def test_an_order_says_until_when_it_has_to_leave_and_what_being_late_cost(world: World, market: Connection) -> None:
    today = company_day(timezone.now())
    told = world.order_at_market("o1", 1)
    inbound.poll(market)
    order = SalesOrder.objects.get()
    assert (order.send_by.isoformat() if order.send_by else "", order.penalty) == (told["send_by"], 0)
    assert order.send_by is not None
    assert order.send_by > today
    assert order_sheet("", "due", None, "", 10)["rows"] == []
    # The day comes and goes: it is what has to leave first, and the marketplace charges for it.
    SalesOrder.objects.filter(pk=order.pk).update(send_by=today)
    (row,) = order_sheet("", "due", None, "", 10)["rows"]
    assert (row.number, row.due) == (order.number, "today")
    late = (today - timedelta(days=1)).isoformat()
    with world.standins.store.transaction():
        there_now = world.standins.store.get("hedge", "order-ie", told["order"]) or {}
        world.standins.store.put(
            "hedge", "order-ie", told["order"], {**there_now, "send_by": late, "revision": 2, "updated_at": ""}
        )
    SalesOrder.objects.filter(pk=order.pk).update(send_by=late)
    (row,) = order_sheet("", "due", None, "", 10)["rows"]
    assert row.due == "late"
    waits = {wait["what"]: wait for wait in today_sheet.morning()["waits"]}
    assert waits["order has to leave today"]["detail"] == "1 should have left before"
    before = order_page(order.pk)["contribution"]
    ship(SYSTEM, order.pk, at=timezone.now())
    settle()
    inbound.poll(Connection.objects.get(pk=market.pk))
    order.refresh_from_db()
    assert order.penalty == D("3.50")
    assert order_page(order.pk)["contribution"] == before - D("3.50")
    assert order_sheet("", "due", None, "", 10)["rows"] == []


def test_an_item_says_within_how_many_days_it_is_sent_there(world: World, market: Connection) -> None:
    item = Listing.objects.get(connection=market, external_id="o2").item
    assert item is not None
    set_rules(market, send_days=3)
    change(SYSTEM, Rung(Level.ITEM, item.sku, item.pk), {"send_days": 9}, timezone.now())
    settle()
    assert (there(world, "o1")["send_days"], there(world, "o2")["send_days"]) == (3, 9)
    # What it sends itself is not ours to say, and what is read back agrees.
    assert there(world, "o4").get("send_days") is None
    assert not Listing.objects.filter(connection=market, offer_state="drifting").exists()
    order = world.order_at_market("o2", 1)
    days = date.fromisoformat(order["send_by"]) - date.fromisoformat(order["placed_at"][:10])
    assert days == timedelta(days=9)

    # Set back for the item, it is as for all others.
    change(SYSTEM, Rung(Level.ITEM, item.sku, item.pk), {"send_days": INHERIT}, timezone.now())
    settle()
    assert there(world, "o2")["send_days"] == 3


@pytest.mark.parametrize("days", [-1, 9999, "soon", {"x": 1}, 10**30])
def test_odd_days_of_one_offer_keep_no_other_from_being_read(world: World, market: Connection, days: Any) -> None:
    with world.standins.store.transaction():
        world.standins.store.amend("hedge", "offer-ie", "o1", {**there(world, "o1"), "send_days": days})
    found = connector_for(market).read_shown(["o1", "o2"])  # type: ignore[attr-defined]
    assert list(found) == ["o2"]


def test_where_a_channel_does_not_say_until_when_a_rule_does(world: World) -> None:
    world.buy({"v1": 1})
    inbound.poll(Connection.objects.get(pk=world.shop.pk))
    assert SalesOrder.objects.get().send_by is None
    set_rules(world.shop, send_within=3)
    world.buy({"v1": 1})
    inbound.poll(Connection.objects.get(pk=world.shop.pk))
    order = SalesOrder.objects.latest("pk")
    assert order.send_by == company_day(order.placed_at) + timedelta(days=3)


@pytest.mark.parametrize(
    ("send_by", "penalty", "day", "charge"),
    [
        ("2026-12-01", "3.50", date(2026, 12, 1), D("3.50")),
        ("2026-12-01T23:00:00Z", 2, date(2026, 12, 1), D(2)),
        ("soon", "some", None, D(0)),
        (None, None, None, D(0)),
        ("9999-12-31", "NaN", None, D(0)),
        (["x"], "-4", None, D(0)),
        ("", "1e30", None, D(0)),
    ],
)
def test_an_odd_day_or_charge_keeps_no_order_out(send_by: Any, penalty: Any, day: date | None, charge: D) -> None:
    facts: dict[str, Any] = {"external_id": "1", "number": "1", "version": 1, "status": "to_ship", "placed_at": timezone.now()}
    read = RemoteOrder.model_validate({**facts, "total": "1", "lines": [], "send_by": send_by, "penalty": penalty})
    assert (read.send_by, read.penalty) == (day, charge)
