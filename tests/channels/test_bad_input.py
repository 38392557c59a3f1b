"""What a far end may send that it should not: each is refused by name or becomes a snag; nothing is lost."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any, ClassVar

import pytest
from django.utils import timezone

from tests.channels.conftest import Standins
from tests.channels.test_journey import World, settle, world  # noqa: F401  (the fixture itself)
from yuvrel.channels import exchange, linking
from yuvrel.channels.access import seal, unseal
from yuvrel.channels.models import InboundMessage, Listing, Run, Snag
from yuvrel.connectors.base import Account, Can
from yuvrel.connectors.http import (
    AccessError,
    AddressError,
    BusyError,
    Caller,
    ConnectorError,
    NonsenseError,
    RefusedByFarEndError,
    UnreachableError,
)
from yuvrel.connectors.messages import RemoteOrder
from yuvrel.connectors.registry import KINDS
from yuvrel.core.errors import NotFoundError, StaleError, YuvrelError
from yuvrel.people.roles import SYSTEM
from yuvrel.sales.models import SalesOrder

pytestmark = pytest.mark.django_db


class FarEnd(BaseHTTPRequestHandler):
    """Answers each path with what the test asked for."""

    answers: ClassVar[dict[str, tuple[int, dict[str, str], bytes]]] = {}
    seen: ClassVar[list[str]] = []

    def do_GET(self) -> None:
        type(self).seen.append(self.path)
        status, headers, body = self.answers.get(self.path, (404, {}, b'{"detail": "nothing here"}'))
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name, value)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *args: Any) -> None:
        """Quiet."""


@pytest.fixture
def far_end() -> Iterator[str]:
    """The address of a server that answers as told."""
    FarEnd.answers, FarEnd.seen = {}, []
    server = ThreadingHTTPServer(("127.0.0.1", 0), FarEnd)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    yield f"http://127.0.0.1:{server.server_port}"
    server.shutdown()
    thread.join()
    server.server_close()


@pytest.mark.parametrize(
    ("status", "error", "tries"),
    [
        (401, AccessError, 1),
        (403, AccessError, 1),
        (422, RefusedByFarEndError, 1),
        (429, BusyError, 2),
        (500, BusyError, 2),
        (503, BusyError, 2),
    ],
)
def test_faults_have_names_and_only_passing_ones_are_tried_again(
    far_end: str, status: int, error: type[ConnectorError], tries: int
) -> None:
    FarEnd.answers["/x"] = (status, {}, b'{"detail": "because"}')
    with pytest.raises(error, match="because") as caught:
        Caller(far_end, "t", allow_private=True, attempts=2).call("GET", "/x")
    assert caught.value.status == status
    assert len(FarEnd.seen) == tries
    assert caught.value.passing == (tries == 2)


def test_a_redirect_is_not_followed(far_end: str) -> None:
    FarEnd.answers["/x"] = (302, {"Location": "http://10.0.0.1/secret"}, b"")
    with pytest.raises(AddressError, match="redirects elsewhere"):
        Caller(far_end, "t", allow_private=True).call("GET", "/x")


def test_an_answer_that_is_not_json_is_nonsense(far_end: str) -> None:
    FarEnd.answers["/x"] = (200, {}, b"<html>")
    with pytest.raises(NonsenseError):
        Caller(far_end, "t", allow_private=True).call("GET", "/x").json()


def test_nobody_there() -> None:
    with pytest.raises(UnreachableError):
        Caller("http://127.0.0.1:9", "t", allow_private=True, attempts=1).call("GET", "/")


def test_every_kind_keeps_the_contract() -> None:
    """What a kind says it can do, it does: the calls behind its capabilities are its own."""
    needed = {
        Can.LISTINGS: ["listings"],
        Can.QUANTITIES: ["read_quantities", "push_quantities"],
        Can.ORDERS: ["orders"],
        Can.FULFILMENTS: ["fulfil"],
        Can.WEBHOOKS: ["register_webhook", "read_event"],
        Can.DOCUMENTS: ["accounts", "post_document", "document_totals", "balances"],
        Can.PURCHASES: ["place_order", "answers"],
    }
    for kind, connector in KINDS.items():
        assert connector.kind == kind
        assert connector.label
        own = connector(Account("http://127.0.0.1:9", "t", allow_private=True))
        for can, names in needed.items():
            for name in names:
                assert (name in vars(connector)) == (can in connector.can), f"{kind}.{name}"
                if can not in connector.can:
                    with pytest.raises(NotImplementedError):
                        getattr(own, name)(*[""] * (getattr(connector, name).__code__.co_argcount - 1))


def _send(world: World, **change: Any) -> RemoteOrder:  # noqa: F811
    """An order as the shop would send it, with something changed."""
    order = world.buy({"v1": 1}) | change
    with world.standins.store.transaction():
        world.standins.store.put("web", "order", order["id"], order)
    return order  # type: ignore[return-value]


@pytest.mark.parametrize(
    ("change", "field"),
    [({"currency": "ZZZ"}, "currency"), ({"currency": "USD"}, "currency"), ({"total": "0.01"}, "total")],
)
def test_orders_that_are_not_sound_are_held_with_a_snag(world: World, change: dict[str, str], field: str) -> None:  # noqa: F811
    _send(world, **change)
    exchange.poll(world.shop)
    snag = Snag.objects.get(resolved_at=None)
    assert (snag.field, snag.order and snag.order.state) == (field, "held")
    assert InboundMessage.objects.get().body["external_id"]


def test_an_unknown_item_waits_until_its_listing_is_linked(world: World) -> None:  # noqa: F811
    world.standins.store.amend("web", "product", "p3", _stocked(world, "p3"))
    world.buy({"v4": 1})
    exchange.poll(world.shop)
    snag = Snag.objects.get(resolved_at=None)
    assert snag.field == "item"
    assert SalesOrder.objects.get().state == "held"
    linking.link(SYSTEM, Listing.objects.get(connection=world.shop, external_id="v4").pk, world.small.pk)
    from yuvrel.channels import snags

    assert "Taken in" in snags.try_again(SYSTEM, snag.pk)
    assert SalesOrder.objects.get().state == "ready"
    assert not Snag.objects.filter(resolved_at=None).exists()


def _stocked(world: World, product: str) -> dict[str, Any]:  # noqa: F811
    found = world.standins.store.get("web", "product", product)
    assert found
    for variant in found["variants"]:
        variant["quantity"] = 5
    return found


def test_markup_in_a_name_stays_text(world: World) -> None:  # noqa: F811
    world.buy({"v1": 1})
    exchange.poll(world.shop)
    customer = SalesOrder.objects.get().customer
    assert customer is not None
    assert customer.name == "Una <b>Thorne</b>"  # kept as it came; every screen shows it as text


def test_a_state_that_is_not_taken_in_is_left_alone(world: World) -> None:  # noqa: F811
    _send(world, status="awaiting_payment")
    exchange.poll(world.shop)
    assert not SalesOrder.objects.exists()
    assert InboundMessage.objects.get().state == "skipped"


def test_the_bench_refuses_what_cannot_be(world: World) -> None:  # noqa: F811
    listing = Listing.objects.get(connection=world.shop, external_id="v4")
    with pytest.raises(StaleError):
        linking.link(SYSTEM, listing.pk, world.small.pk, listing.version + 1)
    with pytest.raises(NotFoundError):
        linking.ignore(SYSTEM, 999_999)
    with pytest.raises(YuvrelError, match="without SKU"):
        linking.make_item(SYSTEM, listing.pk)
    linking.ignore(SYSTEM, listing.pk)
    assert Listing.objects.get(pk=listing.pk).link == "ignored"
    linking.unlink(SYSTEM, listing.pk)
    assert Listing.objects.get(pk=listing.pk).link == "unlinked"


def test_reading_listings_twice_makes_nothing_twice(world: World) -> None:  # noqa: F811
    before = Listing.objects.count()
    run = linking.take_listings(SYSTEM, world.shop.pk, timezone.now(), create=True)
    assert Listing.objects.count() == before
    assert run.state == Run.State.DONE
    assert "0 made into items" in run.log[-1][1]


def test_an_ignored_listing_hears_nothing(world: World, standins: Standins) -> None:  # noqa: F811
    linking.ignore(SYSTEM, Listing.objects.get(connection=world.shop, item=world.small).pk)
    from tests.world import give

    give(world.small, 7)
    settle()
    assert world.shown("SMK-S") == 10


def test_sealed_secrets_open_with_any_key_and_refuse_a_stranger(settings: Any) -> None:
    from cryptography.fernet import Fernet

    old, new, stranger = (Fernet.generate_key().decode() for _ in range(3))
    settings.SEAL_KEYS = [old]
    sealed = seal("hush")
    settings.SEAL_KEYS = [new, old]
    assert unseal(sealed) == "hush"
    settings.SEAL_KEYS = [stranger]
    with pytest.raises(YuvrelError):
        unseal(sealed)
    assert unseal("") == ""
