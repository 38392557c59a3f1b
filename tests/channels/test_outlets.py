"""Several shops under one till account: each its own connection, place, stock figures and receipts."""

from __future__ import annotations

from decimal import Decimal as D
from typing import Any

import httpx
import pytest
from django.utils import timezone

from tests.channels.conftest import Standins
from tests.channels.test_journey import World, settle
from tests.invariants import assert_invariants
from tests.world import give
from yuvrel.agreement import actions as agreement
from yuvrel.agreement.models import Drift
from yuvrel.channels import actions, inbound, linking
from yuvrel.channels.models import Connection
from yuvrel.core.errors import RefusedError
from yuvrel.people.models import Location
from yuvrel.people.roles import SYSTEM
from yuvrel.sales.models import SalesOrder
from yuvrel.stock.models import StockBalance

pytestmark = pytest.mark.django_db


@pytest.fixture
def world(db: None, standins: Standins) -> World:
    return World(standins)


def outlet(world: World, key: str, place: str) -> Connection:
    """A till of the chain at one of our places, with what is there told."""
    row = world.connect("till", f"Till {key}", "till/chain", token="t", outlet=key)
    at = Location.objects.get(code=place)
    actions.change_settings(SYSTEM, row.pk, row.version, {"fulfils_from": at.pk, "feeds": [at.pk]})
    linking.take_listings(SYSTEM, row.pk, timezone.now(), create=False)
    settle()
    return Connection.objects.get(pk=row.pk)


def ring_up(world: World, key: str, count: int) -> None:
    with httpx.Client(base_url=f"{world.standins.base}/till/chain", trust_env=False) as till:
        till.post("/sell", data={"q-2": f"{count}", "outlet": key})


def figures(world: World) -> dict[str, Any]:
    """What the account shows of the large smoker at each outlet."""
    return dict((world.standins.store.get("chain", "article", "2") or {}).get("stocks", {}))


def test_each_outlet_shows_its_own_stock_and_sells_from_its_own_place(world: World) -> None:
    lane = Location.objects.get(code="mill-lane")
    give(world.large, 5, "12.00", lane)
    yard_till, lane_till = outlet(world, "yard", "tannery-yard"), outlet(world, "lane", "mill-lane")
    assert figures(world) == {"yard": "4", "lane": "5"}
    ring_up(world, "lane", 3)
    ring_up(world, "yard", 2)
    httpx.post(f"{world.standins.base}/till/chain/upload", trust_env=False)
    assert [inbound.poll(one) for one in (yard_till, lane_till)] == [1, 1]
    settle()
    sold = {order.location.code: order.lines.get(kind="item").quantity for order in SalesOrder.objects.all()}
    assert sold == {"tannery-yard": D(2), "mill-lane": D(3)}
    assert StockBalance.objects.get(item=world.large, location=lane).on_hand == 2
    assert figures(world) == {"yard": "2", "lane": "2"}
    for one in (yard_till, lane_till):
        agreement.check_connection(one)
    assert not Drift.objects.filter(healed_at=None).exists()
    assert_invariants()


def test_the_test_says_which_outlets_there_are(world: World) -> None:
    for given, said in (("quay", "the outlet quay (it has yard, lane)"), ("", "an outlet: say which (it has yard, lane)")):
        sign_in = {"token": "t", "outlet": given} if given else {"token": "t"}
        row = actions.add(
            SYSTEM, kind="till", name=f"Chain {given}", address=f"{world.standins.base}/till/chain", sign_in=sign_in
        )
        row = actions.test(SYSTEM, row.pk, timezone.now())
        assert (row.state, said in row.test_report["fault"]) == ("draft", True), row.test_report
    row = actions.add(
        SYSTEM, kind="till", name="Mill two", address=f"{world.standins.base}/till/mill", sign_in={"token": "t", "outlet": "x"}
    )
    assert "(it has none)" in actions.test(SYSTEM, row.pk, timezone.now()).test_report["fault"]


def test_an_outlet_stays_what_it_is_once_it_has_a_history(world: World) -> None:
    row = outlet(world, "lane", "mill-lane")
    with pytest.raises(RefusedError, match="outlet stays what it is"):
        actions.change_settings(SYSTEM, row.pk, row.version, {"sign_in": {"outlet": "yard"}})
