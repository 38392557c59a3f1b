"""What a shop tells of its goods by itself: products and stock that were changed there, in whatever order it is heard."""

from __future__ import annotations

import json
from typing import Any

import httpx
import pytest
from django.test import Client
from django.utils import timezone

from standins import hooks
from tests.channels.conftest import Standins
from tests.channels.test_contract import receive
from tests.channels.test_journey import World
from tests.world import set_rules
from yuvrel.catalogue.models import Item
from yuvrel.channels import linking
from yuvrel.channels.credentials import connector_for
from yuvrel.channels.models import Connection, Listing, Snag
from yuvrel.people.roles import SYSTEM

pytestmark = pytest.mark.django_db


@pytest.fixture
def world(db: None, standins: Standins) -> World:
    hooks._waiting.clear()
    return World(standins)


def office(world: World, what: str, variant: str, **form: str) -> None:
    """Somebody at the shop changes something."""
    answer = httpx.post(f"{world.standins.base}/shop/web/office/{what}", data={"id": variant, **form})
    assert answer.status_code < 400, answer.text


def waiting() -> list[hooks.Call]:
    """What is on its way to us."""
    found = sorted(hooks._waiting)
    hooks._waiting.clear()
    return found


def hear(*calls: hooks.Call) -> None:
    """Messages come in."""
    client = Client()
    for call in calls:
        assert hooks.send(call, lambda url, body, headers: receive(client, url, body, headers))


def listing(world: World, sku: str = "SMK-S") -> Listing:
    return Listing.objects.get(connection=world.shop, sku=sku)


def test_what_is_changed_there_is_here_at_once(world: World) -> None:
    office(world, "quantity", "v1", quantity="77")
    office(world, "price", "v1", price="31.00")
    office(world, "words", "v1", text="<p>Copper.</p>", maker="Varga")
    hear(*waiting())
    row = listing(world)
    assert (row.shown, str(row.price), row.told["brand"]) == (77, "31.00", "Varga")
    # Nothing of ours was changed: what is said otherwise waits for somebody, or for a rule.
    item = Item.objects.get(sku="SMK-S")
    assert row.says_otherwise and item.product.brand == ""
    set_rules(world.shop, content_in="fill")
    office(world, "words", "v1", text="<p>Copper.</p>", maker="Varga of Larkmead")
    hear(*waiting())
    item.product.refresh_from_db()
    assert item.product.brand == "Varga of Larkmead"


def test_a_message_that_cannot_be_taken_in_whole_comes_again(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    office(world, "words", "v1", text="", maker="Varga")
    (call,) = waiting()
    with monkeypatch.context() as broken, pytest.raises(AssertionError):
        broken.setattr("yuvrel.channels.listing_facts.compare", lambda *_: 1 / 0)
        hear(call)
    assert "brand" not in listing(world).told
    hear(call)
    assert listing(world).says_otherwise


def test_an_older_word_never_comes_over_a_later_one(world: World) -> None:
    for quantity in ("10", "20", "30"):
        office(world, "quantity", "v1", quantity=quantity)
    first, second, third = waiting()
    hear(third, first, second, third)
    assert listing(world).shown == 30
    # A reading that began before it was told does not take it back; the next one counts in any case.
    page = world.standins.store.get("web", "product", "p1") or {}
    begun = timezone.now()
    office(world, "quantity", "v1", quantity="40")
    hear(*waiting())
    old = connector_for(world.shop).read_listing({"product": page, "variant": page["variants"][0]})
    linking._keep(Connection.objects.get(pk=world.shop.pk), [old], begun)
    assert listing(world).shown == 40
    linking._keep(Connection.objects.get(pk=world.shop.pk), [old], timezone.now())
    assert listing(world).shown == 30


def test_a_new_product_is_paired_and_one_that_cannot_be_read_is_said(world: World) -> None:
    Listing.objects.filter(connection=world.shop, sku="SMK-L").delete()
    office(world, "quantity", "v2", quantity="5")
    hear(*waiting())
    assert listing(world, "SMK-L").link == "unlinked"
    linking.pair_new(world.shop)
    assert listing(world, "SMK-L").link == "linked"
    office(world, "quantity", "v1", quantity="8")
    (call,) = waiting()
    body: dict[str, Any] = json.loads(call.body)
    body["data"]["variants"] += [{"id": "odd", "sku": {"x": 1}}]
    call.body = json.dumps(body)
    hear(call)
    assert listing(world).shown == 8
    assert "1 listings cannot be read" in Snag.objects.get(connection=world.shop, kind="listings").title
    # Of an account whose listings were left out nothing comes in by itself.
    Listing.objects.filter(connection=world.shop).delete()
    office(world, "quantity", "v1", quantity="9")
    hear(*waiting())
    assert not Listing.objects.filter(connection=world.shop).exists()
    linking.take_listings(SYSTEM, world.shop.pk, timezone.now(), create=False)
    assert listing(world).shown == 9
