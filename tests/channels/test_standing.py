"""Listings hidden, ended and for sale again, by hand and by rule; what of one is held by hand; its page and history."""

from __future__ import annotations

from decimal import Decimal as D
from typing import Any
from urllib.parse import unquote

import httpx
import pytest
from django.utils import timezone

from tests.channels.conftest import Standins
from tests.channels.test_journey import World, settle
from tests.channels.test_prices import variant
from tests.invariants import assert_invariants
from tests.world import give, set_rules
from yuvrel.agreement import actions as agreement
from yuvrel.agreement.models import Drift
from yuvrel.catalogue import products
from yuvrel.catalogue.retail import keep_prices
from yuvrel.channels import linking, refreshing, standing
from yuvrel.channels.jobs import relay_now
from yuvrel.channels.listing_page import listing_page
from yuvrel.channels.models import Connection, Listing, Run, Snag
from yuvrel.channels.price_rules import price_offer_working
from yuvrel.channels.queries import offer_working
from yuvrel.channels.rehearsal import rehearse_rules
from yuvrel.connectors.http import ConnectorError
from yuvrel.core.errors import BadInputError, ForbiddenError, NotFoundError, RefusedError
from yuvrel.core.rules import Level, Rung
from yuvrel.people.queries import company_day
from yuvrel.people.roles import SYSTEM, Actor, Role
from yuvrel.rules.actions import change
from yuvrel.stock.actions import adjust

pytestmark = pytest.mark.django_db


@pytest.fixture
def world(db: None, standins: Standins) -> World:
    return World(standins)


def of(world: World, sku: str) -> Listing:
    return Listing.objects.get(connection=world.shop, sku=sku)


def there(world: World, sku: str) -> str:
    return str(variant(world, sku)["selling"].get("state", "live"))


def count(world: World, units: int) -> None:
    """So many of the large smoker are there from now on."""
    at = timezone.now()
    adjust(SYSTEM, item_id=world.large.pk, location_id=world.place.pk, reason="count", counted=D(units), at=at)
    settle()


def test_at_zero_it_is_hidden_and_for_sale_again_when_stock_is_back(world: World) -> None:
    set_rules(world.shop, at_zero="hide")
    settle()
    assert there(world, "SMK-L") == "live"
    count(world, 0)
    assert there(world, "SMK-L") == "hidden"
    assert "SMK-L" not in httpx.get(f"{world.standins.base}/shop/web/").text
    count(world, 3)
    assert (there(world, "SMK-L"), world.shown("SMK-L")) == ("live", 3)
    said = [(one["what"], one["why"].split(":")[0]) for one in listing_page(of(world, "SMK-L").pk)["history"]]
    assert said == [("for sale there", "for sale"), ("hidden there", "nothing is left")]
    assert_invariants()


def test_it_waits_to_be_resumed_where_the_rule_says_so(world: World) -> None:
    set_rules(world.shop, at_zero="end", relist="no")
    count(world, 0)
    assert there(world, "SMK-L") == "ended"
    count(world, 3)
    row = of(world, "SMK-L")
    assert (there(world, "SMK-L"), row.rests) == ("ended", True)
    assert listing_page(row.pk)["rests"]
    standing.stand(SYSTEM, row.pk, "live", timezone.now())
    settle()
    assert (there(world, "SMK-L"), of(world, "SMK-L").rests) == ("live", False)
    count(world, 0)
    assert there(world, "SMK-L") == "ended"


def test_sold_past_zero_it_is_not_at_zero(world: World) -> None:
    set_rules(world.shop, at_zero="hide", selling_past_zero="backorder", past_zero_limit=5)
    count(world, 0)
    assert (there(world, "SMK-L"), world.shown("SMK-L")) == ("live", 5)


def test_by_hand_it_is_hidden_ended_and_resumed(world: World) -> None:
    row = of(world, "SMK-S")
    for wanted in ("hidden", "ended", "live"):
        standing.stand(Actor("Ivo Marsh", Role.BUYER), row.pk, wanted, timezone.now())  # type: ignore[arg-type]
        settle()
        assert there(world, "SMK-S") == wanted
        page = listing_page(row.pk)
        assert (page["stands"], page["stands_there"], page["offer_state"]) == (wanted, wanted, "agreed")
        answer = httpx.post(f"{world.standins.base}/shop/web/buy", data={"name": "U", "q-v1": "1"})
        assert ("not for sale now" in unquote(answer.headers["Location"])) == (wanted != "live")
    by = [one["by"] for one in listing_page(row.pk)["history"]]
    assert {"Ivo Marsh", "Yuvrel"} == set(by)


def test_a_category_is_hidden_on_one_shop_by_rule_and_rehearsed_first(world: World) -> None:
    category = world.small.product.category
    assert category is not None
    rung = Rung(Level.CATEGORY_ON_CONNECTION, "Tools on Web", category.pk, world.shop.pk)
    tried = rehearse_rules(SYSTEM, rung, {"listing_state": "hidden"})
    assert (tried["retold"], tried["rising"], tried["falling"]) == (2, 0, 0)
    change(SYSTEM, rung, {"listing_state": "hidden"}, timezone.now())
    settle()
    assert [there(world, sku) for sku in ("SMK-S", "SMK-L", "GLV-9")] == ["hidden", "hidden", "live"]
    # One of them is wanted all the same.
    standing.stand(SYSTEM, of(world, "SMK-L").pk, "live", timezone.now())
    settle()
    assert [there(world, sku) for sku in ("SMK-S", "SMK-L")] == ["hidden", "live"]


def test_what_is_shown_again_over_there_is_a_drift(world: World) -> None:
    row = of(world, "SMK-S")
    standing.stand(SYSTEM, row.pk, "hidden", timezone.now())
    settle()
    product = world.standins.store.get("web", "product", "p1") or {}
    product["variants"][0]["selling"] = {}
    world.standins.store.amend("web", "product", "p1", product)
    agreement.check_connection(world.shop)
    drift = Drift.objects.get(healed_at=None)
    assert drift.code == "A1"
    agreement.push_again(SYSTEM, drift.pk)
    settle()
    agreement.heal_pushed(timezone.now())
    assert there(world, "SMK-S") == "hidden"
    assert not Drift.objects.filter(healed_at=None).exists()


def test_an_offer_at_the_marketplace_is_suspended_and_withdrawn(world: World) -> None:
    market = world.market()
    settle()
    row = Listing.objects.get(connection=market, external_id="o1")
    for wanted, said in (("hidden", "suspended"), ("ended", "withdrawn"), ("live", "on_sale")):
        standing.stand(SYSTEM, row.pk, wanted, timezone.now())  # type: ignore[arg-type]
        settle()
        offer = world.standins.store.get("hedge", "offer-ie", "o1") or {}
        assert offer["standing"] == said
        row.refresh_from_db()
        assert (row.offer_state, row.terms_shown.get("state", "live")) == ("agreed", wanted)
    assert any(one["what"] == "quantities taken there" for one in listing_page(row.pk)["history"])


def test_a_quantity_and_a_price_are_held_by_hand_without_losing_the_link(world: World) -> None:
    set_rules(world.shop, price_owner="here")
    settle()
    row = of(world, "SMK-S")
    rung = Rung(Level.LISTING, row.title, row.pk)
    tried = rehearse_rules(SYSTEM, rung, {"held_quantity": "2", "held_price": "19.90"})
    assert (tried["falling"], tried["units_then"], tried["prices_changing"]) == (1, D(2), 1)
    change(SYSTEM, rung, {"held_quantity": "2", "held_price": "19.90"}, timezone.now())
    settle()
    give(world.small, 5, "8.00")
    settle()
    assert (world.shown("SMK-S"), variant(world, "SMK-S")["price"]) == (2, "19.90")
    working = offer_working(row.pk, company_day(timezone.now()))
    assert [(s.label, s.value) for s in working.steps if s.kind == "result"] == [("Offered", D(15)), ("Held by hand", D(2))]
    row.refresh_from_db()
    assert (row.link, row.offer_state, row.price_offer.state) == ("linked", "agreed", "agreed")
    agreement.check_connection(world.shop)
    assert not Drift.objects.filter(healed_at=None).exists()
    change(SYSTEM, rung, {"held_quantity": None}, timezone.now())
    settle()
    assert (world.shown("SMK-S"), variant(world, "SMK-S")["price"]) == (15, "19.90")


def test_what_a_held_price_leaves_is_worked_out_from_it(world: World) -> None:
    set_rules(world.shop, price_owner="here")
    row = of(world, "SMK-S")
    linking.link(SYSTEM, row.pk, world.small.pk, units=2)
    change(SYSTEM, Rung(Level.LISTING, row.title, row.pk), {"held_price": "39.36"}, timezone.now())
    steps = {step.label: step.value for step in price_offer_working(row.pk).steps}
    # Two for 39.36 with 23 % tax are 16.00 net each, of which 8.00 are cost.
    assert (steps["Shown"], steps["Held by hand"], steps["Net of tax"], steps["Margin"]) == (
        D("49.20"),
        D("39.36"),
        D("16.00"),
        "50 %",
    )


def test_a_price_is_held_by_hand_where_no_list_gives_one(world: World) -> None:
    set_rules(world.shop, price_owner="here")
    keep_prices({world.small.pk: D(0)})
    row = of(world, "SMK-S")
    change(SYSTEM, Rung(Level.LISTING, row.title, row.pk), {"held_price": "19.90"}, timezone.now())
    settle()
    assert variant(world, "SMK-S")["price"] == "19.90"
    assert {step.label: step.value for step in price_offer_working(row.pk).steps}["Held by hand"] == D("19.90")


def test_a_price_held_below_the_floor_is_not_shown(world: World) -> None:
    set_rules(world.shop, price_owner="here")
    change(SYSTEM, Rung(Level.COMPANY, "Larkmead"), {"margin_floor": "30"}, timezone.now())
    row = of(world, "SMK-S")
    change(SYSTEM, Rung(Level.LISTING, row.title, row.pk), {"held_price": "9.00"}, timezone.now())
    settle()
    assert D(variant(world, "SMK-S")["price"]) == D("24.60")
    assert Snag.objects.get(kind="price", resolved_at=None).title == "Smoker small is below its margin floor"


@pytest.mark.parametrize(
    "name, value, said",
    [("held_quantity", "-1", "between 0"), ("held_price", "0", "between 0.01"), ("held_price", "1.005", "at most 2 decimals")],
)
def test_what_cannot_be_held_is_refused(world: World, name: str, value: str, said: str) -> None:
    row = of(world, "SMK-S")
    with pytest.raises(BadInputError, match=said):
        change(SYSTEM, Rung(Level.LISTING, row.title, row.pk), {name: value}, timezone.now())
    with pytest.raises(BadInputError, match="cannot be set for a item"):
        change(SYSTEM, Rung(Level.ITEM, "x", world.small.pk), {name: "1"}, timezone.now())


def test_what_cannot_stand_otherwise_is_refused_with_the_reason(world: World) -> None:
    def refused(listing: Listing, kind: type[Exception], said: str, actor: Any = SYSTEM) -> None:
        with pytest.raises(kind, match=said):
            standing.stand(actor, listing.pk, "hidden", timezone.now())

    row = of(world, "SMK-S")
    refused(row, ForbiddenError, "pair listings", Actor("v", Role.VIEWER))
    refused(Listing.objects.get(connection=world.till, external_id="2"), RefusedError, "On a till nothing can be hidden")
    linking.unlink(SYSTEM, row.pk)
    refused(row, RefusedError, "not paired with an item")
    with pytest.raises(NotFoundError):
        standing.stand(SYSTEM, 10**6, "hidden", timezone.now())


def test_texts_are_told_anew_by_rule_and_one_title_is_held_by_hand(world: World) -> None:
    market = world.market()
    set_rules(market, title_there="{{ title }}, Larkmead")
    settle()
    first, second = (Listing.objects.get(connection=market, external_id=key) for key in ("o1", "o2"))
    change(SYSTEM, Rung(Level.LISTING, second.title, second.pk), {"title_there": "The big one"}, timezone.now())
    for row in (first, second):
        refreshing.refresh(refreshing.ask_refresh(Actor("Ivo", Role.BUYER), row.pk), [row.pk])
        settle()
    told = [(world.standins.store.get("hedge", "offer-ie", key) or {})["title"] for key in ("o1", "o2")]
    assert told == ["Smoker small, Larkmead", "The big one"]
    page = listing_page(first.pk)
    assert (page["title"], page["link"]) == ("Smoker small, Larkmead", "linked")
    assert ("texts told anew", "Smoker small → Smoker small, Larkmead") in [(e["what"], e["why"]) for e in page["history"]]


def test_texts_that_are_refused_or_cannot_be_made_are_snags_until_they_are_mended(world: World) -> None:
    market = world.market()
    row = Listing.objects.get(connection=market, external_id="o1")
    for title, said in (("x" * 81, "The title has 81 characters; at most 80"), ("Forbidden {{ title }}", "we do not say this")):
        set_rules(market, title_there=title)
        refreshing.refresh(refreshing.ask_refresh(SYSTEM, row.pk), [row.pk])
        settle()
        assert said in Snag.objects.get(kind="texts", resolved_at=None).detail
    set_rules(market, title_there="{{ title }}")
    refreshing.refresh(refreshing.ask_refresh(SYSTEM, row.pk), [row.pk])
    settle()
    assert not Snag.objects.filter(kind="texts", resolved_at=None).exists()
    with pytest.raises(RefusedError, match="A web shop takes no texts"):
        refreshing.ask_refresh(SYSTEM, of(world, "SMK-S").pk)


def test_texts_are_told_by_themselves_when_they_change_here(world: World) -> None:
    market = world.market()
    settle()
    product = world.small.product

    def there(key: str = "o1") -> str:
        return str((world.standins.store.get("hedge", "offer-ie", key) or {})["title"])

    products.change(SYSTEM, product.pk, product.version, {"title": "Hive smoker"})
    settle()
    assert there() == "Smoker small", "nobody said that they are told by themselves"
    set_rules(market, texts_when="changes")
    settle()
    products.change(SYSTEM, product.pk, product.version + 1, {"title": "Bee smoker"})
    settle()
    assert (there(), there("o2")) == ("Bee smoker small", "Bee smoker large")
    set_rules(market, title_there="{{ title }}, Larkmead")
    settle()
    assert there() == "Bee smoker small, Larkmead"
    runs = Run.objects.filter(connection=market, kind="refresh")
    count = runs.count()
    products.change(SYSTEM, product.pk, product.version + 2, {"title": "Bee smoker"})
    settle()
    assert runs.count() == count, "nothing differed"
    # A title that cannot stand there is a snag, and mended it is told again.
    set_rules(market, title_there="{{ title }} " + "x" * 80)
    settle()
    assert Snag.objects.filter(kind="texts", resolved_at=None).count() == 2
    set_rules(market, title_there="{{ title }}")
    settle()
    assert not Snag.objects.filter(kind="texts", resolved_at=None).exists()
    assert there() == "Bee smoker small"


def test_what_an_account_did_not_take_for_a_moment_is_told_later(world: World) -> None:
    market = world.market()
    set_rules(market, texts_when="changes")
    settle()
    world.standins.faults("hedge", broken=1.0)
    product = world.small.product
    products.change(SYSTEM, product.pk, product.version, {"title": "Bee smoker"})
    relay_now()
    with pytest.raises(ConnectorError):
        refreshing.tell_due(Connection.objects.get(pk=market.pk))
    assert Listing.objects.filter(texts_due_at__isnull=False).count() == 2
    world.standins.faults("hedge")
    settle()
    assert not Listing.objects.filter(texts_due_at__isnull=False).exists()
    # Of one that is paired no more nothing is told, and nothing goes wrong.
    products.change(SYSTEM, product.pk, product.version + 1, {"title": "Smoker"})
    relay_now()
    for listing in Listing.objects.filter(texts_due_at__isnull=False):
        linking.unlink(SYSTEM, listing.pk)
    failed = Run.objects.filter(connection=market, state="failed").count()
    assert refreshing.tell_due(Connection.objects.get(pk=market.pk)) == 0
    assert Run.objects.filter(connection=market, state="failed").count() == failed
    assert (world.standins.store.get("hedge", "offer-ie", "o1") or {})["title"] == "Bee smoker small"
