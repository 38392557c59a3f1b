"""What an account may send that it should not: each is refused by name or becomes a snag; nothing is lost."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from decimal import Decimal as D
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any, ClassVar

import pytest
from django.utils import timezone

from tests.channels.conftest import Standins
from tests.channels.test_journey import World, settle, world  # noqa: F401  (the fixture itself)
from tests.invariants import assert_invariants
from tests.world import give, set_rules
from yuvrel.catalogue.models import Item
from yuvrel.channels import inbound, linking, snags
from yuvrel.channels.credentials import seal, unseal
from yuvrel.channels.models import Connection, InboundMessage, Listing, Run, Snag
from yuvrel.channels.quarantine import read_row
from yuvrel.connectors.base import Account, capable, pages
from yuvrel.connectors.capabilities import PROTOCOLS
from yuvrel.connectors.http import (
    AccessError,
    AddressError,
    BusyError,
    Caller,
    ConnectorError,
    NonsenseError,
    RefusedThereError,
    UnreachableError,
)
from yuvrel.connectors.messages import Page, Raw, RemoteOrder
from yuvrel.connectors.registry import KINDS
from yuvrel.connectors.sign_in import TOKEN as BY_TOKEN
from yuvrel.core.errors import NotFoundError, StaleError, YuvrelError
from yuvrel.people.roles import SYSTEM
from yuvrel.sales.actions import release
from yuvrel.sales.models import Reservation, SalesOrder

TOKEN = BY_TOKEN.signer("", {"token": "t"})

pytestmark = pytest.mark.django_db


class Outside(BaseHTTPRequestHandler):
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
def outside() -> Iterator[str]:
    """The address of a server that answers as told."""
    Outside.answers, Outside.seen = {}, []
    server = ThreadingHTTPServer(("127.0.0.1", 0), Outside)
    thread = threading.Thread(target=server.serve_forever, args=(0.01,), daemon=True)
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
        (422, RefusedThereError, 1),
        (429, BusyError, 2),
        (500, BusyError, 2),
        (503, BusyError, 2),
    ],
)
def test_faults_have_names_and_only_passing_ones_are_tried_again(
    outside: str, status: int, error: type[ConnectorError], tries: int
) -> None:
    Outside.answers["/x"] = (status, {}, b'{"detail": "because"}')
    with pytest.raises(error, match="because") as caught:
        Caller(outside, TOKEN, allow_private=True, attempts=2).call("GET", "/x")
    assert caught.value.status == status
    assert len(Outside.seen) == tries
    assert caught.value.passing == (tries == 2)


def test_a_redirect_is_not_followed(outside: str) -> None:
    Outside.answers["/x"] = (302, {"Location": "http://10.0.0.1/secret"}, b"")
    with pytest.raises(AddressError, match="address redirects"):
        Caller(outside, TOKEN, allow_private=True).call("GET", "/x")


def test_an_answer_that_is_not_json_is_nonsense(outside: str) -> None:
    Outside.answers["/x"] = (200, {}, b"<html>")
    with pytest.raises(NonsenseError):
        Caller(outside, TOKEN, allow_private=True).call("GET", "/x").json()


def test_nobody_there() -> None:
    with pytest.raises(UnreachableError):
        Caller("http://127.0.0.1:9", TOKEN, allow_private=True, attempts=1).call("GET", "/")


def test_every_kind_says_what_it_can_by_what_it_inherits() -> None:
    """Each call of a protocol is a kind's own or the protocol's; a kind without it refuses to be one that can."""
    for kind, connector in KINDS.items():
        assert connector.kind == kind
        assert connector.label
        assert connector.can
        values = {entry.name: "t" for entry in connector.sign_in.entries}
        own = connector(Account("http://127.0.0.1:9", values, allow_private=True))
        for can, protocol in PROTOCOLS.items():
            if can in connector.can:
                assert capable(own, protocol) is own
            else:
                with pytest.raises(NotImplementedError, match=connector.label.lower()):
                    capable(own, protocol)


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
    inbound.poll(world.shop)
    snag = Snag.objects.get(resolved_at=None)
    assert (snag.field, snag.order and snag.order.state) == (field, "held")
    assert InboundMessage.objects.get().body["external_id"]


def test_an_unknown_item_waits_until_its_listing_is_linked(world: World) -> None:  # noqa: F811
    world.standins.store.amend("web", "product", "p3", _stocked(world, "p3"))
    world.buy({"v4": 1})
    inbound.poll(world.shop)
    snag = Snag.objects.get(resolved_at=None)
    assert snag.field == "item"
    assert SalesOrder.objects.get().state == "held"
    linking.link(SYSTEM, Listing.objects.get(connection=world.shop, external_id="v4").pk, world.small.pk)
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
    inbound.poll(world.shop)
    customer = SalesOrder.objects.get().customer
    assert customer is not None
    assert customer.name == "Una <b>Thorne</b>"  # kept as it came; every screen shows it as text


def test_a_state_that_is_not_taken_in_is_left_alone(world: World) -> None:  # noqa: F811
    _send(world, status="awaiting_payment")
    inbound.poll(world.shop)
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


def _line(**change: Any) -> dict[str, Any]:
    line = {"id": "l1", "variant_id": "v1", "sku": "SMK-S", "title": "Smoker small", "quantity": 1, "amount": "24.60"}
    return {**line, "tax_percent": "23", **change}


def _arrange(world: World, lines: list[dict[str, Any]], **change: Any) -> dict[str, Any]:  # noqa: F811
    """An order at the shop made of these lines, its total their sum."""
    total = sum((D(str(line["amount"])) for line in lines), D(0))
    facts = {"lines": lines, "discounts": [], "surcharges": [], "shipping_lines": [], "total": str(total)}
    return _send(world, **(facts | change))  # type: ignore[return-value]


@pytest.mark.parametrize(
    ("line", "field", "said"),
    [
        ({"quantity": 0}, "quantity", "greater than zero"),
        ({"quantity": -2}, "quantity", "greater than zero"),
        ({"quantity": "1.5"}, "quantity", "decimals"),
        ({"variant_id": "v99", "sku": "WHO-KNOWS"}, "item", "No item is linked to WHO-KNOWS"),
    ],
)
def test_a_line_that_cannot_be_holds_its_order_and_names_the_field(
    world: World,  # noqa: F811
    line: dict[str, Any],
    field: str,
    said: str,
) -> None:
    _arrange(world, [_line(**line)])
    world.buy({"v2": 1})
    assert inbound.poll(world.shop) == 2
    snag = Snag.objects.get(resolved_at=None)
    assert (snag.field, said in snag.detail, snag.order and snag.order.state) == (field, True, "held"), snag.detail
    assert SalesOrder.objects.exclude(state="held").get().state == "ready"


@pytest.mark.parametrize(
    ("change", "field"),
    [
        ({"lines": "none"}, "lines"),
        ({"version": None}, "version"),
        ({"total": "a lot"}, "total"),
        ({"total": "NaN"}, "total"),
        ({"total": "1e40"}, "total"),
        ({"created_at": "yesterday"}, "placed_at"),
        ({"created_at": "2027-03-14T09:30:00"}, "placed_at"),
        ({"currency": "POUNDS"}, "currency"),
        ({"lines": [_line(amount="free")]}, "amount"),
        ({"lines": [_line(quantity="many")]}, "quantity"),
        ({"lines": [{"id": "l1"}]}, "variant_id"),
    ],
)
def test_an_order_that_cannot_be_read_is_kept_and_the_others_go_on(
    world: World,  # noqa: F811
    change: dict[str, Any],
    field: str,
) -> None:
    bad = _send(world, **change)
    sound = world.buy({"v2": 1})
    assert inbound.poll(world.shop) == 1 + 1
    assert SalesOrder.objects.get().external_id == sound["id"]
    snag = Snag.objects.get(resolved_at=None)
    assert snag.field == field
    assert "try again" in snag.detail
    kept = InboundMessage.objects.get(kind="unreadable")
    assert kept.body["id"] == bad["id"]  # type: ignore[index]
    assert inbound.poll(world.shop) == 0, "it is not taken in again and again"
    with pytest.raises(YuvrelError, match="still cannot be read"):
        snags.try_again(SYSTEM, snag.pk)
    with world.standins.store.transaction():
        mended = {**world.standins.store.get("web", "order", bad["id"]), **_sound(bad)}  # type: ignore[index,dict-item]
        world.standins.store.put("web", "order", bad["id"], mended)  # type: ignore[index]
    assert inbound.poll(world.shop) == 1
    assert SalesOrder.objects.count() == 2
    assert not Snag.objects.filter(resolved_at=None).exists()


def _sound(order: Any) -> dict[str, Any]:
    now = timezone.now().isoformat()
    facts = {"lines": [_line()], "discounts": [], "surcharges": [], "shipping_lines": [], "total": "24.60", "version": 9}
    return {**facts, "currency": "EUR", "created_at": now, "updated_at": now}


def test_an_order_of_500_lines_is_taken_in_whole(world: World) -> None:  # noqa: F811
    _arrange(world, [_line(id=f"l{n}", variant_id="v2" if n % 2 else "v1") for n in range(500)])
    assert inbound.poll(world.shop) == 1
    order = SalesOrder.objects.get()
    assert (order.lines.count(), order.state, str(order.total)) == (500, "received", "12300.00")
    assert_invariants()


@pytest.mark.parametrize(
    ("change", "field"),
    [
        ({"customer": {"name": "U" * 1_000_000}}, "customer.name"),
        ({"customer": {"name": "a\0b"}}, "customer.name"),
        ({"customer": {"name": "half \ud83d"}}, "customer.name"),
        ({"ship_to": {"city": "bell \a"}}, "ship_to.city"),
        ({"lines": [_line(title="t" * 300_000)]}, "title"),
        ({"lines": [_line(title="no character \uffff")]}, "title"),
    ],
)
def test_texts_that_cannot_be_kept_set_their_order_aside_as_it_came(
    world: World,  # noqa: F811
    change: dict[str, Any],
    field: str,
) -> None:
    _send(world, **change)
    sound = world.buy({"v2": 1})
    assert inbound.poll(world.shop) == 2
    assert SalesOrder.objects.get().external_id == sound["id"]
    assert Snag.objects.get(resolved_at=None).field == field
    with pytest.raises(YuvrelError, match="still cannot be read"):
        snags.try_again(SYSTEM, Snag.objects.get(resolved_at=None).pk)


def test_what_is_not_used_of_an_order_may_hold_anything(world: World) -> None:  # noqa: F811
    _send(world, customer={"name": "Una", "note": "a\0b \ud83d", "deep": [[[[[[]]]]]]}, note="x" * 1_000_000)
    assert inbound.poll(world.shop) == 1
    assert SalesOrder.objects.get().state == "ready"


def test_a_barcode_with_a_wrong_check_digit_pairs_nothing_and_stops_nothing(world: World) -> None:  # noqa: F811
    product = world.standins.store.get("web", "product", "p2")
    assert product
    more = [{**product["variants"][0], "id": "v8", "sku": "ODD-1", "barcode": "2100000000013"}]
    with world.standins.store.transaction():
        world.standins.store.amend("web", "product", "p2", {**product, "variants": product["variants"] + more})
    linking.take_listings(SYSTEM, world.shop.pk, timezone.now(), create=True)
    listing = Listing.objects.get(external_id="v8")
    assert listing.barcode == "2100000000013"
    item = Item.objects.filter(sku="ODD-1").first()
    assert item is None or not item.barcodes.exists()


def test_a_listing_that_cannot_be_read_is_named_and_the_others_are_taken_in(world: World) -> None:  # noqa: F811
    product = world.standins.store.get("web", "product", "p2")
    assert product
    bad = [{"id": "v9", "sku": "X", "price": "cheap", "quantity": 1, "options": {}}]
    with world.standins.store.transaction():
        world.standins.store.amend("web", "product", "p2", {**product, "variants": product["variants"] + bad})
    run = linking.take_listings(SYSTEM, world.shop.pk, timezone.now(), create=False)
    assert (run.state, run.done) == ("done", 4)
    snag = Snag.objects.get(kind="listings", resolved_at=None)
    assert snag.field == "price"
    assert "v9" in snag.detail
    with world.standins.store.transaction():
        world.standins.store.amend("web", "product", "p2", product)
    linking.take_listings(SYSTEM, world.shop.pk, timezone.now(), create=False)
    assert not Snag.objects.filter(resolved_at=None).exists()


def _order_too_many(world: World) -> None:  # noqa: F811
    """Forty of ten, at a shop that takes no backorders."""
    row = Connection.objects.get(pk=world.shop.pk)
    set_rules(row, backorders="held")
    _arrange(world, [_line(quantity=40, amount="984.00")])
    inbound.poll(row)


def test_a_connection_without_backorders_holds_what_is_short(world: World) -> None:  # noqa: F811
    _order_too_many(world)
    snag = Snag.objects.get(resolved_at=None)
    assert snag.detail == "Of SMK-S, 40 are wanted and 10 are left. This connection takes no backorders."
    order = SalesOrder.objects.get()
    assert order.state == "held"
    assert not Reservation.objects.exists()
    give(world.small, 30, "8.00")
    assert "Taken in" in snags.try_again(SYSTEM, snag.pk)
    order.refresh_from_db()
    assert order.state == "ready"
    assert_invariants()


def test_letting_a_short_order_go_makes_backorders(world: World) -> None:  # noqa: F811
    _order_too_many(world)
    order = release(SYSTEM, SalesOrder.objects.get().pk, timezone.now())
    assert order.state == "received"
    assert {(r.state, int(r.quantity)) for r in Reservation.objects.all()} == {("open", 10), ("backorder", 30)}
    assert_invariants()


@pytest.mark.parametrize(
    "nonsense", [b"<html>", b"[]", b'{"orders": 3}', b'{"orders": [1]}', b"{" * 100_000, b'{"orders": [], "next": NaN}']
)
def test_an_answer_of_another_shape_is_nonsense_or_a_snag(outside: str, nonsense: bytes) -> None:
    path = "/api/orders?updated_since=2027&cursor=&limit=50"
    Outside.answers[path] = (200, {}, nonsense)
    shop = KINDS["web_shop"](Account(outside, {"token": "t"}, allow_private=True, attempts=1))
    try:
        page = shop.orders("2027", "")
    except NonsenseError:
        return
    assert [type(read_row(shop.read_order, raw)).__name__ for raw in page.rows] == ["Unreadable"]


def test_a_account_that_asks_for_a_pause_gets_it(outside: str) -> None:
    Outside.answers["/x"] = (429, {"Retry-After": "120"}, b'{"detail": "later"}')
    with pytest.raises(BusyError) as caught:
        Caller(outside, TOKEN, allow_private=True, attempts=3).call("GET", "/x")
    assert (caught.value.wait, len(Outside.seen)) == (120.0, 1)


def test_many_reads_come_in_their_order_and_end_at_the_first_fault(outside: str) -> None:
    caller = Caller(outside, TOKEN, allow_private=True, attempts=1, per_second=500)
    Outside.answers |= {f"/x?n={n}": (200, {}, f'{{"n": {n}}}'.encode()) for n in range(300)}
    asked = [{"n": n} for n in range(300)]
    assert [data["n"] for data in caller.read_many("/x", asked[:40])] == list(range(40))
    Outside.seen.clear()
    Outside.answers["/x?n=3"] = (403, {}, b'{"detail": "not for you"}')
    with pytest.raises(AccessError, match="not for you"):
        caller.read_many("/x", asked)
    assert len(Outside.seen) < 100, "what had not begun was not begun"


def test_pages_that_lead_back_come_to_an_end() -> None:
    asked: list[str] = []

    def fetch(cursor: str) -> Page:
        asked.append(cursor)
        return Page(rows=[Raw(body=cursor)], cursor={"": "a", "a": "b"}.get(cursor, "a"))

    with pytest.raises(NonsenseError, match="same page"):
        list(pages(fetch))
    assert asked[:2] == ["", "a"]
    assert [p.rows for p in pages(lambda cursor: Page(rows=[], cursor="" if cursor else "a"))] == [[], []]
