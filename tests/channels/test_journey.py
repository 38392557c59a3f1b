"""The journey of one order through real HTTP: connect, pair, sell, ship, book, buy, agree."""

from __future__ import annotations

import json
from collections.abc import Callable
from contextlib import nullcontext
from decimal import Decimal as D
from typing import Any

import httpx
import pytest
from django.db.models import Value
from django.utils import timezone

from standins import market as market_standin
from standins import shop as shop_standin
from tests.channels.conftest import Standins
from tests.invariants import assert_invariants
from tests.snapshot import once
from tests.world import give, give_inbox, make_company, make_supplier, set_rules
from yuvrel.agreement import actions as agreement
from yuvrel.agreement.models import Check, Drift
from yuvrel.books.models import LedgerDocument
from yuvrel.buying.actions import Wanted, draft, send
from yuvrel.buying.models import PurchaseOrder
from yuvrel.catalogue.models import Item
from yuvrel.channels import actions, inbound, linking, offers, outbound, prices, refreshing, snags, submissions
from yuvrel.channels.jobs import RELAYS, relay_now
from yuvrel.channels.models import Connection, InboundMessage, Listing, OutboundMessage, Snag, Submission
from yuvrel.core.errors import BadInputError, RefusedError
from yuvrel.events.actions import waiting_for
from yuvrel.people.models import Location
from yuvrel.people.roles import SYSTEM
from yuvrel.sales.actions import ship
from yuvrel.sales.models import SalesOrder
from yuvrel.stock.models import StockBalance

pytestmark = pytest.mark.django_db


WORK = {
    "offers": lambda: Listing.objects.filter(offer_state="pending"),
    "texts": lambda: Listing.objects.filter(texts_due_at__isnull=False),
    "submissions": lambda: Submission.objects.filter(state="waiting"),
    "messages": lambda: OutboundMessage.objects.filter(state="waiting"),
}


def _work() -> dict[int, set[str]]:
    """What the connections have to push, to collect or to deliver."""
    found: dict[int, set[str]] = {pk: {"prices"} for pk in prices.are_waiting()}
    first, *others = (rows().order_by().values_list("connection", Value(what)) for what, rows in WORK.items())
    for pk, what in first.union(*others):
        found.setdefault(pk, set()).add(what)
    return found


def settle() -> None:
    """What the worker does until nothing is left: relay events, push offers, deliver messages."""
    for _ in range(20):
        moved = relay_now()
        work = _work()
        for connection in Connection.objects.filter(state="live", pk__in=work):
            todo = work[connection.pk]
            if "offers" in todo:
                moved += offers.push(connection)
            if "prices" in todo:
                moved += prices.push(connection)
            if "texts" in todo:
                moved += refreshing.tell_due(connection)
            if submissions.are_waiting(connection):  # also what was pushed just now
                moved += submissions.collect(connection)
            if "messages" in todo:
                OutboundMessage.objects.filter(state="waiting").update(next_try_at=timezone.now())
                Connection.objects.filter(pause_until__isnull=False).update(pause_until=None)
                moved += outbound.deliver(connection)
        if not moved:
            return


class World:
    """A company with a shop, a till and a ledger, all live; two items of the shop's range in stock.

    It is built once in a process, and once with each thing that is asked for besides; a further one is put back as it was.
    """

    def __init__(self, standins: Standins, besides: str = "", connect: Callable[[World], None] | None = None) -> None:
        self.standins = standins

        def whole() -> list[Any]:
            self._build()
            if connect:
                connect(self)
            return standins.kept()

        standins.put_back(once(f"world {besides}", whole))
        self.place = Location.objects.get(code="tannery-yard")
        self.shop, self.till, self.ledger = (Connection.objects.get(name=name) for name in ("Web", "Till", "Books"))
        self.small, self.large = (Item.objects.get(sku=sku) for sku in ("SMK-S", "SMK-L"))

    def _build(self) -> None:
        make_company()
        self.shop = self.connect("web_shop", "Web", "shop/web")
        linking.take_listings(SYSTEM, self.shop.pk, timezone.now(), create=True)
        self.till = self.connect("till", "Till", "till/mill")
        linking.take_listings(SYSTEM, self.till.pk, timezone.now(), create=False)
        self.ledger = self.connect("ledger", "Books", "ledger/books")
        give(Item.objects.get(sku="SMK-S"), 10, "8.00")
        give(Item.objects.get(sku="SMK-L"), 4, "12.00")
        settle()

    def connect(self, kind: str, name: str, path: str, **sign_in: str) -> Connection:
        """Added, tested, live; by token where nothing else is said."""
        values = sign_in or {"token": "t"}
        row = actions.add(SYSTEM, kind=kind, name=name, address=f"{self.standins.base}/{path}", sign_in=values)
        actions.test(SYSTEM, row.pk, timezone.now())
        set_rules(row, order_prefix=f"{name[0]}-", cash_customer=f"{name} cash")
        return actions.go_live(SYSTEM, row.pk, timezone.now())

    def buy(self, wanted: dict[str, int], coupon: str = "", account: str = "web", pay: str = "card") -> dict[str, Any]:
        """A shopper buys on the shop's own page."""
        who = {"name": "Una <b>Thorne</b>", "email": "u@t.example"}
        with self.standins_app().app_context(), self.standins.store.transaction():
            found = shop_standin.place(account, wanted, who, coupon, wrap=True, pay=pay)
        assert isinstance(found, dict), found
        return found

    def market(self, region: str = "ie") -> Connection:
        """A marketplace account's region, live, with its offers read."""
        row = self.connect("market", f"Hedge {region}", "market/hedge", client="us", secret="s", region=region)
        linking.take_listings(SYSTEM, row.pk, timezone.now(), create=False)
        return row

    def order_at_market(self, offer: str, count: int = 1, region: str = "ie") -> dict[str, Any]:
        """Somebody orders on the marketplace's own page."""
        with self.standins_app().app_context(), self.standins.store.transaction():
            found = market_standin.place("hedge", region, {offer: count}, "Orla")
        assert isinstance(found, dict), found
        return found

    def standins_app(self) -> Any:
        """An application context on the same store."""
        from flask import Flask

        app = Flask("probe")
        app.config["STORE"] = self.standins.store
        return app

    def shown(self, sku: str, account: str = "web") -> int:
        """What the shop shows."""
        for product in self.standins.store.all(account, "product"):
            for variant in product["variants"]:
                if variant["sku"] == sku:
                    return int(variant["quantity"])
        raise AssertionError(sku)

    def till_shows(self, plu: str) -> str:
        """The till's stock figure."""
        return str((self.standins.store.get("mill", "article", plu) or {})["stock"])


@pytest.fixture
def world(db: None, standins: Standins) -> World:
    """Everything connected."""
    return World(standins)


def test_a_connection_says_why_it_does_not_work(db: None, standins: Standins) -> None:
    make_company()
    now = timezone.now()

    def report(address: str, token: str) -> tuple[str, dict[str, Any]]:
        row = actions.add(SYSTEM, kind="web_shop", name=f"{address} {token}", address=address, sign_in={"token": token})
        row = actions.test(SYSTEM, row.pk, now)
        with pytest.raises(RefusedError, match="test it first") if row.state == "draft" else nullcontext():
            actions.go_live(SYSTEM, row.pk, now)
        return row.state, row.test_report

    good = f"{standins.base}/shop/web"
    assert report(good, "wrong") == (
        "draft",
        {"ok": False, "scopes": [], "missing": [], "name": "", "fault": "This token is not known here."},
    )
    state, weak = report(good, "weak")
    assert (state, weak["scopes"]) == ("draft", ["products:read"])
    assert "stock:write" in weak["fault"]
    assert "no shop called" in report(f"{standins.base}/shop/nope", "t")[1]["fault"]
    assert "No connection" in report("http://127.0.0.1:9/shop", "t")[1]["fault"]
    with pytest.raises(BadInputError, match="behind # or"):
        report(f"{standins.base}/shop/web/?x=", "t")
    assert report(good, "t")[0] == "tested"
    assert [row.state for row in Connection.objects.exclude(state="draft")] == ["live"]


@pytest.mark.parametrize(
    ("kind", "name", "address", "token", "field"),
    [
        ("magic", "A", "http://127.0.0.1", "t", "kind"),
        ("till", " ", "http://127.0.0.1", "t", "name"),
        ("till", "A", "ftp://x", "t", "address"),
        ("till", "A", "http://u:p@127.0.0.1", "t", "address"),
        ("till", "A", "http://127.0.0.1", " ", "sign_in.token"),
    ],
)
def test_a_connection_that_cannot_be_is_refused_by_field(
    company: object, kind: str, name: str, address: str, token: str, field: str
) -> None:
    with pytest.raises(BadInputError) as refusal:
        actions.add(SYSTEM, kind=kind, name=name, address=address, sign_in={"token": token})
    assert refusal.value.field == field


def test_a_wrong_address_is_put_right_and_a_draft_taken_away(db: None, standins: Standins) -> None:
    make_company()
    now = timezone.now()
    row = actions.add(SYSTEM, kind="web_shop", name="Shop", address=f"{standins.base}/shop/nowhere", sign_in={"token": "t"})
    assert actions.test(SYSTEM, row.pk, now).state == "draft"
    with pytest.raises(BadInputError, match="token of the new address"):
        actions.change_settings(SYSTEM, row.pk, 1, {"address": f"{standins.base}/shop/web"})
    row = actions.change_settings(SYSTEM, row.pk, 1, {"address": f"{standins.base}/shop/web", "sign_in": {"token": "t"}})
    assert row.test_report == {}
    assert actions.test(SYSTEM, row.pk, now).state == "tested"
    with pytest.raises(BadInputError) as refusal:
        actions.change_settings(SYSTEM, row.pk, 2, {"address": "ftp://shop.example"})
    assert refusal.value.field == "address"
    Connection.objects.filter(pk=row.pk).update(state="live", live_since=now)
    with pytest.raises(RefusedError, match="Pause it before"):
        actions.change_settings(SYSTEM, row.pk, 2, {"address": f"{standins.base}/shop/trade"})
    with pytest.raises(RefusedError, match="a history here"):
        actions.remove(SYSTEM, row.pk)
    Connection.objects.filter(pk=row.pk).update(state="tested", live_since=None)
    actions.remove(SYSTEM, row.pk)
    assert not Connection.objects.exists()


def test_private_addresses_are_not_called_outside_the_demo(company: object, settings: Any) -> None:
    settings.ALLOW_PRIVATE_ADDRESSES = False
    for address in ("https://127.0.0.1/shop", "https://10.0.0.7", "https://[::1]/x", "http://93.184.216.34"):
        with pytest.raises(BadInputError) as refusal:
            actions.add(SYSTEM, kind="till", name="A", address=address, sign_in={"token": "t"})
        assert refusal.value.field == "address"


def test_the_range_is_built_from_listings_and_the_till_only_matches(world: World) -> None:
    assert {i.sku: i.title for i in Item.objects.all()} == {"SMK-S": "Smoker small", "SMK-L": "Smoker large", "GLV-9": "Gloves"}
    assert world.small.product_id == world.large.product_id
    nameless = Listing.objects.get(connection=world.shop, external_id="v4")
    assert (nameless.link, nameless.link_reason) == ("unlinked", "It has no SKU.")
    till = {row.external_id: row for row in Listing.objects.filter(connection=world.till)}
    # Two articles carry the SKU SMK-S once folded, so neither pairs by itself.
    assert {k: row.link for k, row in till.items()} == {"1": "unlinked", "2": "linked", "3": "unlinked", "4": "unlinked"}
    assert till["2"].item == world.large
    linking.link(SYSTEM, till["1"].pk, world.small.pk, till["1"].version)
    settle()
    assert world.till_shows("1") == "10"


def test_one_order_travels(world: World) -> None:
    linking.link(SYSTEM, Listing.objects.get(connection=world.till, external_id="1").pk, world.small.pk)
    order = world.buy({"v1": 3}, coupon="HONEY10")
    assert inbound.poll(world.shop) == 1
    ours = SalesOrder.objects.get()
    assert (ours.number, ours.state, str(ours.total)) == (f"W-{order['number']}", "ready", order["total"])
    assert {line.kind for line in ours.lines.all()} == {"item", "discount", "surcharge", "shipping"}
    settle()
    assert (world.shown("SMK-S"), world.till_shows("1")) == (7, "7")
    assert set(Listing.objects.filter(item=world.small).values_list("offer_state", flat=True)) == {"agreed"}
    shipment = ship(SYSTEM, ours.pk, at=timezone.now(), carrier="Packhorse", tracking="P-77")
    settle()
    there = world.standins.store.get("web", "order", order["id"])
    assert there is not None
    assert [(s["carrier"], s["tracking"]) for s in there["shipments"]] == [("Packhorse", "P-77")]
    assert there["fulfilment"] == "shipped"
    invoice = world.standins.store.get("books", "document", shipment.number)
    assert invoice is not None
    assert (invoice["kind"], invoice["contact"]) == ("invoice", "Web cash")
    assert agreement.check_all() == 0
    assert {c.code for c in Check.objects.all()} == {"A1", "A3", "A4", "A5", "A6"}
    assert_invariants()


def test_polls_webhooks_and_repeats_make_one_order(world: World) -> None:
    world.buy({"v1": 1})
    assert [inbound.poll(world.shop) for _ in range(3)] == [1, 0, 0]
    body = world.standins.store.all("web", "order")[0]
    assert inbound.take_event(world.shop, {"type": "order.created", "data": body}) is None
    message = InboundMessage.objects.get()
    assert inbound.apply(message.pk) == "repeated"
    assert SalesOrder.objects.count() == 1


def test_a_webhook_counts_only_with_its_signature(world: World, client: Any) -> None:
    from datetime import UTC, datetime

    from standardwebhooks import Webhook

    from yuvrel.channels.credentials import unseal

    order = world.buy({"v1": 1})
    path = f"/hooks/{world.shop.hook_key}"
    body = json.dumps({"type": "order.created", "data": order})
    assert client.post(path, body, content_type="application/json").status_code == 400
    at = datetime.now(UTC)
    world.shop.refresh_from_db()
    signature = Webhook(unseal(world.shop.webhook_secret_sealed)).sign("m1", at, body)
    headers = {"webhook-id": "m1", "webhook-timestamp": str(int(at.timestamp())), "webhook-signature": signature}
    tampered = body.replace("24.60", "0.01")
    assert client.post(path, tampered, content_type="application/json", headers=headers).status_code == 400
    for _ in range(2):
        assert client.post(path, body, content_type="application/json", headers=headers).status_code == 204
    assert InboundMessage.objects.get().via == "webhook"
    inbound.apply(InboundMessage.objects.get().pk)
    assert SalesOrder.objects.count() == 1
    assert client.post("/hooks/unknown", body, content_type="application/json").status_code == 404


def test_a_till_batch_takes_stock_at_once_even_below_zero(world: World) -> None:
    with httpx.Client(base_url=f"{world.standins.base}/till/mill") as till:
        till.post("/sell", data={"q-2": "6"})
        assert inbound.poll(world.till) == 0
        till.post("/upload")
    assert inbound.poll(world.till) == 1
    assert StockBalance.objects.get(item=world.large).on_hand == -2
    settle()
    assert world.shown("SMK-L") == 0
    agreement.check_all()
    drift = Drift.objects.get(healed_at=None)
    assert (drift.code, drift.found) == ("A4", "-2")
    assert_invariants()


def test_a_total_that_is_off_becomes_a_snag_and_trying_again_works(world: World) -> None:
    order = world.buy({"v1": 1})
    order["total"] = str(D(order["total"]) + D("0.40"))
    with world.standins.store.transaction():
        world.standins.store.put("web", "order", order["id"], order)
    inbound.poll(world.shop)
    snag = Snag.objects.get(resolved_at=None)
    assert "0.40 less than its total" in snag.detail
    assert SalesOrder.objects.get().state == "held"
    assert "still stuck" in snags.try_again(SYSTEM, snag.pk)
    order |= {"total": str(D(order["total"]) - D("0.40")), "version": 2, "updated_at": timezone.now().isoformat()}
    with world.standins.store.transaction():
        world.standins.store.put("web", "order", order["id"], order)
    inbound.poll(world.shop)
    assert SalesOrder.objects.get().state == "ready"
    assert not Snag.objects.filter(resolved_at=None).exists()


def test_an_edit_at_the_channel_is_a_drift_and_never_changes_stock(world: World) -> None:
    form = {"id": "v1", "quantity": "13"}
    httpx.post(f"{world.standins.base}/shop/web/office/quantity", data=form)
    assert agreement.check_all() == 1
    drift = Drift.objects.get(healed_at=None)
    assert (drift.code, drift.expected, drift.found, drift.item) == ("A1", "10", "13", world.small)
    since = drift.since
    agreement.check_all()
    assert Drift.objects.get(healed_at=None).since == since
    assert StockBalance.objects.get(item=world.small).on_hand == 10
    for connection_id in agreement.push_again(SYSTEM, drift.pk)[1]:
        offers.push(Connection.objects.get(pk=connection_id))
    assert world.shown("SMK-S") == 10
    assert agreement.heal_pushed(timezone.now()) == 1
    assert agreement.check_all() == 0


def test_the_ledger_books_once_though_the_answer_is_lost(world: World) -> None:
    world.standins.faults("books", dropped=1.0)
    world.buy({"v1": 1})
    inbound.poll(world.shop)
    relay_now()
    assert outbound.deliver(world.ledger) == 0
    waiting = OutboundMessage.objects.get(kind="ledger", state="waiting")
    assert "broke off" in waiting.last_error
    world.standins.faults("books")
    settle()
    assert LedgerDocument.objects.exclude(state="sent").count() == 0
    numbers = [d["number"] for d in world.standins.store.all("books", "document")]
    assert len(numbers) == len(set(numbers)) == LedgerDocument.objects.count()
    assert agreement.check_all() == 0


def test_what_the_ledger_refuses_is_a_snag(world: World) -> None:
    account = world.standins.store.get("books", "account", "books")
    assert account is not None
    month = timezone.now().strftime("%Y-%m")
    with world.standins.store.transaction():
        world.standins.store.put("books", "account", "books", {**account, "locked": [month]})
    world.buy({"v1": 1})
    inbound.poll(world.shop)
    settle()
    snag = Snag.objects.get(resolved_at=None)
    assert f"period {month} is locked" in snag.detail
    with world.standins.store.transaction():
        world.standins.store.put("books", "account", "books", {**account, "locked": []})
    snags.try_again(SYSTEM, snag.pk)
    settle()
    assert not Snag.objects.filter(resolved_at=None).exists()
    assert agreement.check_all() == 0


@pytest.mark.parametrize("fault", ["busy", "broken", "dropped"])
def test_a_push_through_a_fault_ends_agreed_once_it_is_over(world: World, fault: str) -> None:
    from yuvrel.connectors.http import ConnectorError

    world.standins.faults("web", **{fault: 1.0})
    give(world.small, 5, "8.00")
    relay_now()
    with pytest.raises(ConnectorError):
        offers.push(Connection.objects.get(pk=world.shop.pk))
    assert Listing.objects.get(connection=world.shop, item=world.small).offer_state == "pending"
    world.standins.faults("web")
    settle()
    assert world.shown("SMK-S") == 15
    assert not any(waiting_for(name).exists() for name in RELAYS)


def test_a_cancelled_order_frees_its_stock_for_the_other_channels(world: World) -> None:
    order = world.buy({"v1": 4})
    inbound.poll(world.shop)
    settle()
    assert world.shown("SMK-S") == 6
    httpx.post(f"{world.standins.base}/shop/web/office/cancel", data={"id": order["id"]})
    assert inbound.poll(world.shop) == 1
    settle()
    assert (SalesOrder.objects.get().state, world.shown("SMK-S")) == ("cancelled", 10)
    assert agreement.check_all() == 0


def test_a_purchase_order_reaches_the_supplier_once_and_is_answered(world: World) -> None:
    supplier = make_supplier(world.small, price="7.50")
    give_inbox(supplier, world.connect("supplier", "Joinery", "supplier/joinery", key="us", secret="s"))
    (order,) = draft(SYSTEM, [Wanted(world.small.pk, world.place.pk, D(12))], timezone.now())
    world.standins.faults("joinery", dropped=1.0)
    send(SYSTEM, order.pk, 1, timezone.now())
    relay_now()
    assert outbound.deliver(supplier.inbox) == 0
    world.standins.faults("joinery")
    settle()
    assert len(world.standins.store.all("joinery", "order")) == 1
    assert outbound.read_answers(Connection.objects.get(pk=supplier.inbox.pk), timezone.now()) == 1
    order = PurchaseOrder.objects.get()
    assert (order.state, order.supplier_reference) == ("acknowledged", f"OR-{order.number}")
    assert order.delivered_at is not None
    assert outbound.read_answers(Connection.objects.get(pk=supplier.inbox.pk), timezone.now()) == 0


def test_rules_decide_what_is_shown_and_a_paused_channel_hears_nothing(world: World) -> None:
    changed = Connection.objects.get(pk=world.shop.pk)
    set_rules(changed, buffer=3, share_percent=50)
    settle()
    assert world.shown("SMK-S") == 3
    actions.pause(SYSTEM, changed.pk)
    give(world.small, 10, "8.00")
    settle()
    assert world.shown("SMK-S") == 3
    actions.go_live(SYSTEM, changed.pk, timezone.now())
    settle()
    assert world.shown("SMK-S") == 8
