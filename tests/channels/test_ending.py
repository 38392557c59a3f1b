"""A connection is taken out of use: what stops is said first, what was stays, and it can be taken up again."""

from __future__ import annotations

import httpx
import pytest
from django.test import Client
from django.utils import timezone

from tests.channels.conftest import Standins
from tests.channels.test_journey import World, settle
from tests.invariants import assert_invariants
from tests.world import give
from yuvrel.books.models import LedgerDocument
from yuvrel.channels import actions, ending, inbound
from yuvrel.channels.credentials import secrets_of
from yuvrel.channels.jobs import exchange, pulse
from yuvrel.channels.models import Connection, InboundMessage, Run, Snag
from yuvrel.core.errors import RefusedError
from yuvrel.people.roles import SYSTEM
from yuvrel.sales.actions import ship
from yuvrel.sales.models import SalesOrder

pytestmark = pytest.mark.django_db


@pytest.fixture
def world(standins: Standins) -> World:
    return World(standins)


def take_up_again(row: Connection) -> Connection:
    """Sign in once more, test, go live."""
    row = Connection.objects.get(pk=row.pk)
    actions.change_settings(SYSTEM, row.pk, row.version, {"sign_in": {"token": "t"}})
    assert actions.test(SYSTEM, row.pk, timezone.now()).state == "tested"
    return actions.go_live(SYSTEM, row.pk, timezone.now())


def test_what_stops_is_said_and_what_was_stays(world: World, client: Client) -> None:
    world.buy({"v1": 1})
    inbound.poll(world.shop)
    settle()
    there = Run.objects.filter(connection=world.shop).count(), InboundMessage.objects.filter(connection=world.shop).count()
    Snag.objects.create(connection=world.shop, kind="push", title="Something of it")
    old_hook = world.shop.hook_key
    assert ending.what_stops(world.shop) == [
        "3 listings there: what is shown now stays as it is. More may be sold than is here.",
        "Orders placed there are not heard of any more.",
        "1 open order of it can still be shipped; the channel is not told.",
        "How we sign in is forgotten, and messages to our old address for it are no longer taken.",
    ]
    row = ending.disconnect(SYSTEM, world.shop.pk)
    assert (row.state, secrets_of(row), row.webhook_secret_sealed) == ("disconnected", {}, "")
    assert client.post(f"/hooks/{old_hook}", "{}", content_type="application/json").status_code == 404
    assert not Snag.objects.filter(connection=row, resolved_at=None).exists()
    assert row.orders.count() == 1 and row.listings.filter(link="linked").count() == 3  # type: ignore[attr-defined]
    assert there == (Run.objects.filter(connection=row).count(), InboundMessage.objects.filter(connection=row).count())
    assert_invariants()


def test_nothing_is_exchanged_until_it_is_taken_up_again_and_then_nothing_is_lost(world: World) -> None:
    shown = world.shown("SMK-S")
    before = world.buy({"v1": 1})
    inbound.poll(world.shop)
    settle()
    row = ending.disconnect(SYSTEM, world.shop.pk)
    for refused in (
        lambda: actions.go_live(SYSTEM, row.pk, timezone.now()),
        lambda: actions.test(SYSTEM, row.pk, timezone.now()),
    ):
        with pytest.raises(RefusedError):
            refused()
    with pytest.raises(RefusedError):
        ending.disconnect(SYSTEM, row.pk)
    with pytest.raises(RefusedError):
        actions.ask_now(SYSTEM, row.pk)
    # Meanwhile one leaves, more comes in here, and somebody orders there.
    ship(SYSTEM, SalesOrder.objects.get().pk, at=timezone.now())
    give(world.small, 5)
    later = world.buy({"v2": 1})
    pulse()
    exchange(row.pk, "orders")
    settle()
    assert SalesOrder.objects.count() == 1
    assert world.shown("SMK-S") == shown - 1, "as the shop counted by itself"
    assert (world.standins.store.get("web", "order", before["id"]) or {})["shipments"] == []
    take_up_again(row)
    inbound.poll(Connection.objects.get(pk=row.pk))
    settle()
    assert set(SalesOrder.objects.values_list("external_id", flat=True)) == {before["id"], later["id"]}
    assert world.shown("SMK-S") == shown - 1 + 5
    (told,) = (world.standins.store.get("web", "order", before["id"]) or {})["shipments"]
    # The number under which it is claimed goes along with it.
    assert told["invoice"] == SalesOrder.objects.get(external_id=before["id"]).shipments.get().invoice.number
    assert f"invoice {told['invoice']}" in httpx.get(f"{world.standins.base}/shop/web/office").text
    assert_invariants()


def test_what_the_ledger_is_owed_waits_for_it(world: World) -> None:
    row = ending.disconnect(SYSTEM, world.ledger.pk)
    assert ending.what_stops(row)[0] == "Postings are kept here and wait; the ledger hears of none of them."
    world.buy({"v1": 1})
    inbound.poll(world.shop)
    ship(SYSTEM, SalesOrder.objects.get().pk, at=timezone.now())
    settle()
    waiting = LedgerDocument.objects.exclude(state="sent").count()
    assert waiting
    take_up_again(row)
    settle()
    assert not LedgerDocument.objects.exclude(state="sent").exists()


def test_one_that_was_never_live_is_deleted_instead(world: World) -> None:
    row = actions.add(SYSTEM, kind="till", name="Another", address=f"{world.standins.base}/till/chain", sign_in={"token": "t"})
    with pytest.raises(RefusedError, match="draft cannot be disconnected"):
        ending.disconnect(SYSTEM, row.pk)
