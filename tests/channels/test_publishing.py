"""From items to new listings: prepared, checked against what the channel asks, handed in, refused and mended."""

from __future__ import annotations

from decimal import Decimal as D
from typing import Any

import pytest
from django.utils import timezone

from tests.channels.conftest import Standins
from tests.channels.test_journey import World, settle
from tests.world import make_item, make_user, set_rules
from yuvrel.catalogue.models import Barcode, Item, Product
from yuvrel.catalogue.retail import keep_prices
from yuvrel.channels import actions, inbound, publishing, publishing_by_rule, submissions
from yuvrel.channels.models import Connection, Listing, Publication, Run
from yuvrel.core.content import EXAMPLE
from yuvrel.core.errors import BadInputError, ForbiddenError, RefusedError, StaleError
from yuvrel.core.rules import Level, Rung
from yuvrel.people.roles import SYSTEM, Actor, Role
from yuvrel.rules.actions import change
from yuvrel.sales.models import SalesOrder

pytestmark = pytest.mark.django_db


@pytest.fixture
def world(db: None, standins: Standins) -> World:
    return World(standins)


@pytest.fixture
def market(world: World) -> Connection:
    row = world.market()
    settle()
    return Connection.objects.get(pk=row.pk)


@pytest.fixture
def gloves(world: World, market: Connection) -> Item:
    item = make_item("GLV-NEW", on_hand=5)
    Item.objects.filter(pk=item.pk).update(title="Goatskin gloves, size 9")
    set_rules(market, category_there="gloves", title_there="{{ brand }} {{ title | cut(30) }}")
    publishing.prepare(SYSTEM, market.pk, [item.pk])
    return Item.objects.get(pk=item.pk)


def hand_in(market: Connection) -> Run:
    """Everything that is prepared, until the marketplace has said what came of it."""
    ids = list(publishing._ready(market, None).values_list("pk", flat=True))
    run = publishing.ask_publish(SYSTEM, market.pk, None)
    publishing.publish(run, ids)
    if submissions.are_waiting(market):
        submissions.collect(market)
    run.refresh_from_db()
    return run


def test_every_fact_that_a_template_may_name_is_given(gloves: Item) -> None:
    assert publishing._facts(gloves, "", None).keys() == EXAMPLE.keys()


def draft_of(market: Connection) -> publishing.Draft:
    row = Publication.objects.get(connection=market)
    return publishing.drafts_of(market, [row], publishing.kept_categories(market))[row.pk]


def test_the_categories_come_with_the_test(market: Connection) -> None:
    assert {key: len(one.attributes) for key, one in publishing.kept_categories(market).items()} == {"tools": 0, "gloves": 2}


def test_what_is_missing_is_said_before_anything_is_handed_in(world: World, market: Connection, gloves: Item) -> None:
    assert draft_of(market).problems == ("It lacks Material.",)
    assert draft_of(market).title == "Goatskin gloves, size 9"
    run = hand_in(market)
    row = Publication.objects.get()
    assert (run.failed, row.state, row.said) == (1, "prepared", "It lacks Material.")
    assert world.standins.store.all("hedge", "batch")[-1]["what"] != "offers"
    row = publishing.fill(SYSTEM, row.pk, row.version, category=None, attributes={"material": "velvet", "care": " "})
    assert row.attributes == {"material": "velvet"}
    assert draft_of(market).problems == ("Material velvet: not a value that is allowed there.",)
    with pytest.raises(StaleError):
        publishing.fill(SYSTEM, row.pk, row.version - 1, category="tools", attributes=None)
    publishing.fill(SYSTEM, row.pk, row.version, category=None, attributes={"material": "goatskin"})
    hand_in(market)
    row.refresh_from_db()
    assert row.state == "listed"


def test_new_listings_are_made_by_themselves_where_a_rule_says_so(world: World, market: Connection) -> None:
    wanted, priceless = make_item("GLV-A", on_hand=5), make_item("GLV-C")
    make_item("TOL-B")
    keep_prices({priceless.pk: D(0)})
    set_rules(market, category_there="tools")

    def carry_out() -> dict[str, str]:
        run = publishing_by_rule.carry_out(market)
        if run is not None:
            publishing.publish(run, list(publishing._ready(market, None).values_list("pk", flat=True)))
            submissions.collect(market)
        return dict(Publication.objects.filter(connection=market).values_list("item__sku", "state"))

    # By hand, nothing; prepared by itself, nobody hands it in.
    assert carry_out() == {}
    for item in (wanted, priceless):
        change(SYSTEM, Rung(Level.ITEM, item.sku, item.pk), {"publish_when": "prepare"}, timezone.now())
    assert carry_out() == {"GLV-A": "prepared", "GLV-C": "prepared"}
    # What was taken away comes again, until its rule says by hand; handed in is what lacks nothing; what lacks a price waits until it has one.
    for item in (wanted, priceless):
        change(SYSTEM, Rung(Level.ITEM, item.sku, item.pk), {"publish_when": "publish"}, timezone.now())
    Publication.objects.all().delete()
    assert carry_out() == {"GLV-A": "listed", "GLV-C": "prepared"}
    assert carry_out() == {"GLV-A": "listed", "GLV-C": "prepared"}
    keep_prices({priceless.pk: D("9.90")})
    assert carry_out() == {"GLV-A": "listed", "GLV-C": "listed"}
    assert publishing_by_rule.carry_out(market) is None
    assert Run.objects.filter(connection=market, kind="publish").count() == 2


def test_what_is_asked_is_filled_in_by_rule_in_the_channels_words(world: World, market: Connection, gloves: Item) -> None:
    Product.objects.filter(pk=gloves.product_id).update(brand="Goat leather", country="IE")
    with pytest.raises(BadInputError, match="material: Line 1:"):
        set_rules(market, attributes_there={"material": "{{ leather }}"})
    set_rules(market, attributes_there={"material": "{{ brand }}", "care": "{{ options.Care }}", "gone": "x"})
    told = draft_of(market)
    assert (told.filled, told.unknown) == ({"material": "Goat leather"}, ("material: Goat leather",))
    assert told.problems == ("Material Goat leather: not a value that is allowed there.",)
    set_rules(market, values_there={"material: Goat leather": "goatskin"})
    told = draft_of(market)
    assert (told.filled, told.unknown, told.problems) == ({"material": "goatskin"}, (), ())
    # What is typed in for an item goes before the rule.
    row = Publication.objects.get()
    publishing.fill(SYSTEM, row.pk, row.version, category=None, attributes={"material": "nitrile"})
    assert draft_of(market).attributes == {"material": "nitrile"}
    row.refresh_from_db()
    publishing.fill(SYSTEM, row.pk, row.version, category=None, attributes={})
    hand_in(market)
    listing = Listing.objects.get(connection=market, item=gloves)
    offer = world.standins.store.get("hedge", "offer-ie", listing.external_id) or {}
    assert offer["attributes"] == {"material": "goatskin"}


def test_a_new_listing_is_linked_told_and_sold(world: World, market: Connection, gloves: Item) -> None:
    row = Publication.objects.get()
    publishing.fill(SYSTEM, row.pk, row.version, category=None, attributes={"material": "goatskin"})
    hand_in(market)
    settle()
    listing = Listing.objects.get(connection=market, item=gloves)
    assert (listing.link, listing.offer_state, listing.shown) == ("linked", "agreed", 5)
    offer = world.standins.store.get("hedge", "offer-ie", listing.external_id) or {}
    assert (offer["quantity"], offer["attributes"], offer["price"]) == (5, {"material": "goatskin"}, f"{gloves.price:.2f}")
    world.order_at_market(listing.external_id, 2)
    inbound.poll(market)
    assert SalesOrder.objects.get().state == "ready"
    # It is no candidate any more, and cannot be prepared twice.
    assert gloves not in publishing.candidates(market)
    assert publishing.prepare(SYSTEM, market.pk, [gloves.pk]) == 0


def test_a_refusal_says_why_and_can_be_mended(world: World, market: Connection, gloves: Item) -> None:
    Item.objects.filter(pk=gloves.pk).update(title="Forbidden gloves")
    row = Publication.objects.get()
    publishing.fill(SYSTEM, row.pk, row.version, category=None, attributes={"material": "nitrile"})
    hand_in(market)
    row.refresh_from_db()
    assert (row.state, row.said) == ("refused", "we do not sell this")
    change(SYSTEM, Rung(Level.ITEM, "x", gloves.pk), {"title_there": "Gloves {{ sku }}"}, timezone.now())
    hand_in(market)
    row.refresh_from_db()
    assert (row.state, row.said, row.listing and row.listing.title) == ("listed", "", "Gloves GLV-NEW")


def test_what_the_catalogue_knows_by_barcode_is_attached(world: World, market: Connection, gloves: Item) -> None:
    """The channel's own entry has the attributes already."""
    Barcode.objects.create(item=gloves, gtin="02100000000043")
    assert draft_of(market).problems == ("It lacks Material.",)
    hand_in(market)
    row = Publication.objects.get()
    assert (row.state, row.entry) == ("listed", "E-1")
    assert any(offer.get("entry") == "E-1" for offer in world.standins.store.all("hedge", "offer-ie"))


@pytest.mark.parametrize(
    ("values", "problem"),
    [
        ({"title_there": "{{ title }} " + "x" * 90}, "The title has"),
        ({"title_there": "{% if brand %}x{% endif %}"}, "It has no title."),
        ({"title_there": "{{ options.Colour }}"}, "Title: Line 1:"),
        ({"category_there": "hats"}, "There is no category hats there."),
        ({"category_there": ""}, "Choose a category."),
    ],
)
def test_each_thing_that_stands_in_the_way_is_named(
    market: Connection, gloves: Item, values: dict[str, str], problem: str
) -> None:
    # A template that fits every item that has all facts may still not fit this one.
    for name, value in values.items():
        market_rung = Rung(Level.CONNECTION, market.name, market.pk)
        if "options" in value:
            from yuvrel.rules.models import SettingValue

            SettingValue.objects.filter(name=name, level="connection", subject=market.pk).update(value=value)
        else:
            change(SYSTEM, market_rung, {name: value}, timezone.now())
    assert draft_of(market).problems[0].startswith(problem), draft_of(market).problems


def test_a_template_with_an_error_is_refused_with_its_place(market: Connection) -> None:
    with pytest.raises(BadInputError, match="Line 1: 'titel' is undefined") as refusal:
        set_rules(market, title_there="{{ titel }}")
    assert refusal.value.field == "title_there"


def test_who_may_and_when(world: World, market: Connection, gloves: Item) -> None:
    row = Publication.objects.get()
    with pytest.raises(ForbiddenError):
        publishing.prepare(Actor("viewer", Role.VIEWER), market.pk, [gloves.pk])
    with pytest.raises(RefusedError, match="no listings can be made"):
        publishing.prepare(SYSTEM, world.till.pk, [gloves.pk])
    Publication.objects.update(state="waiting")
    with pytest.raises(RefusedError, match="It is waiting"):
        publishing.fill(SYSTEM, row.pk, row.version, category="tools", attributes=None)
    assert publishing.take_back(SYSTEM, market.pk, [row.pk]) == 0
    with pytest.raises(RefusedError, match="Nothing is prepared"):
        publishing.ask_publish(SYSTEM, market.pk, None)
    assert not Run.objects.filter(kind="publish", state="running").exists()
    Publication.objects.update(state="prepared")
    actions.pause(SYSTEM, market.pk)
    with pytest.raises(RefusedError, match="that is paused lists nothing"):
        publishing.ask_publish(SYSTEM, market.pk, None)
    assert publishing.take_back(SYSTEM, market.pk, [row.pk]) == 1


def test_of_a_thousand_publications_each_refused_one_has_its_reason(world: World, market: Connection) -> None:
    """Three in a hundred are refused there for three reasons; nothing is lost between the two."""
    items = [make_item(f"M-{n:04d}") for n in range(1000)]
    for n, item in enumerate(items):
        if n % 33 == 0:
            item.title = f"Forbidden thing {n}"
    Item.objects.bulk_update(items, ["title"])
    set_rules(market, category_there="tools")
    assert publishing.prepare(SYSTEM, market.pk, [item.pk for item in items]) == 1000
    run = hand_in(market)
    assert (run.state, run.done, run.failed) == ("done", 1000, 0)
    rows = Publication.objects.filter(connection=market)
    assert rows.filter(state="listed").count() == 969
    assert set(rows.filter(state="refused").values_list("said", flat=True)) == {"we do not sell this"}
    made: list[dict[str, Any]] = [offer for offer in world.standins.store.all("hedge", "offer-ie") if offer["id"].startswith("N")]
    assert len(made) == 969 == Listing.objects.filter(connection=market, link_reason="published from here").count()


def test_the_sheet_shows_each_with_what_stands_in_the_way(client: Any, market: Connection, gloves: Item) -> None:
    client.force_login(make_user(Role.BUYER))
    page = client.get(f"/api/v1/connections/{market.pk}/publications").json()
    assert (page["counts"], page["most_title"], len(page["categories"])) == ({"prepared": 1}, 80, 2)
    assert page["rows"][0] | {"prepared_at": ""} == page["rows"][0] | {
        "sku": "GLV-NEW",
        "title": "Goatskin gloves, size 9",
        "category": "gloves",
        "own_category": "",
        "problems": ["It lacks Material."],
        "state": "prepared",
        "prepared_at": "",
    }
    other = make_item("OTHER")
    found = client.get(f"/api/v1/connections/{market.pk}/candidates?q=other").json()
    assert [row["sku"] for row in found["rows"]] == [other.sku]
    said = client.post(
        f"/api/v1/connections/{market.pk}/publications", {"every": True, "q": "OTHER"}, content_type="application/json"
    ).json()
    assert said["said"] == "1 prepared."


def test_the_range_can_be_narrowed_by_what_is_lacking_and_by_listings_that_stand_for_nothing(
    client: Any, world: World, market: Connection, gloves: Item
) -> None:
    client.force_login(make_user(Role.VIEWER))

    def found(listed: str, connection: int | None = None) -> set[str]:
        where = f"&connection={connection}" if connection else ""
        return {row["sku"] for row in client.get(f"/api/v1/items?listed={listed}{where}").json()["rows"]}

    assert found("lacking") == found("lacking", market.pk) == {"GLV-NEW"}
    assert found("lacking", world.shop.pk) == set()
    row = Publication.objects.get()
    publishing.fill(SYSTEM, row.pk, row.version, category=None, attributes={"material": "goatskin"})
    assert (found("lacking"), found("prepared")) == (set(), {"GLV-NEW"})
    listing = Listing.objects.filter(connection=world.shop, item=world.small).get()
    shop = world.shop.pk
    assert found("unpaired", shop) == set()
    for facts, way in (({"link": "unlinked"}, "unpaired"), ({"link": "ignored"}, "ignored")):
        Listing.objects.filter(pk=listing.pk).update(item=None, sku=f" {world.small.sku.lower()}", **facts)
        assert found(way, shop) == {world.small.sku}
    Listing.objects.filter(pk=listing.pk).update(link="unlinked", link_reason="its barcode is another item's")
    assert found("clashing", shop) == {world.small.sku}
