"""Selling past zero on a shop: what it is told, what it lets a shopper order, and how that is served and ends."""

from __future__ import annotations

from datetime import timedelta
from decimal import Decimal as D
from typing import Any

import httpx
import pytest
from django.utils import timezone

from tests.channels.conftest import Standins
from tests.channels.test_journey import World, settle
from tests.channels.test_prices import variant
from tests.invariants import assert_invariants
from tests.world import make_listing, make_supplier
from yuvrel.agreement import actions as agreement
from yuvrel.agreement.models import Drift
from yuvrel.buying.actions import Arrived, Wanted, draft, receive, send
from yuvrel.buying.models import PurchaseOrder
from yuvrel.channels import inbound, linking, offers
from yuvrel.channels.models import Listing
from yuvrel.channels.queries import offer_working
from yuvrel.channels.rehearsal import rehearse_rules
from yuvrel.core.rules import Level, Rung
from yuvrel.people.models import Company
from yuvrel.people.queries import company_day
from yuvrel.people.roles import SYSTEM
from yuvrel.rules.actions import change
from yuvrel.sales.actions import ship
from yuvrel.sales.models import SalesOrder

pytestmark = pytest.mark.django_db


@pytest.fixture
def world(db: None, standins: Standins) -> World:
    return World(standins)


def on_item(world: World, **values: Any) -> Rung:
    """Settings of the large smoker, of which four are there."""
    rung = Rung(Level.ITEM, world.large.title, world.large.pk)
    change(SYSTEM, rung, values, timezone.now())
    settle()
    return rung


def page(world: World) -> str:
    """The shop's own page."""
    return httpx.get(f"{world.standins.base}/shop/web/").text


def order_of(number: str) -> SalesOrder:
    return SalesOrder.objects.get(external_number=number)


def test_a_pre_order_from_zero_is_sold_promised_served_and_shipped(world: World) -> None:
    on_item(world, selling_past_zero="preorder", past_zero_limit=6, past_zero_text="Next batch about {date}.")
    make_supplier(world.large, price="12.00")
    (po,) = draft(SYSTEM, [Wanted(world.large.pk, world.place.pk, D(5))], timezone.now())
    send(SYSTEM, po.pk, po.version, timezone.now())
    due = company_day(timezone.now()) + timedelta(days=9)
    PurchaseOrder.objects.filter(pk=po.pk).update(expected_on=due)
    offers.recompute({world.large.pk: "test"})
    settle()
    shown = variant(world, "SMK-L")
    assert (shown["quantity"], shown["selling"]["past_zero"], shown["selling"]["badge"]) == (10, "6", "Pre-order")
    assert "Pre-order" not in page(world)
    # The till cannot tell anybody anything: it shows what is there.
    assert D(world.till_shows("2")) == 4
    world.buy({"v2": 4})
    assert f"Next batch about {due:%-d %b %Y}." in page(world)
    number = world.buy({"v2": 3})["number"]
    inbound.poll(world.shop)
    settle()
    order = order_of(number)
    line = order.lines.get(kind="item")
    assert (order.state, line.past_zero, line.promised_on) == ("received", D(3), due)
    assert world.shown("SMK-L") == 3
    listing = Listing.objects.get(connection=world.shop, sku="SMK-L")
    working = offer_working(listing.pk, company_day(timezone.now()))
    assert [step.note for step in working.steps if step.label == "Selling past zero"] == [
        f"6 less 3 sold and not yet served, limit of {world.large.title}"
    ]
    receive(SYSTEM, po.pk, [Arrived(po.lines.get().pk, D(5))], timezone.now())
    settle()
    assert order_of(number).state == "ready"
    # Three of the five that came are his; two are there and the whole limit is free again.
    assert (world.shown("SMK-L"), D(world.till_shows("2"))) == (8, 2)
    ship(SYSTEM, order.pk, at=timezone.now())
    assert order_of(number).state == "shipped"
    assert_invariants()


def test_it_ends_by_its_limit_and_by_its_date(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    today = company_day(timezone.now())
    on_item(world, selling_past_zero="backorder", past_zero_limit=2, past_zero_until=(today + timedelta(3)).isoformat())
    world.buy({"v2": 6})
    inbound.poll(world.shop)
    settle()
    assert world.shown("SMK-L") == 0
    assert "selling" not in variant(world, "SMK-L") or "badge" not in variant(world, "SMK-L")["selling"]
    on_item(world, past_zero_limit=5)
    assert world.shown("SMK-L") == 3
    offers.begin_day(today)
    monkeypatch.setattr(offers, "company_day", lambda at: today + timedelta(4))
    assert offers.begin_day(today + timedelta(4)) == {world.shop.pk}
    settle()
    assert world.shown("SMK-L") == 0


def test_a_limit_is_shared_by_all_that_inherit_it(world: World) -> None:
    trade = world.connect("web_shop", "Trade", "shop/trade")
    linking.take_listings(SYSTEM, trade.pk, timezone.now(), create=False)
    settle()
    product = world.large.product
    rung = Rung(Level.PRODUCT, product.title, product.pk)
    change(SYSTEM, rung, {"selling_past_zero": "backorder", "past_zero_limit": 5}, timezone.now())
    settle()
    everywhere = [(sku, account) for sku in ("SMK-S", "SMK-L") for account in ("web", "trade")]
    assert [world.shown(sku, account) for sku, account in everywhere] == [15, 15, 9, 9]
    world.buy({"v2": 7}, account="trade")
    inbound.poll(trade)
    settle()
    # Three of the limit are gone for both sizes in both shops.
    assert [world.shown(sku, account) for sku, account in everywhere] == [12, 12, 2, 2]


def test_what_the_shopper_sees_and_may_order(world: World) -> None:
    on_item(world, order_maximum=3, low_stock_below=5, low_stock_text="Hurry, {count} left", show_stock="hidden")
    assert "Hurry, 4 left" in page(world)
    assert "at most 3 an order" in page(world)
    form = {"q-v2": "4", "name": "Una"}
    said = httpx.post(f"{world.standins.base}/shop/web/buy", data=form, headers={"Accept": "application/json"})
    assert said.status_code == 409
    assert "At most 3 of Smoker in one order." in said.text
    change(SYSTEM, Rung(Level.ITEM, "x", world.large.pk), {"low_stock_below": 0}, timezone.now())
    settle()
    assert "left" not in page(world).split("SMK-L")[1].split("</tr>")[0].replace("Left", "")
    assert "in stock" in page(world)


def test_terms_changed_at_the_shop_are_a_drift_and_put_right(world: World) -> None:
    on_item(world, selling_past_zero="backorder", past_zero_limit=2)
    with world.standins.store.transaction():
        product = world.standins.store.get("web", "product", "p1") or {}
        product["variants"][1]["selling"]["text"] = "Never"
        world.standins.store.put("web", "product", "p1", product)
    agreement.check_connection(world.shop)
    drift = Drift.objects.get(code="A1", healed_at=None)
    assert (drift.expected[:17], drift.found) == ("text: More are on", "text: Never")
    offers.push_again(Listing.objects.get(connection=world.shop, sku="SMK-L"))
    settle()
    agreement.check_connection(world.shop)
    assert not Drift.objects.filter(code="A1", healed_at=None).exists()


def test_a_rehearsal_warns_and_shows_what_would_be_sold(world: World) -> None:
    rung = Rung(Level.ITEM, world.large.title, world.large.pk)
    found = rehearse_rules(SYSTEM, rung, {"selling_past_zero": "backorder"})
    assert (found["rising"], found["warning"]) == (0, "Nothing is sold past zero before a limit is set: it is 0 here.")
    found = rehearse_rules(SYSTEM, rung, {"selling_past_zero": "backorder", "past_zero_limit": "12"})
    assert (found["rising"], found["retold"], found["units_then"] - found["units_now"]) == (1, 1, D(12))
    assert found["warning"].startswith("Up to 12 units can be sold that are not there")
    assert world.shown("SMK-L") == 4


def test_an_order_of_another_day_is_judged_by_that_day(world: World) -> None:
    """It was placed while it could be; that it comes in later is not the shopper's fault."""
    zone = Company.objects.get().time_zone
    assert zone
    listing = make_listing(world.shop, world.small, external_id="own")
    yesterday = company_day(timezone.now()) - timedelta(days=1)
    values = {"selling_past_zero": "backorder", "past_zero_limit": 5, "past_zero_until": yesterday.isoformat()}
    change(SYSTEM, Rung(Level.LISTING, "x", listing.pk), values, timezone.now())
    allowed = inbound.allowances([Listing.objects.select_related("connection", "item__product__category").get(pk=listing.pk)])
    rule = allowed[listing.pk].rule
    assert (rule.runs(yesterday), rule.runs(yesterday + timedelta(1))) == (True, False)
