"""Goods are told, and read, in the language of the channel."""

from __future__ import annotations

from decimal import Decimal as D
from typing import Any

import pytest

from tests.channels.conftest import Standins
from tests.channels.test_journey import World, settle
from tests.channels.test_listing_facts import gloves, listing, read, say
from tests.world import set_rules
from yuvrel.catalogue.languages import keep_text, keep_words
from yuvrel.catalogue.models import Item, Product, ProductText
from yuvrel.catalogue.products import change_items
from yuvrel.channels import publishing
from yuvrel.channels.models import Connection, Listing, Publication, Snag
from yuvrel.people.roles import SYSTEM

pytestmark = pytest.mark.django_db


@pytest.fixture
def world(db: None, standins: Standins) -> World:
    return World(standins)


def keep(product: Product, title: str, description: str = "") -> None:
    product.refresh_from_db()
    keep_text(SYSTEM, product.pk, product.version, "de", title, description)


def test_listings_are_told_in_the_language_of_their_channel(world: World) -> None:
    market = world.market()
    set_rules(market, texts_when="changes", description_there="{{ description }}")
    settle()
    product = world.small.product
    Product.objects.filter(pk=product.pk).update(description="<p>Burns cool.</p>")

    def there(key: str = "o1") -> Any:
        return (world.standins.store.get("hedge", "offer-ie", key) or {})["title"]

    set_rules(market, language_there="de")
    settle()
    # What is not said in it yet waits, and it is said why.
    assert there() == "Smoker small"
    snag = Snag.objects.filter(kind="texts", resolved_at=None).order_by("pk")[0]
    assert snag.detail == "It has no title in German. It has no description in German."
    keep(product, "Räucherofen")
    settle()
    assert there() == "Smoker small", "its description is still missing"
    keep(product, "Räucherofen", "Brennt kühl.")
    settle()
    assert (there(), there("o2")) == ("Räucherofen small", "Räucherofen large")
    keep_words(SYSTEM, "de", {"Small": "klein", "LARGE": "groß"})
    settle()
    assert (there(), there("o2")) == ("Räucherofen klein", "Räucherofen groß")
    assert not Snag.objects.filter(kind="texts", resolved_at=None).exists()
    # Other channels, and we ourselves, go on calling it as before.
    world.small.refresh_from_db()
    assert world.small.title == "Smoker small"
    set_rules(market, language_there="")
    settle()
    assert there() == "Smoker small"


def test_a_title_that_names_the_price_follows_it(world: World) -> None:
    market = world.market()
    set_rules(market, texts_when="changes", title_there="{{ title }} at {{ price | money }}")
    settle()

    def there() -> str:
        return str((world.standins.store.get("hedge", "offer-ie", "o1") or {})["title"])

    world.small.refresh_from_db()
    was = there()
    change_items(SYSTEM, {world.small.pk: {"price": D("77.70"), "version": world.small.version}})
    settle()
    assert was != there() == "Smoker small at 77.70"


def test_a_new_listing_waits_until_its_goods_are_said_in_the_language(world: World) -> None:
    market = world.market()
    set_rules(market, category_there="tools", language_there="de")
    item = Item.objects.get(sku="GLV-9")
    Listing.objects.filter(connection=market, item=item).delete()
    publishing.prepare(SYSTEM, market.pk, [item.pk])
    row = Publication.objects.get(connection=market)

    def draft() -> publishing.Draft:
        return publishing.drafts_of(Connection.objects.get(pk=market.pk), [row], {})[row.pk]

    assert draft().problems == ("It has no title in German.",)
    assert draft().title == item.title, "it can be looked at all the same"
    keep(item.product, "Handschuh")
    assert (draft().problems, draft().title.split()[0]) == ((), "Handschuh")


def test_what_a_channel_says_in_its_language_is_compared_with_what_we_say_in_it(world: World) -> None:
    shop = world.shop
    product = gloves().product
    keep(product, "Handschuhe", "<p>Aus Ziegenleder.</p>")
    say(world, "p2", "web", title="Handschuhe", text="Aus Ziegenleder.")
    # In our language it would be another title and description.
    assert "1 otherwise than here" in read(shop)
    set_rules(shop, language_there="de", content_in="follow")
    assert "0 taken over, 0 otherwise than here" in read(shop)
    say(world, "p2", "web", title="Handschuhe", text="Aus Hirschleder.")
    assert "1 taken over, 0 otherwise than here" in read(shop)
    text = ProductText.objects.get(product=product)
    assert (text.title, text.description) == ("Handschuhe", "<p>Aus Hirschleder.</p>")
    product.refresh_from_db()
    assert product.description == "", "ours stays ours"
    # A description that comes before anybody said a title brings one along.
    keep(product, "")
    say(world, "p2", "web", title="Handschuhe", text="Aus Rindsleder.")
    Listing.objects.filter(pk=listing(shop).pk).update(settled={})
    set_rules(shop, content_in="fill")
    read(shop)
    text = ProductText.objects.get(product=product)
    assert (text.title, text.description) == ("Handschuhe", "<p>Aus Rindsleder.</p>")


def test_items_made_of_listings_in_another_language_are_described_in_it_alone(world: World) -> None:
    row = world.connect("web_shop", "Trade", "shop/trade")
    variants = (world.standins.store.get("trade", "product", "p2") or {})["variants"]
    variants[0] |= {"sku": "GLV-T", "barcode": ""}
    say(world, "p2", variants=variants, title="Handschuhe", text="Aus Ziegenleder.")
    set_rules(row, language_there="de")
    assert "1 made into items" in read(row, create=True)
    made = Item.objects.select_related("product").get(sku="GLV-T").product
    text = made.texts.get()  # type: ignore[attr-defined]
    assert (made.title, made.description) == ("Handschuhe", "")
    assert (text.language, text.title, text.description) == ("de", "Handschuhe", "<p>Aus Ziegenleder.</p>")
    assert listing(row, "GLV-T").says_otherwise is False
