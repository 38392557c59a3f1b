"""Products and items made and changed by hand, over the API."""

from __future__ import annotations

import json
from datetime import timedelta
from decimal import Decimal as D
from typing import Any

import pytest
from django.test import Client
from django.utils import timezone
from hypothesis import example, given
from hypothesis import strategies as st
from lxml import html as markup

from tests.server.test_forecasts import sold
from tests.world import (
    NOW,
    give,
    incoming,
    make_company,
    make_connection,
    make_item,
    make_listing,
    make_supplier,
    make_user,
    order_line,
)
from yuvrel.buying.actions import Wanted, draft
from yuvrel.catalogue.models import Category, Item, Product
from yuvrel.catalogue.texts import TAGS, formatted
from yuvrel.channels.models import Publication
from yuvrel.core.rules import Level, Rung
from yuvrel.events.models import Event
from yuvrel.people.models import Location
from yuvrel.people.queries import company_day
from yuvrel.people.roles import SYSTEM, Role
from yuvrel.planning.queries import one_line
from yuvrel.rules.actions import change
from yuvrel.rules.models import SettingValue
from yuvrel.sales.actions import take_order
from yuvrel.sales.models import Reservation

pytestmark = pytest.mark.django_db
OPTIONS = [{"name": "Size", "values": ["S", "M", "L"]}, {"name": "Colour", "values": ["Sand", "Dark red", "Ash", "Blue"]}]


class Desk:
    """Somebody at the range."""

    def __init__(self, client: Client) -> None:
        self.client = client

    def send(self, method: str, path: str, body: Any = None, status: int = 200) -> Any:
        answer = getattr(self.client, method)(f"/api/v1/{path}", json.dumps(body), content_type="application/json")
        assert answer.status_code == status, answer.content
        return answer.json() if answer.content else None

    def read(self, path: str) -> Any:
        return self.client.get(f"/api/v1/{path}").json()

    def make(self, **body: Any) -> Any:
        return self.send("post", "products", {"title": "Smoker", "pattern": "SMO-{size}-{colour}", "options": OPTIONS, **body})


@pytest.fixture
def place(db: None) -> Location:
    return make_company()


@pytest.fixture
def desk(place: Location, client: Client) -> Desk:
    client.force_login(make_user(Role.BUYER))
    return Desk(client)


def test_three_sizes_in_four_colours_make_twelve_items(desk: Desk) -> None:
    make_item("SMO-S-Ash")
    tried = desk.send("post", "products/preview", {"options": OPTIONS, "pattern": "SMO-{size}-{colour}"})
    assert [row["state"] for row in tried].count("clash") == 1
    assert Product.objects.count() == 1
    refused = desk.send("post", "products", {"title": "Smoker", "pattern": "SMO-{size}-{colour}", "options": OPTIONS}, 422)
    assert refused["field"] == "pattern"
    made = desk.make(
        pattern="SMK-{size}-{colour}", category="Smokers", price="32.00", tags=["metal", "metal", " "], brand="Varga"
    )
    assert [item["sku"] for item in made["items"]][:4] == ["SMK-S-Sand", "SMK-S-Dark-red", "SMK-S-Ash", "SMK-S-Blue"]
    assert (len(made["items"]), made["tags"], made["category"], made["items"][0]["title"]) == (
        12,
        ["metal"],
        "Smokers",
        "Smoker S Sand",
    )
    assert made["history"][0]["action"] == "make product"


def test_only_missing_combinations_are_added_later(desk: Desk) -> None:
    made = desk.make(pattern="SMK-{size}-{colour}")
    options = [{"name": "Size", "values": ["S", "M", "L", "XL"]}, OPTIONS[1]]
    path = f"products/{made['id']}"
    tried = desk.send("post", f"products/preview?product={made['id']}", {"options": options, "pattern": "NEW-{size}-{colour}"})
    assert [row["state"] for row in tried].count("there") == 12
    assert {row["sku"] for row in tried if row["state"] == "there"} == {item["sku"] for item in made["items"]}
    body = {"version": made["version"], "options": options, "pattern": "NEW-{size}-{colour}", "price": "9"}
    more = desk.send("post", f"{path}/items", body)
    assert [item["sku"] for item in more["items"]][12:] == ["NEW-XL-Sand", "NEW-XL-Dark-red", "NEW-XL-Ash", "NEW-XL-Blue"]
    desk.send("post", f"{path}/items", body, 409)
    again = body | {"version": more["version"], "options": OPTIONS[:1], "pattern": "A-{size}"}
    assert desk.send("post", f"{path}/items", again, 422)["field"] == "options"


def test_a_product_is_changed_with_a_trace_and_its_items_are_called_after_it(desk: Desk) -> None:
    made = desk.make()
    body = {"version": made["version"], "title": "Smoker, tinned", "note": "Ask Varga first"}
    changed = desk.send("patch", f"products/{made['id']}", body)
    assert changed["items"][0]["title"] == "Smoker, tinned S Sand"
    trace = changed["history"][0]
    assert (trace["before"], trace["after"]) == (
        {"title": "Smoker", "note": ""},
        {"title": "Smoker, tinned", "note": "Ask Varga first"},
    )
    desk.send("patch", f"products/{made['id']}", body, 409)
    body = {"version": changed["version"], "title": " "}
    assert desk.send("patch", f"products/{made['id']}", body, 422)["field"] == "title"


def test_items_are_changed_together_or_not_at_all(desk: Desk) -> None:
    first, second, third = desk.make()["items"][:3]
    changes = {
        first["id"]: {"version": 1, "price": "34.50", "weight_grams": 420, "barcodes": ["4006381333931"]},
        second["id"]: {"version": 1, "internal": True, "sku": "SMO-OWN"},
    }
    desk.send("patch", "range/items", {"items": changes})
    kept = Item.objects.get(pk=first["id"])
    assert (f"{kept.price}", kept.weight_grams, kept.version) == ("34.50", 420, 2)
    assert list(kept.barcodes.values_list("gtin", flat=True)) == ["04006381333931"]
    assert [row["sku"] for row in desk.client.get("/api/v1/items?state=internal").json()["rows"]] == ["SMO-OWN"]

    def refused(field: str, item: Any, status: int = 422, **facts: Any) -> None:
        other = {third["id"]: {"version": 1, "price": "1.00"}, item["id"]: facts}
        answer = desk.send("patch", "range/items", {"items": other}, status)
        assert answer.get("field", "") == (f"items.{item['id']}.{field}" if field else ""), answer
        assert Item.objects.get(pk=third["id"]).version == 1

    # GS1 General Specifications 7.9: the check digit of 400638133393 is 1.
    refused("barcode", first, version=2, barcodes=["4006381333930"])
    refused("barcodes", second, version=2, barcodes=["4006381333931"])
    refused("sku", second, version=2, sku=first["sku"].lower())
    refused("sku", second, version=2, sku=" ")
    refused("", first, 409, version=1, price="2.00")
    trace = desk.client.get(f"/api/v1/products/{kept.product_id}").json()["history"]
    assert {"price": "34.50", "weight_grams": "420", "barcodes": "4006381333931"} in [row["after"] for row in trace]


def test_a_bundle_holds_items_and_bundles_but_never_itself(desk: Desk, place: Location) -> None:
    jar, tool = make_item("JAR", on_hand=14), make_item("TOOL", on_hand=4)
    made = {}
    for sku in ("KIT", "BOX"):
        (item,) = desk.make(title=sku, pattern=sku, options=[], kind="bundle")["items"]
        made[sku] = item
    kit = [{"item_id": jar.pk, "quantity": "3"}, {"item_id": tool.pk, "quantity": "1"}]
    desk.send("put", f"items/{made['KIT']['id']}/parts", {"version": 2, "parts": kit}, 409)
    desk.send("put", f"items/{made['KIT']['id']}/parts", {"version": 1, "parts": kit})
    box = [{"item_id": made["KIT"]["id"], "quantity": "2"}, {"item_id": jar.pk, "quantity": "1"}]
    desk.send("put", f"items/{made['BOX']['id']}/parts", {"version": 1, "parts": box})
    round_about = [{"item_id": made["BOX"]["id"], "quantity": "1"}]
    refused = desk.send("put", f"items/{made['KIT']['id']}/parts", {"version": 2, "parts": round_about}, 422)
    assert "cannot hold itself" in refused["detail"]
    for bad in ([], [kit[0], kit[0]], [{"item_id": jar.pk, "quantity": "0"}], [{"item_id": 10**6, "quantity": "1"}]):
        desk.send("put", f"items/{made['KIT']['id']}/parts", {"version": 2, "parts": bad}, 422)
    # Seven jars and two tools go into a box: of 14 and 4 there are two.
    shop = make_connection()
    listing = make_listing(shop, Item.objects.get(sku="BOX"))
    assert desk.client.get(f"/api/v1/workings/offer/{listing.pk}").json()["steps"][-1]["value"] == "2"
    take_order(SYSTEM, incoming(shop, order_line(Item.objects.get(sku="BOX"), 1)), timezone.now())
    assert set(Reservation.objects.values_list("item__sku", "quantity")) == {("JAR", 7), ("TOOL", 2)}
    assert desk.send("post", f"items/{jar.pk}/retire", {"version": 1}, 422)["detail"].count("It is part of") == 2


def test_an_item_is_retired_when_nothing_stands_in_the_way(desk: Desk, place: Location) -> None:
    item = make_item("OLD")
    make_supplier(item)
    make_listing(make_connection(), item)
    give(item, 3, "2.00")
    take_order(SYSTEM, incoming(make_connection(), order_line(item, 1)), timezone.now())
    draft(SYSTEM, [Wanted(item.pk, place.pk, D(5), {})], timezone.now())
    said = [row["said"] for row in desk.client.get(f"/api/v1/items/{item.pk}/obstacles").json()]
    assert sorted(text.split()[0] for text in said) == ["3", "It", "Order", "Purchase"]
    refused = desk.send("post", f"items/{item.pk}/retire", {"version": 1}, 422)
    assert "3 are on hand at Tannery Yard." in refused["detail"]
    assert "used" in desk.send("delete", f"range/items/{item.pk}?version=1", None, 422)["detail"]

    fresh = make_item("FRESH")
    desk.send("post", f"items/{fresh.pk}/retire", {"version": 1})
    assert desk.client.get("/api/v1/items?q=FRESH").json()["rows"] == []
    assert len(desk.client.get("/api/v1/items?q=FRESH&state=retired").json()["rows"]) == 1
    desk.send("post", f"items/{fresh.pk}/bring-back", {"version": 2})
    desk.send("delete", f"range/items/{fresh.pk}?version=3", None, 204)
    assert not Product.objects.filter(pk=fresh.product_id).exists()


def test_a_duplicate_has_the_options_and_nothing_that_was_counted(desk: Desk) -> None:
    made = desk.make(price="12.00", brand="Varga")
    twin = desk.send("post", f"products/{made['id']}/duplicate", {"title": "Smoker XL", "pattern": "BIG-{size}-{colour}"})
    assert (len(twin["items"]), twin["brand"], twin["items"][0]["price"], twin["items"][0]["barcodes"]) == (
        12,
        "Varga",
        "12.00",
        [],
    )
    assert desk.send("post", f"products/{made['id']}/duplicate", {"title": "X", "pattern": "BIG"}, 422)["field"] == "pattern"
    kit = desk.make(title="Kit", pattern="KIT", options=[], kind="bundle")
    part = [{"item_id": twin["items"][0]["id"], "quantity": "2"}]
    desk.send("put", f"items/{kit['items'][0]['id']}/parts", {"version": 1, "parts": part})
    other = desk.send("post", f"products/{kit['id']}/duplicate", {"title": "Kit too", "pattern": "KIT-2"})
    assert [(row["sku"], row["quantity"]) for row in other["items"][0]["components"]] == [("BIG-S-Sand", "2")]


def test_items_added_to_a_service_are_services(desk: Desk) -> None:
    made = desk.make(title="Course", kind="service", pattern="CRS-{day}", options=[{"name": "Day", "values": ["Monday"]}])
    body = {"version": made["version"], "options": [{"name": "Day", "values": ["Monday", "Friday"]}], "pattern": "CRS-{day}"}
    assert [item["kind"] for item in desk.send("post", f"products/{made['id']}/items", body)["items"]] == ["service", "service"]


def test_categories_lie_in_each_other_move_and_merge(desk: Desk) -> None:
    def call(method: str, path: str = "", status: int = 200, **body: Any) -> Any:
        return desk.send(method, f"categories{path}", body, status)

    item = make_item("A")
    things = item.product.category_id
    assert [(row["name"], row["items"]) for row in desk.client.get("/api/v1/categories").json()] == [("Things", 1)]
    top = next(row["id"] for row in call("post", name="Workshop") if row["name"] == "Workshop")
    assert call("post", status=422, name=" ")["field"] == "name"
    assert call("post", status=422, name="workshop")["field"] == "name"
    Event.objects.all().delete()
    moved = call("patch", f"/{things}", parent_id=top)
    assert [(row["name"], row["depth"], row["own"], row["items"]) for row in moved] == [
        ("Workshop", 0, 0, 1),
        ("Things", 1, 1, 1),
    ]
    assert set(Event.objects.values_list("kind", "subject_id")) == {("availability", item.pk), ("price", item.pk)}
    assert call("patch", f"/{top}", status=422, parent_id=things)["field"] == "parent_id"
    assert call("patch", f"/{top}", status=422, parent_id=99999)["field"] == "parent_id"
    assert "Something is in" in call("delete", f"/{top}", status=422)["detail"]
    inner = next(row["id"] for row in call("post", name="Small things", parent_id=things) if row["name"] == "Small things")
    assert call("post", f"/{things}/merge", status=422, into_id=inner)["field"] == "into_id"
    Event.objects.all().delete()
    call("patch", f"/{things}", name="Small and large")
    assert list(Event.objects.values_list("kind", "subject_id")) == [("text", item.pk)], "a template may name it"
    merged = call("post", f"/{things}/merge", into_id=top)
    assert Event.objects.filter(kind="text").count() == 2
    assert [(row["name"], row["depth"], row["own"]) for row in merged] == [("Workshop", 0, 1), ("Small things", 1, 0)]
    assert [row["name"] for row in call("delete", f"/{inner}")] == ["Workshop"]
    assert Item.objects.get(pk=item.pk).product.category_id == top


def test_no_way_leads_to_a_tree_deeper_than_it_may_be(desk: Desk) -> None:
    """Twelve lie in each other at most, whether one more is put below or a whole branch is moved."""
    parent, deep = None, []
    for n in range(12):
        parent = Category.objects.create(name=f"Level {n + 1}", parent=parent)
        deep.append(parent.pk)
    body = {"name": "One more", "parent_id": deep[-1]}
    assert "at most 12 deep" in desk.send("post", "categories", body, 422)["detail"]
    upper = Category.objects.create(name="Upper")
    Category.objects.create(name="Lower", parent=upper)
    put = f"categories/{upper.pk}"
    assert "at most 12 deep" in desk.send("patch", put, {"parent_id": deep[-2]}, 422)["detail"]
    assert {row["name"]: row["depth"] for row in desk.send("patch", put, {"parent_id": deep[-3]}, 200)}["Lower"] == 11


def test_what_was_set_for_a_category_goes_with_it(desk: Desk) -> None:
    kept, gone = Category.objects.create(name="Kept"), Category.objects.create(name="Gone")
    for row in (kept, gone):
        change(SYSTEM, Rung(Level.CATEGORY, row.name, row.pk), {"margin_floor": "20"}, NOW)
    desk.send("post", f"categories/{gone.pk}/merge", {"into_id": kept.pk}, 200)
    assert list(SettingValue.objects.order_by("pk").values_list("level", "subject")) == [(Level.CATEGORY.value, kept.pk)]


def test_a_product_in_another_category_has_its_offers_worked_out_anew(desk: Desk) -> None:
    item = make_item("A")
    Event.objects.all().delete()
    put = desk.client.patch(
        f"/api/v1/products/{item.product_id}", {"version": 1, "category": "Other"}, content_type="application/json"
    )
    assert put.status_code == 200
    kinds = ("availability", "price", "text")
    assert set(Event.objects.values_list("kind", "subject_id")) == {(kind, item.pk) for kind in kinds}


def test_the_sheet_finds_items_by_how_they_are_listed(client: Any, company: Any) -> None:
    client.force_login(make_user(Role.VIEWER))
    items = {sku: make_item(sku) for sku in ("A", "B", "C", "D")}
    web, trade = make_connection("web_shop", "Web"), make_connection("web_shop", "Trade")
    make_listing(web, items["A"], offer_state="held")
    make_listing(web, items["B"], terms={"state": "hidden"})
    make_listing(trade, items["B"], offer_state="drifting", offered=1)
    Publication.objects.create(connection=web, item=items["D"], state="refused", by="x")

    def found(**asked: Any) -> list[str]:
        return [row["sku"] for row in client.get("/api/v1/items", asked).json()["rows"]]

    assert found(listed="yes") == ["A", "B"]
    assert found(listed="no") == ["C", "D"]
    assert found(listed="yes", connection=trade.pk) == ["B"]
    assert found(listed="no", connection=trade.pk) == ["A", "C", "D"]
    assert (found(listed="held"), found(listed="hidden"), found(listed="drifting")) == (["A"], ["B"], ["B"])
    assert found(listed="hidden", connection=trade.pk) == []
    assert (found(listed="refused"), found(listed="refused", connection=trade.pk)) == (["D"], [])
    assert client.get("/api/v1/items", {"listed": "perhaps"}).status_code == 422


PIECES = st.sampled_from(
    ["<p>", "</p>", "<b>", "</b>", "<script>", "</script>", "<img src=x onerror=alert(1)>", "<a href='javascript:alert(1)'>", "</a>",
     "<a href='https://larkmead.example' onclick=x>", "<svg/onload=x>", "<style>", "</style>", "<h1>", "</h1>", "<li>", "text", "5 < 6",
     "&lt;b&gt;", "\n\n", "<!--", "-->", "<iframe src=//x>", "\"", "'", "<p style=color:red>"]
)  # fmt: skip


@given(st.lists(PIECES, max_size=12).map("".join) | st.text(st.characters(exclude_categories=["Cc", "Cs"]), max_size=60))
@example("<h1><a href='javascript:alert(1)'><h1>text<a href='javascript:alert(1)'>")
def test_nothing_stands_in_a_description_but_what_may(typed: str) -> None:
    kept = formatted(typed)
    for element in markup.fragments_fromstring(f"<div>{kept}</div>")[0].iter():
        if element.tag == "div":
            continue
        assert element.tag in TAGS
        assert set(element.attrib) <= ({"href"} if element.tag == "a" else set())
        assert element.get("href", "https:").split(":")[0] in ("http", "https", "mailto") or ":" not in element.get("href", "")
    assert formatted(kept) == kept, "kept again it stays as it is"


@pytest.mark.parametrize(
    ("typed", "kept"),
    [
        ("Two lines\nof it.\n\nAnd 5 < 6 & more.", "<p>Two lines<br>of it.</p><p>And 5 &lt; 6 &amp; more.</p>"),
        ("<b>Bold</b> and <i>slanted</i>", "<strong>Bold</strong> and <em>slanted</em>"),
        ("<h1>Burns</h1><p style='x'>a</p><script>alert(1)</script>", "<h3>Burns</h3><p>a</p>"),
        ("<p>a&nbsp;b</p>", "<p>a b</p>"),
        ("<p> </p>", ""),
        ("", ""),
    ],
)
def test_a_description_as_it_is_kept(typed: str, kept: str) -> None:
    assert formatted(typed) == kept


def test_a_product_says_where_it_comes_from_and_how_long_it_keeps(desk: Desk) -> None:
    made = desk.make(description="Cool smoke.\n\nLong burn.", country="ie", shelf_life_days=180, expiry_tracked=True)
    told = desk.read(f"products/{made['id']}")
    assert (told["description"], told["country"], told["shelf_life_days"]) == ("<p>Cool smoke.</p><p>Long burn.</p>", "IE", 180)
    change = {"version": told["version"], "description": "<p onclick=x>Warm</p><script>x</script>", "country": ""}
    desk.send("patch", f"products/{made['id']}", change)
    told = desk.read(f"products/{made['id']}")
    assert (told["description"], told["country"], told["shelf_life_days"]) == ("<p>Warm</p>", "", 180)
    assert told["history"][0]["before"]["country"] == "IE"
    item = desk.read(f"items/{told['items'][0]['id']}")
    assert (item["description"], item["shelf_life_days"]) == ("<p>Warm</p>", 180)
    refused = desk.send("patch", f"products/{made['id']}", {"version": told["version"], "country": "XX"}, 422)
    assert (refused["field"], "ISO 3166" in refused["detail"]) == ("country", True)
    assert Product.objects.get(pk=made["id"]).country == ""


def test_what_keeps_for_some_days_is_not_bought_for_longer(desk: Desk, place: Location) -> None:
    item = make_item("PAT-1", on_hand=0)
    make_supplier(item, price="2.00", lead_days=5)
    sold(item, place, 20, each=14, left=1)
    Item.objects.filter(pk=item.pk).update(expiry_tracked=True)
    change(SYSTEM, Rung(Level.ITEM, item.title, item.pk), {"cover_days": 60}, timezone.now())

    def suggested() -> tuple[D, str]:
        line = one_line(item.pk, place.pk, company_day(timezone.now()))
        return line.suggestion.quantity, " ".join(step.note for step in line.suggestion.working.steps)

    whole, _ = suggested()
    assert whole > 100
    desk.send("patch", f"products/{item.product_id}", {"version": item.product.version, "shelf_life_days": 20})
    assert Event.objects.filter(kind=Event.Kind.AVAILABILITY, subject_id=item.pk, cause__contains="keeps").exists()
    short, said = suggested()
    assert 0 < short < 60
    assert "20 days after arrival" in said
    (order,) = draft(SYSTEM, [Wanted(item.pk, place.pk, D(10))], timezone.now())
    (line,) = desk.read(f"purchase-orders/{order.pk}")["lines"]
    assert line["expires_about"] == (company_day(timezone.now()) + timedelta(days=20)).isoformat()
