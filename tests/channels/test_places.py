"""A shop with several places: each shows what lies there, an order leaves from the place it was placed at."""

from __future__ import annotations

from decimal import Decimal as D
from typing import Any

import pytest
from django.utils import timezone

from tests.channels.conftest import Standins
from tests.channels.test_journey import World, settle
from tests.channels.test_payments import all_level
from tests.world import give, set_rules
from yuvrel.agreement import actions as agreement
from yuvrel.agreement.models import Drift
from yuvrel.channels import actions, inbound, linking, offers
from yuvrel.channels.jobs import relay_now
from yuvrel.channels.listing_page import listing_page
from yuvrel.channels.models import Connection, Listing
from yuvrel.channels.queries import connection_page
from yuvrel.core.errors import BadInputError
from yuvrel.people.models import Location
from yuvrel.people.roles import SYSTEM
from yuvrel.rules.models import SettingValue
from yuvrel.sales.actions import ship
from yuvrel.sales.models import SalesOrder
from yuvrel.stock.models import StockBalance

pytestmark = pytest.mark.django_db
BOTH = '{"depot": "tannery-yard", "lane": "mill-lane"}'


@pytest.fixture
def world(db: None, standins: Standins) -> World:
    return World(standins)


@pytest.fixture
def trade(world: World) -> Connection:
    """A second shop with two places, fed from the yard and the lane; 10 small smokers lie at the one, 4 at the other."""
    row = world.connect("web_shop", "Trade", "shop/trade")
    row.feeds.set(Location.objects.filter(code__in=("tannery-yard", "mill-lane")))
    linking.take_listings(SYSTEM, row.pk, timezone.now(), create=False)
    give(world.small, 4, "8.00", Location.objects.get(code="mill-lane"))
    return Connection.objects.get(pk=row.pk)


def there(world: World, variant: str = "v1") -> tuple[int, dict[str, str]]:
    """What the shop shows: how many in all, and at which place."""
    product = world.standins.store.all("trade", "product")[0]
    found = next(one for one in product["variants"] if one["id"] == variant)
    return found["quantity"], {k: str(D(v).normalize()) for k, v in found["selling"].get("places", {}).items()}


def push(trade: Connection) -> None:
    relay_now()
    offers.push(Connection.objects.get(pk=trade.pk))


def test_its_places_are_known_after_the_test_and_mapped_by_rule(world: World, trade: Connection) -> None:
    assert connection_page(Connection.objects.get(pk=trade.pk))["words"][-2:] == [
        {"sort": "places", "word": "depot", "proposed": "", "title": "Depot"},
        {"sort": "places", "word": "lane", "proposed": "", "title": "Shop in the lane"},
    ]
    for wrong, said in (('{"depot": "nowhere"}', "no place nowhere"), ('{"depot": "wagon", "lane": "wagon"}', "shown twice")):
        with pytest.raises(BadInputError, match=said) as refused:
            set_rules(trade, places_there=wrong)
        assert refused.value.field == "places_there"
    push(trade)
    assert there(world) == (14, {}), "before it is said which place is which, the total alone is told"


def test_each_place_shows_what_lies_there_and_what_is_held_back_is_held_back_last(world: World, trade: Connection) -> None:
    set_rules(trade, places_there=BOTH, buffer="3")
    push(trade)
    assert there(world) == (11, {"depot": "1E+1", "lane": "1"})
    listing = Listing.objects.get(connection=trade, external_id="v1")
    assert (listing.offer_state, listing.terms["places"]) == ("agreed", {"depot": "10", "lane": "1"})
    assert {"Depot: 10", "Shop in the lane: 1"} <= set(listing_page(listing.pk)["told"])
    # Goods that move from one place to the other change no total, and are told all the same.
    trade.feeds.remove(Location.objects.get(code="mill-lane"))
    offers.recompute_connections({trade.pk: "fed from one place"})
    push(trade)
    assert there(world) == (7, {"depot": "7", "lane": "0"})


def test_an_order_leaves_from_the_place_it_was_placed_at(world: World, trade: Connection) -> None:
    set_rules(trade, places_there=BOTH)
    push(trade)
    with world.standins_app().app_context(), world.standins.store.transaction():
        from standins import shop

        assert shop.place("trade", {"v1": 5}, {"name": "Una"}, "", False, at="lane") == "Only 4 of Smoker are left there."
        sold: Any = shop.place("trade", {"v1": 3}, {"name": "Una"}, "", False, at="lane")
        other: Any = shop.place("trade", {"v1": 1}, {"name": "Una"}, "", False)
    inbound.poll(trade)
    settle()
    order = SalesOrder.objects.get(external_number=sold["number"])
    assert (order.location.code, order.state) == ("mill-lane", "ready")
    assert SalesOrder.objects.get(external_number=other["number"]).location.code == "tannery-yard"
    assert there(world) == (10, {"depot": "9", "lane": "1"})
    ship(SYSTEM, order.pk, at=timezone.now())
    settle()
    assert StockBalance.objects.get(item=world.small, location__code="mill-lane").on_hand == 1
    assert there(world) == (10, {"depot": "9", "lane": "1"})
    all_level()


def test_somebody_who_moves_figures_between_its_places_makes_a_drift(world: World, trade: Connection) -> None:
    set_rules(trade, places_there=BOTH)
    push(trade)
    product = world.standins.store.all("trade", "product")[0]
    product["variants"][0]["selling"]["places"] = {"depot": "12", "lane": "2"}
    world.standins.store.put("trade", "product", product["id"], product)
    agreement.check_quantities(Connection.objects.get(pk=trade.pk))
    drift = Drift.objects.get(code="A1", connection=trade, healed_at=None)
    assert (drift.expected, drift.found) == ("places: depot 10 and lane 4", "places: depot 12 and lane 2")


def test_a_place_that_the_shop_gave_up_is_a_refusal_by_name(world: World, trade: Connection) -> None:
    set_rules(trade, places_there=BOTH)
    account = world.standins.store.get("trade", "account", "trade") or {}
    world.standins.store.put("trade", "account", "trade", {**account, "places": account["places"][:1]})
    push(trade)
    listing = Listing.objects.get(connection=trade, external_id="v1")
    assert listing.offer_state == "held"
    actions.test(SYSTEM, trade.pk, timezone.now())
    assert [one["word"] for one in connection_page(Connection.objects.get(pk=trade.pk))["words"] if one["sort"] == "places"] == [
        "depot"
    ]
    set_rules(trade, places_there='{"depot": "tannery-yard"}')
    push(trade)
    assert there(world) == (14, {"depot": "14"})


def test_a_kind_without_places_minds_no_such_rule_and_a_copy_leaves_it_out(world: World, trade: Connection) -> None:
    set_rules(world.till, places_there='{"depot": "tannery-yard"}')
    offers.recompute_connections({world.till.pk: "x"})
    assert not Listing.objects.filter(connection=world.till, terms__has_key="places").exists()
    set_rules(trade, places_there=BOTH, buffer="2")
    facts = {"kind": "web_shop", "name": "Copy", "address": trade.address, "sign_in": {"token": "t"}, "copy_from": trade.pk}
    copy = actions.add(SYSTEM, **facts)
    names = set(SettingValue.objects.filter(level="connection", subject=copy.pk).values_list("name", flat=True))
    assert "buffer" in names
    assert "places_there" not in names, "another account calls its places otherwise"
