"""Groups of a shop's customers: what each is shown, how many it may order, and who its customers are here."""

from __future__ import annotations

from decimal import Decimal as D
from typing import Any

import httpx
import pytest
from django.utils import timezone

from standins import faults
from tests.channels.conftest import Standins
from tests.channels.test_journey import World, settle
from tests.channels.test_prices import follow, own_list, put, variant
from tests.world import give, set_rules
from yuvrel.agreement import actions as agreement
from yuvrel.agreement.models import Check, Drift
from yuvrel.channels import inbound, linking, prices, snags
from yuvrel.channels.group_prices import groups_page, keep, read_groups, rehearse
from yuvrel.channels.jobs import relay_now
from yuvrel.channels.listing_page import listing_page
from yuvrel.channels.models import ChannelGroup, Connection, GroupPrice, Listing, PriceOffer, Snag
from yuvrel.channels.price_rules import price_offer_working
from yuvrel.core.errors import BadInputError, NotFoundError, RefusedError, StaleError
from yuvrel.people.roles import SYSTEM
from yuvrel.pricing.actions import delete_list, keep_list
from yuvrel.pricing.models import PriceList
from yuvrel.rules.actions import change, rung_at
from yuvrel.sales.customers import keep_group
from yuvrel.sales.models import Customer, SalesOrder

pytestmark = pytest.mark.django_db


@pytest.fixture
def world(db: None, standins: Standins) -> World:
    world = World(standins)
    follow(world)
    read_groups(SYSTEM, world.shop.pk)
    settle()
    return world


def club(key: str = "club") -> ChannelGroup:
    return ChannelGroup.objects.get(key=key)


def trade(**facts: Any) -> PriceList:
    return keep_list(SYSTEM, None, 0, {"name": "Trade", **facts})


def tie(key: str = "club", **facts: Any) -> ChannelGroup:
    one = club(key)
    kept = keep(SYSTEM, one.pk, one.version, facts)
    settle()
    return kept


def sees(world: World, sku: str = "SMK-S", key: str = "club") -> str | None:
    """What the shop itself has for a group; None: what everybody sees."""
    found: str | None = variant(world, sku).get("for_groups", {}).get(key)
    return found


def test_a_group_is_shown_its_list_and_everything_else_as_everybody(world: World) -> None:
    assert [one.title for one in ChannelGroup.objects.order_by("key")] == ["Clubs", "Staff"]
    row = trade()
    put(world, "20.50", into=row)
    tie(price_list_id=row.pk)
    assert (sees(world), sees(world, "SMK-L"), sees(world, key="staff")) == ("20.50", None, None)
    assert variant(world, "SMK-S")["price"] == "24.60"
    page = httpx.get(f"{world.standins.base}/shop/web/?group=club", trust_env=False).text
    assert "<s>24.60</s> 20.50" in page
    put(world, "19.00", into=row)
    assert sees(world) == "19.00"
    put(world, None, into=row)
    assert sees(world) is None
    assert not GroupPrice.objects.exists(), "what is told and over is done with"


def test_its_own_list_speaks_before_that_of_the_group_it_is_here(world: World) -> None:
    members, row = keep_list(SYSTEM, None, 0, {"name": "Members"}), trade()
    put(world, "22.00", into=members)
    put(world, "23.00", into=members, sku="SMK-L")
    put(world, "20.50", into=row)
    group = keep_group(SYSTEM, None, 0, {"name": "Clubs", "price_list_id": members.pk})
    tie(group_id=group.pk, price_list_id=row.pk)
    assert (sees(world), sees(world, "SMK-L")) == ("20.50", "23.00")
    listing = Listing.objects.get(connection=world.shop, sku="SMK-L")
    working = price_offer_working(listing.pk, club().pk)
    assert working.result == D("23.00")
    assert "group Clubs" in str(working)
    with pytest.raises(NotFoundError):
        price_offer_working(listing.pk, 999_999)
    (told,) = listing_page(listing.pk)["group_prices"]
    assert (told["title"], told["price"], told["shown"], told["state"]) == ("Clubs", D("23.00"), D("23.00"), "agreed")
    # The group is given no list any more: what it alone said goes, what the shop's own list says stays.
    keep_group(SYSTEM, group.pk, group.version, {"price_list_id": None})
    settle()
    assert (sees(world), sees(world, "SMK-L")) == ("20.50", None)
    tie(group_id=None, price_list_id=None)
    assert sees(world) is None
    assert groups_page(world.shop.pk)["groups"][0]["speaks"] == []


def test_a_list_that_a_group_is_shown_cannot_be_deleted(world: World) -> None:
    row = trade()
    tie(price_list_id=row.pk)
    with pytest.raises(RefusedError, match="Clubs at Web"):
        delete_list(SYSTEM, row.pk, row.version, timezone.now())


def test_it_is_rehearsed_before_it_is_said(world: World) -> None:
    row = trade(method="derived", percent=D(-30))
    set_rules(world.shop, margin_floor=20)
    settle()
    one = club()
    told = rehearse(SYSTEM, one.pk, one.version, {"price_list_id": row.pk})
    assert told == {"listings": 3, "changing": 3, "below": 1, "kept_here": True}
    assert not GroupPrice.objects.exists()
    tie(price_list_id=row.pk)
    snag = Snag.objects.get(kind="group price", resolved_at=None)
    assert "below its margin floor for Clubs" in snag.title
    # 24.60 less 30 % is 17.22, without tax 14.00: 12.00 leaves 14 %, 8.00 leaves 43 %.
    assert (sees(world), sees(world, "SMK-L")) == ("17.22", None)
    assert PriceOffer.objects.get(listing__sku="SMK-L", listing__connection=world.shop).state == "agreed"
    assert snags.try_again(SYSTEM, snag.pk) == prices.STILL_HELD
    set_rules(world.shop, margin_floor=None)
    settle()
    assert sees(world, "SMK-L") == "17.22"
    assert not Snag.objects.filter(resolved_at=None).exists()
    set_rules(world.shop, price_owner="apart")
    settle()
    assert not GroupPrice.objects.exists()
    assert rehearse(SYSTEM, one.pk, club().version, {"price_list_id": row.pk})["kept_here"] is False


@pytest.mark.parametrize(
    ("facts", "error"),
    [({"group_id": 10**9}, BadInputError), ({"price_list_id": 10**9}, BadInputError)],
)
def test_what_cannot_be_is_named(world: World, facts: dict[str, int], error: type[Exception]) -> None:
    one = club()
    with pytest.raises(error, match="There is no such") as told:
        keep(SYSTEM, one.pk, one.version, facts)
    assert getattr(told.value, "field", "") == next(iter(facts))
    with pytest.raises(StaleError):
        keep(SYSTEM, one.pk, one.version + 1, {})
    with pytest.raises(NotFoundError):
        rehearse(SYSTEM, 10**9, 1, {})


def test_what_somebody_changes_there_is_a_drift_until_ours_is_pushed(world: World) -> None:
    row = trade()
    put(world, "20.50", into=row)
    tie(price_list_id=row.pk)
    with world.standins.store.transaction():
        product = world.standins.store.get("web", "product", "p1") or {}
        small, large = product["variants"]
        small["for_groups"], large["for_groups"] = {"club": "9.99"}, {"club": "8.88", "staff": "1.00"}
        world.standins.store.put("web", "product", "p1", product)
    agreement.check_connection(world.shop)
    found = {d.title: (d.expected, d.found) for d in Drift.objects.filter(healed_at=None)}
    assert found == {
        "Smoker small, price for Clubs": ("20.50", "9.99"),
        "Smoker large, price for Clubs": ("as everybody", "8.88"),
    }, "what the staff sees is nobody's here"
    assert Check.objects.get(code="A2").differing == 2
    for drift in Drift.objects.filter(healed_at=None):
        with pytest.raises(RefusedError, match="push ours"):
            agreement.take_theirs(SYSTEM, drift.pk, timezone.now())
        agreement.push_again(SYSTEM, drift.pk)
    settle()
    assert (sees(world), sees(world, "SMK-L"), sees(world, "SMK-L", "staff")) == ("20.50", None, "1.00")
    agreement.check_connection(world.shop)
    assert not Drift.objects.filter(healed_at=None).exists()


def test_a_refused_price_is_a_snag_and_goes_out_again(world: World) -> None:
    row = trade()
    put(world, "20.50", into=row)
    one = club()
    faults.switch(world.standins.store, "web", {"line_refused": 1.0})
    keep(SYSTEM, one.pk, one.version, {"price_list_id": row.pk})
    relay_now()
    prices.push(world.shop)
    snag = Snag.objects.get(kind="group price")
    assert (snag.title, snag.detail) == ("The price of Smoker small for Clubs was refused", "this line was not taken")
    assert GroupPrice.objects.get().state == "held"
    faults.switch(world.standins.store, "web", {})
    snags.try_again(SYSTEM, snag.pk)
    settle()
    snag.refresh_from_db()
    assert (sees(world), snag.resolved_how) == ("20.50", "pushed again and agreed")


def test_a_group_that_the_shop_has_no_more_is_shown_nothing(world: World) -> None:
    row = trade()
    put(world, "20.50", into=row)
    tie(price_list_id=row.pk)
    with world.standins.store.transaction():
        shop = world.standins.store.get("web", "account", "web") or {}
        world.standins.store.put("web", "account", "web", {**shop, "groups": shop["groups"][1:]})
    assert [one.key for one in read_groups(SYSTEM, world.shop.pk)] == ["staff"]
    assert not GroupPrice.objects.exists()
    put(world, "20.00", into=row)
    assert not GroupPrice.objects.exists()
    assert [one["key"] for one in groups_page(world.shop.pk)["groups"]] == ["staff"]
    assert Snag.objects.get(kind="group gone", resolved_at=None).title == "Web has no group Clubs any more"
    with pytest.raises(RefusedError, match="no groups of customers"):
        read_groups(SYSTEM, world.ledger.pk)


def test_a_listing_that_is_paired_no_more_is_no_longer_told(world: World) -> None:
    row = trade()
    put(world, "20.50", into=row)
    tie(price_list_id=row.pk)
    listing = Listing.objects.get(connection=world.shop, sku="SMK-S")
    linking.unlink(SYSTEM, listing.pk, listing.version)
    assert not GroupPrice.objects.exists()


def buy(world: World, count: int, group: str) -> httpx.Response:
    form = {"name": "Nan Wick", "email": f"nan.{group}@wick.example", "q-v1": str(count), "group": group}
    headers = {"accept": "application/json"}
    return httpx.post(f"{world.standins.base}/shop/web/buy", data=form, headers=headers, trust_env=False)


def test_limits_of_an_order_are_told_for_everybody_and_for_a_group(world: World) -> None:
    give(world.small, 40)
    group = keep_group(SYSTEM, None, 0, {"name": "Clubs", "order_minimum": D(10), "order_step": D(6)})
    tie(group_id=group.pk)
    set_rules(world.shop, order_minimum=2, order_maximum=20)
    settle()
    assert variant(world, "SMK-S")["selling"] == {
        "least": "2",
        "most": "20",
        "groups": {"club": {"least": "12", "step": "6", "most": "18"}},
    }
    told = listing_page(Listing.objects.get(connection=world.shop, sku="SMK-S").pk)["told"]
    assert "Clubs: in steps of 6" in told
    for count, whom, said in (
        (1, "", "At least 2"),
        (21, "", "At most 20"),
        (6, "club", "At least 12"),
        (13, "club", "in steps of 6"),
        (24, "club", "At most 18"),
    ):
        refused = buy(world, count, whom)
        assert (refused.status_code, said in refused.text) == (409, True), refused.text
    assert buy(world, 12, "club").status_code == 200
    assert buy(world, 3, "").status_code == 200
    agreement.check_connection(world.shop)
    assert not Drift.objects.filter(code="A1", healed_at=None).exists()
    # The group's own limits go: it may order as everybody does.
    keep_group(SYSTEM, group.pk, group.version, {"order_minimum": None, "order_step": None})
    settle()
    assert "groups" not in variant(world, "SMK-S")["selling"]
    for bad in ({"order_step": D(0)}, {"order_minimum": D(5), "order_maximum": D(4)}):
        with pytest.raises(BadInputError):
            keep_group(SYSTEM, group.pk, group.version + 1, bad)


def test_a_tray_is_told_limits_in_trays(world: World) -> None:
    give(world.small, 40)
    set_rules(world.shop, order_minimum=10, order_step=6, order_maximum=40)
    listing = Listing.objects.get(connection=world.shop, sku="SMK-S")
    linking.link(SYSTEM, listing.pk, world.small.pk, listing.version, units=4)
    settle()
    assert variant(world, "SMK-S")["selling"] == {"least": "3", "step": "3", "most": "9"}


def test_who_is_in_a_group_there_joins_ours_when_first_seen_and_pays_its_price(world: World) -> None:
    row = trade()
    put(world, "20.50", into=row)
    group = keep_group(SYSTEM, None, 0, {"name": "Clubs", "price_list_id": row.pk})
    tie(group_id=group.pk)
    assert buy(world, 2, "club").json()["lines"][0]["amount"] == "41.00"
    buy(world, 1, "")
    inbound.poll(world.shop)
    assert SalesOrder.objects.filter(lines__kind="item", lines__net__gt=0).count() == 2
    joined = Customer.objects.get(email="nan.club@wick.example")
    assert joined.group_id == group.pk
    assert Customer.objects.get(email="nan.@wick.example").group_id is None
    Customer.objects.filter(pk=joined.pk).update(group=None)
    buy(world, 1, "club")
    inbound.poll(world.shop)
    joined.refresh_from_db()
    assert joined.group_id is None, "what a person here says stays"


def test_a_price_held_by_hand_is_what_everybody_sees_and_not_a_group(world: World) -> None:
    row, shop = trade(), own_list(world)
    put(world, "20.50", into=row)
    put(world, "24.00", into=shop)
    tie(price_list_id=row.pk)
    listing = Listing.objects.get(connection=world.shop, sku="SMK-S")
    change(SYSTEM, rung_at("listing", str(listing.pk), "listing"), {"held_price": "21.00"}, timezone.now())
    settle()
    assert (variant(world, "SMK-S")["price"], sees(world)) == ("21.00", "20.50")


@pytest.mark.parametrize("asked", ["push", "check"])
def test_a_group_that_goes_stops_nothing_else_and_may_come_back(world: World, asked: str) -> None:
    row = trade()
    put(world, "20.50", into=row)
    tie(price_list_id=row.pk)
    with world.standins.store.transaction():
        shop = world.standins.store.get("web", "account", "web") or {}
        world.standins.store.put("web", "account", "web", {**shop, "groups": shop["groups"][1:]})
    if asked == "push":
        # What everybody is shown goes out all the same.
        put(world, "26.00")
        put(world, "19.00", into=row)
        assert variant(world, "SMK-S")["price"] == "26.00"
    else:
        agreement.check_connection(world.shop)
        assert Check.objects.get(code="A2").differing == 0
    assert "no such customer group" in Snag.objects.get(kind="group gone", resolved_at=None).detail
    assert Connection.objects.get(pk=world.shop.pk).pause_until is None, "it is no fault of the account"
    assert not GroupPrice.objects.exists()
    with world.standins.store.transaction():
        world.standins.store.put("web", "account", "web", shop)
    read_groups(SYSTEM, world.shop.pk)
    settle()
    assert sees(world) == ("19.00" if asked == "push" else "20.50")
    assert not Snag.objects.filter(resolved_at=None).exists()


def test_prices_that_only_a_group_has_go_when_prices_are_not_kept_here(world: World) -> None:
    row = trade()
    put(world, "20.50", into=row)
    tie(price_list_id=row.pk)
    PriceOffer.objects.all().delete()
    set_rules(world.shop, price_owner="apart")
    settle()
    assert not GroupPrice.objects.exists()
