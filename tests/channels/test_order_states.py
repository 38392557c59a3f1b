"""How an order stands here is told to its channel as a rule says; what was held or cancelled here stays so."""

from __future__ import annotations

from decimal import Decimal as D
from typing import Any

import pytest
from django.utils import timezone

from tests.channels.conftest import Standins
from tests.channels.test_journey import World, settle
from tests.invariants import assert_invariants, assert_told_once
from tests.world import give, set_rules
from yuvrel.books.models import JournalLine
from yuvrel.channels import inbound
from yuvrel.channels.models import OutboundMessage, Snag
from yuvrel.channels.order_states import STATE
from yuvrel.channels.queries import connection_page
from yuvrel.core.errors import BadInputError, ForbiddenError, RefusedError
from yuvrel.people.roles import SYSTEM, Actor, Role
from yuvrel.sales.actions import cancel, hold, release, ship
from yuvrel.sales.models import Reservation, SalesOrder
from yuvrel.sales.order_page import order_page
from yuvrel.stock.models import StockBalance

pytestmark = pytest.mark.django_db
TOLD = {"ready": "in_hand", "received": "waiting_for_goods", "held": "on_hold", "shipped": "on_its_way", "cancelled": "cancelled"}


@pytest.fixture
def world(standins: Standins) -> World:
    return World(standins)


def bought(world: World, units: int = 1, pay: str = "card") -> SalesOrder:
    sold = world.buy({"v1": units}, pay=pay)
    inbound.poll(world.shop)
    settle()
    return SalesOrder.objects.get(external_id=sold["id"])


def there(world: World, order: SalesOrder) -> dict[str, Any]:
    return world.standins.store.get("web", "order", order.external_id) or {}


def follow(world: World, order: SalesOrder) -> None:
    """Tell, and hear the echo of what was told."""
    settle()
    inbound.poll(world.shop)
    settle()
    order.refresh_from_db()


def change_there(world: World, order: SalesOrder, **more: Any) -> None:
    """Another version of it at the shop."""
    found = there(world, order)
    stamp = timezone.now().isoformat()
    changed = {**found, **more, "version": found["version"] + 1, "updated_at": stamp}
    world.standins.store.put("web", "order", order.external_id, changed)


def prepaid() -> D:
    return sum(JournalLine.objects.filter(account__role="prepayments").values_list("amount", flat=True), D(0))


def test_each_state_is_told_once_with_its_word(world: World) -> None:
    set_rules(world.shop, states_told=TOLD)
    order = bought(world)
    assert there(world, order)["progress"] == "in_hand"
    hold(SYSTEM, order.pk, "she moves house")
    follow(world, order)
    assert (there(world, order)["progress"], there(world, order)["note"]) == ("on_hold", "she moves house")
    assert order.state == "held", "the shop's echo of it does not end the hold"
    release(SYSTEM, order.pk, timezone.now())
    follow(world, order)
    assert there(world, order)["progress"] == "in_hand"
    ship(SYSTEM, order.pk, at=timezone.now())
    follow(world, order)
    assert there(world, order)["progress"] == "on_its_way"
    assert order.state == "shipped"
    version = there(world, order)["version"]
    settle()
    assert there(world, order)["version"] == version, "nothing is told over and over"
    said = [one["what"] for one in order_page(order.pk)["history"]]
    assert said.count("Web was told how it stands") == 1
    assert not any("changed at the channel" in what for what in said), "the echo of what was told changes nothing"
    assert_told_once()
    assert_invariants()


def test_what_waits_for_goods_says_so_and_says_when_they_are_there(world: World) -> None:
    set_rules(world.shop, states_told=TOLD, selling_past_zero="backorder", past_zero_limit=9)
    settle()
    order = bought(world, units=12)
    assert (order.state, there(world, order)["progress"]) == ("received", "waiting_for_goods")
    give(world.small, 9)
    follow(world, order)
    assert (order.state, there(world, order)["progress"]) == ("ready", "in_hand")


def test_a_rule_that_is_set_later_tells_of_what_is_open(world: World) -> None:
    order = bought(world)
    assert not OutboundMessage.objects.filter(kind=STATE).exists()
    set_rules(world.shop, states_told={"ready": "accepted"})
    settle()
    assert there(world, order)["progress"] == "accepted"
    # A state without a word is not told.
    hold(SYSTEM, order.pk, "why")
    settle()
    assert there(world, order)["progress"] == "accepted"


def test_an_order_cancelled_here_is_cancelled_there_and_its_money_taken_back(world: World) -> None:
    set_rules(world.shop, states_told=TOLD)
    before = StockBalance.objects.get(item=world.small).committed
    order = bought(world, units=2)
    assert prepaid() == -order.total
    told = ["Reserved units (2) are for sale again.", "Web is told, and pays back what was paid there."]
    assert order_page(order.pk)["if_cancelled"] == told
    cancel(SYSTEM, order.pk, "ordered twice", timezone.now())
    follow(world, order)
    assert (there(world, order)["status"], there(world, order)["note"]) == ("cancelled", "ordered twice")
    assert (order.state, order.cancelled_because) == ("cancelled", "ordered twice")
    assert StockBalance.objects.get(item=world.small).committed == before
    assert (prepaid(), Reservation.objects.filter(line__order=order, state="open").count()) == (0, 0)
    assert not Snag.objects.filter(resolved_at=None).exists()
    assert world.shown("SMK-S") == 10
    assert_invariants()


def test_a_cancelled_order_that_the_channel_changes_stays_cancelled_and_is_pointed_out(world: World) -> None:
    order = bought(world)
    set_rules(world.shop, cancelled_goods="wait")
    waits, untold = order_page(order.pk)["if_cancelled"]
    assert waits == "Reserved units (1) stay reserved until somebody has put them back."
    assert untold.startswith("Web is not told: no rule says with which word. Cancel it there too, and pay")
    cancel(SYSTEM, order.pk, "ordered twice", timezone.now())
    settle()
    change_there(world, order)
    follow(world, order)
    assert order.state == "cancelled"
    (snag,) = Snag.objects.filter(resolved_at=None)
    assert snag.detail == "It was cancelled here, and the channel has changed it since. Cancel it there too."
    change_there(world, order, status="cancelled")
    follow(world, order)
    assert (order.state, Snag.objects.filter(resolved_at=None).count()) == ("cancelled", 0)
    assert_invariants()


def test_of_an_order_that_has_left_in_part_the_rest_is_cancelled(world: World) -> None:
    set_rules(world.shop, states_told=TOLD)
    order = bought(world, units=3)
    line = order.lines.get(kind="item")
    ship(SYSTEM, order.pk, at=timezone.now(), quantities={line.pk: D(1)})
    settle()
    cancel(SYSTEM, order.pk, "the rest is not wanted", timezone.now())
    settle()
    order.refresh_from_db()
    line.refresh_from_db()
    assert (order.state, line.quantity, line.shipped) == ("cancelled", 1, 1)
    # The shop does not take it, as a part has left: somebody is told.
    (snag,) = Snag.objects.filter(resolved_at=None)
    assert snag.title == "The channel did not take how an order stands"
    assert "A part of this order has left." in snag.detail
    with pytest.raises(RefusedError, match="is cancelled cannot be cancelled"):
        cancel(SYSTEM, order.pk, "again", timezone.now())
    assert_invariants()


def test_an_edit_at_the_channel_does_not_end_what_somebody_held(world: World) -> None:
    order = bought(world)
    hold(SYSTEM, order.pk, "she moves house")
    change_there(world, order, ship_to={"street": "9 Kiln Quay", "city": "Larkmead", "country": "IE"})
    follow(world, order)
    assert (order.state, order.held_because, order.ship_to["street"]) == ("held", "she moves house", "9 Kiln Quay")
    release(SYSTEM, order.pk, timezone.now())
    change_there(world, order)
    follow(world, order)
    assert order.state == "ready"


def test_a_snag_of_a_held_order_ends_when_it_is_released_or_cancelled(world: World) -> None:
    set_rules(world.shop, states_told=TOLD)
    orders = []
    for _ in range(2):
        sold = world.buy({"v1": 1})
        found = world.standins.store.get("web", "order", sold["id"]) or {}
        world.standins.store.put("web", "order", sold["id"], found | {"total": "1.00"})
        inbound.poll(world.shop)
        orders.append(SalesOrder.objects.get(external_id=sold["id"]))
    for order in orders:
        follow(world, order)
        assert there(world, order)["progress"] == "on_hold"
    assert Snag.objects.filter(resolved_at=None, kind="order").count() == 2, "one for each, whatever versions came since"
    release(SYSTEM, orders[0].pk, timezone.now())
    settle()
    assert list(Snag.objects.filter(resolved_at=None, kind="order").values_list("order", flat=True)) == [orders[1].pk]
    cancel(SYSTEM, orders[1].pk, "a mistake", timezone.now())
    settle()
    assert not Snag.objects.filter(resolved_at=None).exists()
    assert_invariants()


def test_what_cannot_be_cancelled_or_told_is_refused(world: World) -> None:
    order = bought(world)
    with pytest.raises(BadInputError, match="Enter the reason"):
        cancel(SYSTEM, order.pk, "  ", timezone.now())
    with pytest.raises(ForbiddenError):
        cancel(Actor("v", Role.VIEWER), order.pk, "x", timezone.now())
    ship(SYSTEM, order.pk, at=timezone.now())
    with pytest.raises(RefusedError, match="is shipped cannot be cancelled"):
        cancel(SYSTEM, order.pk, "x", timezone.now())
    for words, said in (({"ready": "done"}, "knows no state done"), ({"lost": "in_hand"}, "An order stands here as")):
        with pytest.raises(BadInputError, match=said):
            set_rules(world.shop, states_told=words)
    page = connection_page(world.shop)
    assert "in_hand" in page["told_states"]
    assert [one["word"] for one in page["words"] if one["sort"] == "our_states"][:3] == ["received", "held", "ready"]
    assert connection_page(world.ledger)["told_states"] == []
