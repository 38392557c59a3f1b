"""Prices on the way to channels and back: pushed, held, drifting, taken in; each list and rule on what is really shown."""

from __future__ import annotations

from datetime import timedelta
from decimal import Decimal as D
from typing import Any

import httpx
import pytest
from django.utils import timezone

from tests.channels.conftest import Standins
from tests.channels.test_journey import World, settle
from tests.world import NOW, give, make_connection, set_rules
from yuvrel.agreement import actions as agreement
from yuvrel.agreement.models import Check, Drift
from yuvrel.catalogue.models import Item
from yuvrel.channels import actions, linking, price_intake, price_rules, prices, snags
from yuvrel.channels.models import Connection, Listing, PriceOffer, Run, Snag
from yuvrel.channels.rehearsal import rehearse_rules
from yuvrel.core.errors import BadInputError, RefusedError
from yuvrel.core.rules import Level, Rung
from yuvrel.people.queries import company_day
from yuvrel.people.roles import SYSTEM
from yuvrel.pricing.actions import begin_day, keep_list
from yuvrel.pricing.changes import Typed, type_prices
from yuvrel.pricing.loading import base_list
from yuvrel.pricing.models import PriceEntry, PriceList
from yuvrel.pricing.queries import item_prices, price_working
from yuvrel.rules.actions import change

pytestmark = pytest.mark.django_db


@pytest.fixture
def world(db: None, standins: Standins) -> World:
    return World(standins)


def variant(world: World, sku: str, account: str = "web") -> dict[str, Any]:
    """What the shop itself says."""
    found = [v for p in world.standins.store.all(account, "product") for v in p["variants"] if v["sku"] == sku]
    return dict(found[0])


def put(world: World, price: str | None, sku: str = "SMK-S", into: PriceList | None = None, **more: Any) -> None:
    item = world.small if sku == "SMK-S" else world.large
    type_prices(SYSTEM, (into or base_list()).pk, [Typed(item.pk, None if price is None else D(price), **more)], timezone.now())
    settle()


def own_list(world: World, **facts: Any) -> PriceList:
    """A list of the shop's own."""
    row = keep_list(SYSTEM, None, 0, {"name": "Shop", **facts})
    shop = Connection.objects.get(pk=world.shop.pk)
    world.shop = actions.change_settings(SYSTEM, shop.pk, shop.version, {"price_list": row.pk})
    settle()
    return row


def follow(world: World, **rules: Any) -> None:
    set_rules(world.shop, price_owner="here", **rules)
    settle()


def states() -> dict[str, str]:
    return {row.listing.sku: row.state for row in PriceOffer.objects.select_related("listing")}


def test_the_ladder_says_what_is_left_after_what_a_channel_keeps(world: World) -> None:
    item = Item.objects.get(sku="SMK-S")
    market = make_connection("market", name="Hedge", fee_percent=8)
    make_connection("web_shop", name="No fee")
    make_connection("market", name="Away", fee_percent=8, price_currency="GBP")
    type_prices(SYSTEM, base_list().pk, [Typed(item.pk, D("24.60"))], timezone.now())

    def after() -> dict[str, list[tuple[str, D]]]:
        rungs = item_prices(item.pk, company_day(timezone.now()))["rungs"]
        return {rung["name"]: [(one["name"], one["margin"]) for one in rung["after_fees"]] for rung in rungs}

    # 24.60 with 23 % tax is 20.00 net; cost 8.00; 8 % of 24.60 is 1.97.
    assert after() == {"Base prices": [("Hedge", D("50.2"))]}
    own = keep_list(SYSTEM, None, 0, {"name": "Own", "method": "derived", "percent": D(10)})
    Connection.objects.filter(pk=market.pk).update(price_list=own)
    assert after() == {"Base prices": [], "Own": [("Hedge", D("53.8"))]}
    steps = {step.label: step.value for step in price_working(own.pk, item.pk, company_day(timezone.now())).steps}
    assert (steps["Hedge keeps"], steps["Margin after that"]) == (D("2.16"), "53.8 %")


def test_prices_are_left_alone_until_somebody_says_where_they_are_kept(world: World) -> None:
    put(world, "30.00")
    assert variant(world, "SMK-S")["price"] == "24.60"
    assert not PriceOffer.objects.exists()
    agreement.check_connection(world.shop)
    assert not Check.objects.filter(code="A2").exists()
    follow(world)
    assert variant(world, "SMK-S")["price"] == "30.00"
    assert set(states().values()) == {"agreed"}
    agreement.check_connection(world.shop)
    check = Check.objects.get(code="A2")
    assert (check.left, check.right, check.differing) == (D("79.20"), D("79.20"), 0)


def test_the_shop_shows_its_own_list_and_follows_what_that_derives_from(world: World) -> None:
    follow(world)
    own = own_list(world, method="derived", percent=D(15), ending=D("0.95"))
    assert variant(world, "SMK-S")["price"] == "28.95"  # 24.60 × 1.15 = 28.29
    put(world, "12.00")
    assert variant(world, "SMK-S")["price"] == "13.95"
    put(world, "19.00", into=own)
    put(world, "40.00")
    assert variant(world, "SMK-S")["price"] == "19.00"
    put(world, None, into=own)
    assert variant(world, "SMK-S")["price"] == "46.95"
    keep_list(SYSTEM, own.pk, own.version, {"percent": D(0)})
    settle()
    assert variant(world, "SMK-S")["price"] == "40.95"
    assert PriceOffer.objects.get(listing__sku="SMK-S", listing__connection=world.shop).list_id == own.pk
    working = price_rules.price_offer_working(Listing.objects.get(connection=world.shop, sku="SMK-S").pk)
    assert working.result == D("40.95")


def test_the_list_of_the_place_speaks_where_a_connection_has_none(world: World) -> None:
    keep_list(SYSTEM, None, 0, {"name": "Yard", "method": "derived", "percent": D(-50), "place_ids": [world.place.pk]})
    follow(world)
    assert variant(world, "SMK-S")["price"] == "12.30"


def test_a_dated_price_shows_what_stood_before_and_goes_back_by_itself(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    follow(world)
    today = company_day(timezone.now())
    own_list(world, method="derived", percent=D(10))
    put(world, "20.00", starts_on=today, ends_on=today + timedelta(3))
    assert (variant(world, "SMK-S")["price"], variant(world, "SMK-S")["was"]) == ("22.00", "27.06")
    set_rules(world.shop, price_before="hidden")
    settle()
    assert (variant(world, "SMK-S")["price"], variant(world, "SMK-S")["was"]) == ("22.00", None)
    begin_day(today)
    later = today + timedelta(4)
    monkeypatch.setattr(price_rules, "company_day", lambda at: later)
    begin_day(later)
    settle()
    assert variant(world, "SMK-S")["price"] == "27.06"


def test_without_tax_for_a_channel_that_adds_it(world: World) -> None:
    follow(world, price_tax="without")
    assert variant(world, "SMK-S")["price"] == "20.00"
    put(world, "30.75")
    assert variant(world, "SMK-S")["price"] == "25.00"


def test_a_price_below_its_floor_is_held_with_a_snag_until_it_is_not(world: World) -> None:
    follow(world)
    rung = Rung(Level.ITEM, world.small.title, world.small.pk)
    change(SYSTEM, rung, {"margin_floor": "50"}, NOW)
    settle()
    assert states()["SMK-S"] == "agreed"  # 20.00 net, cost 8.00: 60 %
    put(world, "18.00")  # 14.63 net: 45.3 %
    assert variant(world, "SMK-S")["price"] == "24.60"
    assert states()["SMK-S"] == "held"
    snag = Snag.objects.get(kind="price", resolved_at=None)
    assert "floor" in snag.title
    prices.retry_held(timezone.now() + timedelta(days=9))
    assert states()["SMK-S"] == "held"
    told = rehearse_rules(SYSTEM, rung, {"margin_floor": "40"})
    assert (told["prices_changing"], told["prices_held"]) == (0, 0)
    assert rehearse_rules(SYSTEM, rung, {"margin_floor": "70"})["prices_held"] == 0
    assert "still held" in snags.try_again(SYSTEM, snag.pk)
    assert variant(world, "SMK-S")["price"] == "24.60"
    change(SYSTEM, rung, {"margin_floor": "45.3"}, NOW)
    settle()
    assert variant(world, "SMK-S")["price"] == "18.00"
    assert not Snag.objects.filter(kind="price", resolved_at=None).exists()
    assert rehearse_rules(SYSTEM, rung, {"margin_floor": "45.4"})["prices_held"] == 1


def test_a_refused_price_waits_longer_each_time_and_goes_out_again(world: World) -> None:
    follow(world)
    world.standins.faults("web", line_refused=1.0)
    put(world, "30.00")
    offer = PriceOffer.objects.get(listing__sku="SMK-S", listing__connection=world.shop)
    assert (offer.state, offer.refusals) == ("held", 1)
    assert Snag.objects.filter(kind="price", resolved_at=None).count() == 1
    world.standins.faults("web")
    assert snags.try_again(SYSTEM, Snag.objects.get(kind="price", resolved_at=None).pk) == "The price is being sent again."
    settle()
    assert variant(world, "SMK-S")["price"] == "30.00"
    assert not Snag.objects.filter(kind="price", resolved_at=None).exists()


def test_a_price_changed_at_the_shop_is_a_drift_pushed_or_taken(world: World) -> None:
    follow(world)
    with httpx.Client(base_url=f"{world.standins.base}/shop/web") as office:
        office.post("/office/price", data={"id": "v1", "price": "21.00"})
        office.post("/office/price", data={"id": "v2", "price": "22.00"})
    agreement.check_connection(world.shop)
    drifts = {drift.listing.sku: drift for drift in Drift.objects.filter(code="A2", healed_at=None)}
    assert [(d.expected, d.found) for _, d in sorted(drifts.items())] == [("24.60", "22.00"), ("24.60", "21.00")]
    assert states()["SMK-S"] == "drifting"
    code, woken = agreement.push_again(SYSTEM, drifts["SMK-S"].pk)
    assert (code, woken) == ("A2", {world.shop.pk})
    settle()
    assert variant(world, "SMK-S")["price"] == "24.60"
    said = agreement.take_theirs(SYSTEM, drifts["SMK-L"].pk, timezone.now())
    assert said == "Base prices says 22.00 now, as Web does."
    settle()
    agreement.heal_pushed(timezone.now())
    assert not Drift.objects.filter(healed_at=None).exists()
    Drift.objects.filter(pk=drifts["SMK-L"].pk).update(healed_at=None)
    set_rules(world.shop, price_owner="apart")
    with pytest.raises(RefusedError, match="not kept here"):
        agreement.push_again(SYSTEM, drifts["SMK-L"].pk)
    world.large.refresh_from_db()
    assert world.large.price == 22
    Drift.objects.filter(pk=drifts["SMK-L"].pk).update(code="A1", healed_at=None)
    with pytest.raises(RefusedError, match="counted here"):
        agreement.take_theirs(SYSTEM, drifts["SMK-L"].pk, timezone.now())


def test_a_till_that_keeps_the_prices_drives_the_shop(world: World) -> None:
    follow(world)
    set_rules(world.till, price_owner="there")
    settle()
    with httpx.Client(base_url=f"{world.standins.base}/till/mill") as till:
        till.post("/price", data={"plu": "2", "price": "33.00"})
    assert price_intake.take_changes(Connection.objects.get(pk=world.till.pk), timezone.now()) == 1
    settle()
    assert variant(world, "SMK-L")["price"] == "33.00"
    assert "1 taken in" in Run.objects.filter(kind="prices taken in").latest("pk").log[-1][1]
    assert price_intake.take_changes(Connection.objects.get(pk=world.till.pk), timezone.now()) == 0
    # What the till never told of comes with the check.
    article = world.standins.store.get("mill", "article", "2") or {}
    with world.standins.store.transaction():
        world.standins.store.amend("mill", "article", "2", {**article, "price": "29.00"})
    agreement.check_connection(Connection.objects.get(pk=world.till.pk))
    settle()
    assert variant(world, "SMK-L")["price"] == "29.00"


def test_one_price_that_cannot_be_read_does_not_stop_the_others_and_two_keepers_are_told(world: World) -> None:
    set_rules(world.till, price_owner="there")
    with httpx.Client(base_url=f"{world.standins.base}/till/mill") as till:
        till.post("/price", data={"plu": "1", "price": "26.00"})
        till.post("/price", data={"plu": "2", "price": "33.00"})
    row = world.standins.store.get("mill", "price", "1") or {}
    with world.standins.store.transaction():
        world.standins.store.put("mill", "price", "1", {**row, "price": "a lot"})
    assert price_intake.take_changes(Connection.objects.get(pk=world.till.pk), timezone.now()) == 1
    assert Snag.objects.get(kind="price there", resolved_at=None).field == "price"
    second = world.connect("till", "Till two", "till/mill")
    set_rules(second, price_owner="there")
    assert price_intake.take_changes(second, timezone.now()) == 0
    assert "cannot keep" in Snag.objects.get(connection=second, kind="price").title
    # Nor does the check listen to the second: what was typed here meanwhile is the first one's to answer.
    linking.take_listings(SYSTEM, second.pk, timezone.now(), create=False)
    Listing.objects.filter(connection=second, external_id="2").update(link="linked", item=world.large)
    put(world, "40.00", "SMK-L")
    for till, price in ((second, 40), (Connection.objects.get(pk=world.till.pk), 33)):
        agreement.check_connection(till)
        world.large.refresh_from_db()
        assert world.large.price == price


@pytest.mark.parametrize("odd", ["-3", "20000000", "a lot"])
def test_one_odd_price_in_an_answer_does_not_stop_the_check_of_the_others(world: World, odd: str) -> None:
    """At the shop it is a drift; at a till that keeps the prices it is passed over."""
    follow(world)
    set_rules(world.till, price_owner="there")
    settle()
    store = world.standins.store
    product = store.get("web", "product", "p1") or {}
    variants = [{**one, "price": odd} if one["sku"] == "SMK-S" else one for one in product["variants"]]
    with store.transaction():
        store.amend("web", "product", "p1", {**product, "variants": variants})
        for plu, price in (("1", odd), ("2", "29.00")):
            store.amend("mill", "article", plu, {**(store.get("mill", "article", plu) or {}), "price": price})
    agreement.check_connection(world.shop)
    assert [(d.listing.sku, d.found) for d in Drift.objects.filter(code="A2", healed_at=None)] == [("SMK-S", "not there")]
    before = world.small.price
    agreement.check_connection(Connection.objects.get(pk=world.till.pk))
    for item in (world.small, world.large):
        item.refresh_from_db()
    assert (world.small.price, world.large.price) == (before, 29)


def test_unlinking_ends_what_is_offered_and_linking_begins_it(world: World) -> None:
    follow(world)
    listing = Listing.objects.get(connection=world.shop, sku="SMK-S")
    linking.unlink(SYSTEM, listing.pk)
    put(world, "30.00")
    assert variant(world, "SMK-S")["price"] == "24.60"
    assert not PriceOffer.objects.filter(listing=listing).exists()
    linking.link(SYSTEM, listing.pk, world.small.pk)
    settle()
    assert variant(world, "SMK-S")["price"] == "30.00"


def test_after_a_pause_every_price_is_sent_anew(world: World) -> None:
    follow(world)
    actions.pause(SYSTEM, world.shop.pk)
    put(world, "30.00")
    with httpx.Client(base_url=f"{world.standins.base}/shop/web") as office:
        office.post("/office/price", data={"id": "v2", "price": "22.00"})
    actions.go_live(SYSTEM, world.shop.pk, timezone.now())
    settle()
    assert [variant(world, sku)["price"] for sku in ("SMK-S", "SMK-L")] == ["30.00", "24.60"]


def test_prices_from_cost_follow_the_cost(world: World) -> None:
    follow(world)
    own_list(world, method="margin", percent=D(60))
    assert variant(world, "SMK-S")["price"] == "24.60"
    give(world.small, 10, "10.00")  # 20 at 180.00: 9.00 each
    settle()
    assert variant(world, "SMK-S")["price"] == "27.68"


def in_pounds(world: World) -> PriceList:
    """The shop shows pounds: 0.80 of what the base list says, ending .95."""
    own = own_list(world, method="derived", currency="GBP", rate=D("0.8"), ending=D("0.95"))
    follow(world, price_currency="GBP")
    return own


def test_a_shop_shows_prices_in_its_own_currency(world: World) -> None:
    own = in_pounds(world)
    assert variant(world, "SMK-S")["price"] == "19.95"  # 24.60 × 0.80 = 19.68
    offer = PriceOffer.objects.get(listing__sku="SMK-S", listing__connection=world.shop)
    assert (offer.price, offer.currency, offer.state) == (D("19.95"), "GBP", "agreed")
    working = price_rules.price_offer_working(offer.listing_id)
    assert working.result == D("19.95")
    assert {step.unit for step in working.steps} >= {"GBP", "EUR"}
    put(world, "20.00", into=own)
    assert variant(world, "SMK-S")["price"] == "20.00"
    agreement.check_connection(world.shop)
    assert Check.objects.get(code="A2").differing == 0
    # Back in the company's currency only the base list speaks.
    follow(world, price_currency="")
    assert variant(world, "SMK-S")["price"] == "24.60"
    assert set(PriceOffer.objects.filter(listing__connection=world.shop).values_list("currency", flat=True)) == {"EUR"}


def test_the_floor_is_judged_in_the_currency_that_is_shown(world: World) -> None:
    own = in_pounds(world)
    follow(world, margin_floor=D(20))
    # One costs 8.00 in euros, 6.40 in pounds; 9.84 with 23 % tax leaves 8.00, of which 1.60 is 20 %.
    put(world, "9.84", into=own)
    assert states()["SMK-S"] == "agreed"
    put(world, "9.83", into=own)
    assert states()["SMK-S"] == "held"
    assert "9.83 GBP leaves less" in Snag.objects.get(kind="price", resolved_at=None).detail


def test_a_currency_that_is_none_is_refused(world: World) -> None:
    with pytest.raises(BadInputError, match="not a currency"):
        set_rules(world.shop, price_currency="EEE")


def test_prices_kept_there_in_another_currency_need_a_list_in_it(world: World) -> None:
    set_rules(world.till, price_owner="there", price_currency="GBP")
    with httpx.Client(base_url=f"{world.standins.base}/till/mill") as till:
        till.post("/price", data={"plu": "2", "price": "26.00"})
    assert price_intake.take_changes(world.till, timezone.now()) == 0
    assert Item.objects.get(sku="SMK-L").price == D("24.60"), "pounds are not taken for euros"
    snag = Snag.objects.get(kind="price", resolved_at=None)
    assert (snag.title, snag.field) == ("The prices of Till are in GBP", "price_currency")
    pounds = keep_list(SYSTEM, None, 0, {"name": "Pounds", "currency": "GBP"})
    Connection.objects.filter(pk=world.till.pk).update(price_list=pounds)
    till_row = Connection.objects.get(pk=world.till.pk)
    assert price_intake.take_changes(till_row, timezone.now()) >= 1
    assert PriceEntry.objects.get(list=pounds, item=world.large).price == 26
    assert not Snag.objects.filter(kind="price", resolved_at=None).exists()
