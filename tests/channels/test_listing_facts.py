"""What a shop says of its goods: it comes along with its items, and what was edited here is never written over."""

from __future__ import annotations

import base64
import io
from typing import Any

import pytest
from django.utils import timezone
from PIL import Image

from tests.channels.conftest import Standins
from tests.channels.test_journey import World
from tests.world import make_item, set_rules
from yuvrel.catalogue.models import Item, TaxClass
from yuvrel.catalogue.pictures import add
from yuvrel.catalogue.products import change, change_items
from yuvrel.channels import linking, listing_facts, picture_intake
from yuvrel.channels.models import Call, Connection, HeardWord, Listing, Run, Snag
from yuvrel.connectors.http import UnreachableError
from yuvrel.connectors.web_shop.connector import WebShop
from yuvrel.core.errors import BadInputError, ForbiddenError, NotFoundError, RefusedError, StaleError
from yuvrel.people.models import AuditRow
from yuvrel.people.roles import SYSTEM, Actor, Role

pytestmark = pytest.mark.django_db
STOCK = Actor("Stan", Role.STOCKKEEPER)


@pytest.fixture
def world(db: None, standins: Standins) -> World:
    return World(standins)


def say(world: World, product: str, account: str = "trade", **words: Any) -> None:
    """Somebody edits what a shop says of a product."""
    store = world.standins.store
    with store.transaction():
        store.amend(account, "product", product, {**(store.get(account, "product", product) or {}), **words})


def read(connection: Connection, *, create: bool = False) -> str:
    """Read all listings; what the run said of it."""
    linking.take_listings(SYSTEM, connection.pk, timezone.now(), create=create)
    return Run.objects.filter(connection=connection, kind="listings").latest("pk").log[-1][1]


@pytest.fixture
def shop(world: World) -> Connection:
    """The web shop of the world, its items made before it said anything of them."""
    return world.shop


def gloves() -> Item:
    return Item.objects.select_related("product__category").get(sku="GLV-9")


def listing(connection: Connection, sku: str = "GLV-9") -> Listing:
    return Listing.objects.get(connection=connection, sku=sku)


WORDS: dict[str, Any] = {
    "text": "<p>Goatskin <b>gauntlets</b>.</p><script>alert(1)</script>",
    "maker": "Aldermoor",
    "labels": ["hands"],
    "details": {"Made in": "IRL", "Leather": "goat", "Long": "38 cm", "Inner code": "77"},
}


def test_items_made_of_listings_are_described_as_there(world: World) -> None:
    row = world.connect("web_shop", "Trade", "shop/trade")
    for variant in ("p1", "p2"):
        say(world, variant, **WORDS)
    # Other codes than the world's items have: what matches nothing becomes an item.
    product = world.standins.store.get("trade", "product", "p2") or {}
    product["variants"][0] |= {"sku": "GLV-T", "barcode": "", "weight_grams": 310}
    say(world, "p2", **product)
    set_rules(
        row,
        attributes_in={"Made in": "country", "Leather": "tag", "Long": "length_mm"},
        values_in={"Leather: goat": "goatskin"},
        categories_in={"Clothing": "Wear", "Odd": "-"},
    )
    assert "1 made into items" in read(row, create=True)
    item = Item.objects.select_related("product__category").get(sku="GLV-T")
    told = item.product
    assert (told.description, told.brand, told.country) == ("<p>Goatskin <strong>gauntlets</strong>.</p>", "Aldermoor", "IE")
    assert told.tags == ["hands", "goatskin"]
    assert told.category is not None
    assert told.category.name == "Wear"
    assert (item.weight_grams, item.length_mm) == (310, 380)
    made = listing(row, "GLV-T")
    assert (made.link, made.says_otherwise) == ("linked", False)
    assert made.settled["brand"] == "Aldermoor"
    # Of a category that is not to become items none are made, and it is said why.
    odd = Listing.objects.get(connection=row, sku="")
    assert (odd.link, odd.link_reason) == ("unlinked", "No items are made of its category Odd.")
    heard = HeardWord.objects.filter(connection=row)
    assert set(heard.filter(sort="attributes").values_list("word", flat=True)) == set(WORDS["details"])
    assert "Leather: goat" in heard.filter(sort="attribute_values").values_list("word", flat=True)
    assert not heard.filter(word="Inner code: 77").exists()
    assert set(heard.filter(sort="categories").values_list("word", flat=True)) == {"Tools", "Clothing", "Odd"}


@pytest.mark.parametrize(
    ("there", "rules", "here"),
    [
        ("9", {}, "Books"),
        ("9.00", {}, "Books"),
        ("books", {}, "Books"),
        ("9", {"9": "Food"}, "Food"),
        ("zero", {}, "Standard"),
        ("1e9", {}, "Standard"),
        ("", {}, "Standard"),
    ],
)
def test_what_a_listing_is_taxed_says_the_class_of_its_item(world: World, there: str, rules: dict[str, str], here: str) -> None:
    for name, percent in (("Books", "9"), ("Food", "13.5")):
        TaxClass.objects.create(name=name, percent=percent)
    row = world.connect("web_shop", "Trade", "shop/trade")
    product = world.standins.store.get("trade", "product", "p2") or {}
    product["variants"][0] |= {"sku": "GLV-T", "barcode": ""}
    say(world, "p2", **{**product, "tax_percent": there})
    with pytest.raises(BadInputError, match="no tax class Alcohol"):
        set_rules(row, taxes_in={"23": "Alcohol"})
    set_rules(row, taxes_in=rules)
    read(row, create=True)
    tax = Item.objects.get(sku="GLV-T").product.tax_class
    assert tax is not None and tax.name == here
    assert HeardWord.objects.filter(connection=row, sort="taxes", word=there).exists() == bool(there)


def test_a_listing_without_sku_gets_one_by_pattern_and_a_draft_waits(world: World, shop: Connection) -> None:
    left = Listing.objects.get(connection=shop, sku="")
    assert left.link_reason == "It has no SKU."
    with pytest.raises(RefusedError, match="set a pattern"):
        linking.make_item(SYSTEM, left.pk)
    with pytest.raises(BadInputError, match=r"needs .id."):
        set_rules(shop, sku_in="WEB-{category}")
    set_rules(shop, sku_in="WEB-{id}")
    say(world, "p3", "web", state="draft")
    read(shop, create=True)
    left.refresh_from_db()
    assert (left.link, left.link_reason) == ("unlinked", "It is a draft there.")
    # A person may make one of it all the same; by rule it does by itself.
    set_rules(shop, drafts_in="create")
    assert "1 made into items" in read(shop, create=True)
    left.refresh_from_db()
    assert left.item is not None
    assert (left.item.sku, left.link) == ("WEB-v4", "linked")


def test_items_are_made_of_chosen_listings_alone_and_the_others_are_paired_as_ever(world: World) -> None:
    row = world.connect("web_shop", "Trade", "shop/trade")
    for key, sku in (("p1", "GLV-A"), ("p2", "gaiters-9")):
        product = world.standins.store.get("trade", "product", key) or {}
        product["variants"][0] |= {"sku": sku, "barcode": ""}
        say(world, key, **product)
    set_rules(row, only_in="glv-*, 99")
    assert "1 made into items" in read(row, create=True)
    left = Listing.objects.get(connection=row, sku="gaiters-9")
    assert (left.link, left.link_reason) == ("unlinked", "It is not among those chosen by rule.")
    assert listing(row, "GLV-A").link == "linked"
    set_rules(row, only_in=left.external_id.upper())
    assert "1 made into items" in read(row, create=True)
    assert listing(row, "gaiters-9").link == "linked"


def test_what_a_listing_says_otherwise_is_shown_and_a_person_chooses(world: World, shop: Connection) -> None:
    say(world, "p2", "web", **WORDS)
    assert "1 otherwise than here" in read(shop)
    row = listing(shop)
    rules = listing_facts.FactRules.of(shop)
    assert [(one.field, one.verdict) for one in listing_facts.differing([row], rules)[row.pk]] == [
        ("description", "empty here"),
        ("brand", "empty here"),
        ("tags", "empty here"),
    ]
    assert (gloves().product.brand, list(listing_facts.says_otherwise(shop.pk))) == ("", [row])
    with pytest.raises(ForbiddenError):
        listing_facts.choose(STOCK, row.pk, row.version, ["brand"], theirs=True)
    with pytest.raises(StaleError):
        listing_facts.choose(SYSTEM, row.pk, row.version + 1, ["brand"], theirs=True)
    with pytest.raises(NotFoundError):
        listing_facts.choose(SYSTEM, 0, 1, ["brand"], theirs=True)
    with pytest.raises(BadInputError, match="same by now"):
        listing_facts.choose(SYSTEM, row.pk, row.version, ["country"], theirs=True)
    listing_facts.choose(SYSTEM, row.pk, row.version, ["brand"], theirs=True)
    row = listing_facts.choose(SYSTEM, row.pk, row.version, ["tags"], theirs=False)
    assert (gloves().product.brand, gloves().product.tags, row.says_otherwise) == ("Aldermoor", [], True)
    assert listing_facts.choose_many(SYSTEM, [row.pk], theirs=True) == (1, 0)
    assert "<script>" not in gloves().product.description
    assert not listing_facts.says_otherwise().exists()
    # What was kept apart is not told again, until the shop says something else.
    assert "0 otherwise than here" in read(shop)
    say(world, "p2", "web", labels=["hands", "leather"])
    assert "1 otherwise than here" in read(shop)
    assert AuditRow.objects.filter(action="take over from listing").count() == 2
    listing_facts.choose_many(SYSTEM, [row.pk], theirs=True)
    assert gloves().product.tags == ["hands", "leather"]


def test_by_rule_what_is_empty_is_filled_and_what_changed_there_follows(world: World, shop: Connection) -> None:
    say(world, "p2", "web", maker="Aldermoor", text="One.")
    set_rules(shop, content_in="fill")
    assert "2 taken over, 0 otherwise than here" in read(shop)
    assert (gloves().product.brand, gloves().product.description) == ("Aldermoor", "<p>One.</p>")
    say(world, "p2", "web", maker="Aldermoor Textiles", text="Two.")
    assert "0 taken over, 1 otherwise than here" in read(shop)
    # What somebody edited here stays, whatever the rule.
    product = gloves().product
    change(SYSTEM, product.pk, product.version, {"description": "Ours."})
    set_rules(shop, content_in="follow")
    assert "1 taken over, 1 otherwise than here" in read(shop)
    assert (gloves().product.brand, gloves().product.description) == ("Aldermoor Textiles", "<p>Ours.</p>")
    found = listing_facts.differing([listing(shop)], listing_facts.FactRules.of(shop))[listing(shop).pk]
    assert [(one.field, one.verdict) for one in found] == [("description", "changed here and there")]
    # Edited here alone is no difference with the channel.
    change(SYSTEM, product.pk, gloves().product.version, {"brand": "Ours"})
    listing_facts.choose_many(SYSTEM, [listing(shop).pk], theirs=False)
    assert "0 taken over, 0 otherwise than here" in read(shop)
    assert gloves().product.brand == "Ours"


def test_one_choice_settles_all_variants_of_a_product(world: World, shop: Connection) -> None:
    say(world, "p1", "web", maker="Stavrin")
    read(shop)
    first, second = Listing.objects.filter(connection=shop, group_id="p1").order_by("pk")
    assert (first.says_otherwise, second.says_otherwise) == (True, True)
    listing_facts.choose(SYSTEM, first.pk, first.version, ["brand"], theirs=False)
    second.refresh_from_db()
    assert second.says_otherwise is False
    set_rules(shop, content_in="fill")
    assert "0 taken over, 0 otherwise than here" in read(shop)


def test_measures_of_an_item_follow_too_and_a_tray_is_left_alone(world: World, shop: Connection) -> None:
    set_rules(shop, content_in="follow", attributes_in={"Deep": "height_mm"})
    say(world, "p2", "web", details={"Deep": "3 cm"})
    read(shop)
    assert gloves().height_mm == 30
    change_items(SYSTEM, {gloves().pk: {"height_mm": 50, "version": gloves().version}})
    say(world, "p2", "web", details={"Deep": "4 cm"})
    assert "0 taken over, 1 otherwise than here" in read(shop)
    Listing.objects.filter(pk=listing(shop).pk).update(units=12)
    assert "0 taken over, 0 otherwise than here" in read(shop)
    say(world, "p2", "web", details={"Deep": "very"})
    read(shop)
    assert listing_facts.facts_of(listing(shop), listing_facts.FactRules.of(shop))[1] == ["Deep: very is no measure of height."]


def test_a_listing_paired_by_hand_is_compared_at_once(world: World, shop: Connection) -> None:
    say(world, "p3", "web", maker="Oxbarrow")
    read(shop)
    row, item = Listing.objects.get(connection=shop, sku=""), make_item("NEW-1")
    linking.link(SYSTEM, row.pk, item.pk)
    row.refresh_from_db()
    assert row.says_otherwise is True
    linking.unlink(SYSTEM, row.pk)
    row.refresh_from_db()
    assert (row.says_otherwise, row.settled) == (False, {})


def test_texts_that_we_tell_ourselves_are_no_difference(world: World) -> None:
    market = world.market()
    row = Listing.objects.filter(connection=market, item__isnull=False).order_by("pk").first()
    assert row is not None
    offer = world.standins.store.get("hedge", "offer-ie", row.external_id) or {}
    with world.standins.store.transaction():
        world.standins.store.amend("hedge", "offer-ie", row.external_id, {**offer, "description": "As we told it."})
    assert "0 otherwise than here" in read(market)


def drawn(colour: str) -> str:
    kept = io.BytesIO()
    Image.new("RGB", (4, 3), colour).save(kept, "PNG")
    return base64.b64encode(kept.getvalue()).decode()


def test_pictures_come_to_products_that_have_none(world: World, shop: Connection, monkeypatch: pytest.MonkeyPatch) -> None:
    keys = {"a": drawn("red"), "b": drawn("blue"), "odd": base64.b64encode(b"no picture").decode()}
    with world.standins.store.transaction():
        for key, data in keys.items():
            world.standins.store.put("web", "picture", key, {"id": key, "data": data})
    say(world, "p1", "web", pictures=[{"key": "a", "alt": "In use"}, {"key": "odd"}, {"key": "gone"}, {"key": "b"}])
    say(world, "p2", "web", pictures=[{"key": "a"}])
    ours = add(SYSTEM, gloves().product_id, base64.b64decode(keys["b"]), "Our own")
    read(shop)
    (run,) = Run.objects.filter(connection=shop, kind="pictures")
    # An account that breaks off before the last of them leaves none behind, so that all of them are still wanted.
    whole = WebShop.picture

    def broken(self: WebShop, key: str) -> bytes:
        if key == "b":
            raise UnreachableError("gone")
        return whole(self, key)

    with monkeypatch.context() as breaks, pytest.raises(UnreachableError):
        breaks.setattr(WebShop, "picture", broken)
        picture_intake.take_pictures(run)
    assert not Item.objects.get(sku="SMK-S").product.pictures.exists()
    assert [row.group_id for row in picture_intake.lacking(shop)] == ["p1"]
    run = Run.objects.create(connection=shop, kind="pictures")
    picture_intake.take_pictures(run)
    run.refresh_from_db()
    assert (run.state, run.total, run.done, run.taken, run.failed) == ("done", 4, 4, 2, 2)
    said = " ".join(text for _, text in run.log)
    assert "That is no picture" in said
    assert "There is no such picture." in said
    smokers = Item.objects.get(sku="SMK-S").product.pictures.order_by("position")
    assert [(one.alt, one.width) for one in smokers] == [("In use", 4), ("Smoker", 4)]
    # Of its calls no bytes are kept, and a product that has pictures keeps its own.
    assert {call.received for call in Call.objects.filter(run=run, status=200)} == {
        f"{len(base64.b64decode(keys[k])):,} bytes" for k in keys
    }
    assert list(gloves().product.pictures.all()) == [ours]
    # What was tried is not tried again until something else is shown there; by rule nothing comes at all.
    smokers.delete()
    read(shop)
    assert picture_intake.lacking(shop) == []
    say(world, "p1", "web", pictures=[{"key": "b", "alt": "Blue"}])
    set_rules(shop, pictures_in="no")
    read(shop)
    assert picture_intake.lacking(shop) == []
    set_rules(shop, pictures_in="empty")
    assert [row.group_id for row in picture_intake.lacking(shop)] == ["p1"]


def test_what_is_said_beside_never_sets_a_listing_aside(world: World, shop: Connection) -> None:
    odd = {"plain": "x", "number": 5, "none": None, "list": ["y"], "long": "z" * 500, "": "nameless"}
    say(
        world,
        "p2",
        "web",
        details=odd,
        labels=["one", 2, None, {"x": 1}],
        text={"x": 1},
        maker=7,
        state="archived",
        tax_percent={"x": 1},
    )
    assert "that cannot be read" not in read(shop)
    told = listing(shop).told
    assert told["attributes"] == {"plain": "x", "number": "5", "long": "z" * 160}
    assert (told["tags"], told["brand"], told["state"]) == (["one", "2"], "7", "hidden")
    assert "description" not in told and "tax" not in told
    say(
        world,
        "p2",
        "web",
        details=["no", "object"],
        labels="no list",
        maker=None,
        pictures=["x", {"alt": "y"}, {"key": 3}],
        text="a\x00b" + "c" * 30_000,
        tax_percent="9" * 90,
        state=3,
    )
    read(shop)
    told = listing(shop).told
    assert (len(told["description"]), told["description"][:3], told["state"]) == (20_000, "abc", "hidden")
    assert told["pictures"] == [{"key": "3"}]
    assert told.keys() == {"description", "pictures", "state", "tax"} and told["tax"] == "9" * 40
    say(world, "p2", "web", pictures="none")
    read(shop)
    assert "pictures" not in listing(shop).told
    assert not Snag.objects.filter(kind="listings", resolved_at=None).exists()


def test_a_choice_stands_on_what_was_seen_and_outlives_other_changes(world: World, shop: Connection) -> None:
    say(world, "p2", "web", maker="Aldermoor")
    read(shop)
    row = listing(shop)
    with pytest.raises(StaleError, match="something else by now"):
        listing_facts.choose(SYSTEM, row.pk, row.version, ["brand"], theirs=True, seen={"brand": "Alder"})
    row = listing_facts.choose(SYSTEM, row.pk, row.version, ["brand"], theirs=False, seen={"brand": "Aldermoor"})
    # Paired with the same item once more, the choice is not asked for again; with another one it is.
    linking.link(SYSTEM, row.pk, gloves().pk, units=1)
    assert "0 otherwise than here" in read(shop)
    other = make_item("OTHER")
    linking.link(SYSTEM, row.pk, other.pk)
    assert "1 otherwise than here" in read(shop)
