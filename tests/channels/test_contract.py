"""The contract that every kind of connection inherits: each of its capabilities, under each fault of the switchboard,
does what it should once the fault is over: nothing lost, nothing twice."""

from __future__ import annotations

import base64
import io
from collections.abc import Callable, Iterator
from contextlib import suppress
from datetime import timedelta
from decimal import Decimal as D
from typing import ClassVar

import httpx
import pytest
from django.db.models import QuerySet
from django.test import Client
from django.utils import timezone
from PIL import Image

from standins import faults, hooks
from standins.faults import FAULTS, board
from tests.channels.conftest import Standins
from tests.channels.test_journey import World, settle
from tests.depth import LONG, drawn
from tests.invariants import assert_invariants, assert_told_once
from tests.world import give, give_inbox, make_item, make_supplier, set_rules
from yuvrel.agreement import actions as agreement
from yuvrel.agreement.models import Drift
from yuvrel.books.models import LedgerDocument
from yuvrel.buying.actions import Wanted, draft, send
from yuvrel.buying.models import PurchaseOrder
from yuvrel.catalogue.models import Item, Picture
from yuvrel.channels import (
    actions,
    group_prices,
    inbound,
    linking,
    offers,
    outbound,
    picture_intake,
    price_intake,
    prices,
    publishing,
    refreshing,
    submissions,
)
from yuvrel.channels.close_intake import take_closes
from yuvrel.channels.credentials import connector_for
from yuvrel.channels.jobs import relay_now
from yuvrel.channels.models import (
    ChannelGroup,
    Connection,
    InboundMessage,
    Listing,
    OutboundMessage,
    Publication,
    Run,
    Snag,
    Submission,
    SubmittedLine,
)
from yuvrel.connectors.capabilities import PROTOCOLS, Capability
from yuvrel.connectors.http import ConnectorError
from yuvrel.connectors.messages import RemotePrice
from yuvrel.connectors.registry import KINDS
from yuvrel.core.credits import Wanted as Returned
from yuvrel.people.models import Location
from yuvrel.people.roles import SYSTEM
from yuvrel.pricing.actions import keep_list
from yuvrel.pricing.changes import Typed, type_prices
from yuvrel.pricing.loading import base_list
from yuvrel.sales.actions import cancel, hold, ship
from yuvrel.sales.credits import Refund, credit
from yuvrel.sales.models import Capture, CreditNote, SalesOrder, Shipment, TillCount
from yuvrel.stock.actions import adjust
from yuvrel.stock.models import StockBalance

pytestmark = pytest.mark.django_db

# One draw in two: a fault that struck always would let nothing through to be done twice.
SHARE = 0.5
TRIES = 8
ENOUGH = drawn(TRIES, 2)  # of those that succeed while it lasts
# Work to do while the fault lasts, and what must hold after it.
Trial = tuple[Callable[[], object], Callable[[], None]]


class Contract:
    """One kind, its stand-in's account, and for each capability what is done with it and what must come of it."""

    kind: ClassVar[str]
    account: ClassVar[str]
    name: ClassVar[str]

    def __init__(self, standins: Standins) -> None:
        self.world = World(standins, self.kind, self.connect)
        self.store = standins.store
        self.row = Connection.objects.get(name=self.name)

    @classmethod
    def connect(cls, world: World) -> None:
        """Tie in the account, where the world has none of this kind."""

    def again(self) -> Connection:
        """The connection as it stands now."""
        return Connection.objects.get(pk=self.row.pk)

    def take_in(self) -> None:
        """Orders that a trial begins with, read however often it takes under the fault."""
        for _ in range(40):
            try:
                inbound.poll(self.again())
                return
            except ConnectorError:
                continue
        raise AssertionError("the orders to begin with could not be read")

    def collect(self) -> None:
        """What came of batches, of a kind that works on them later."""
        if submissions.are_waiting(self.again()):
            submissions.collect(self.again())

    def push(self) -> None:
        """Quantities, and how they may be sold, are told; refused ones are tried again at once."""
        offers.retry_held(timezone.now() + timedelta(hours=2))
        offers.push(self.again())
        self.collect()

    def listings(self) -> Trial:
        """Read everything that is for sale."""
        before = Listing.objects.filter(connection=self.row).count()

        def check() -> None:
            assert Listing.objects.filter(connection=self.row).count() == before
            assert not Snag.objects.filter(connection=self.row, kind="listings", resolved_at=None).exists()

        return lambda: linking.take_listings(SYSTEM, self.row.pk, timezone.now(), create=False), check

    def quantities(self) -> Trial:
        """Three more of everything are told and read back."""
        for item in (self.world.small, self.world.large):
            give(item, 3)
        relay_now()

        def check() -> None:
            rows = Listing.objects.filter(connection=self.row, link="linked", kept_there=False)
            assert {row.offer_state for row in rows} == {"agreed"}
            assert {row.item_id: row.shown for row in rows} == {row.item_id: row.offered for row in rows}
            self.agreed()

        return self.push, check

    def terms(self) -> Trial:
        """Everything may be sold past zero from now on, told and read back."""
        set_rules(self.row, selling_past_zero="backorder", past_zero_limit=5, past_zero_text="About {date}.", order_maximum=9)
        relay_now()

        def check() -> None:
            rows = Listing.objects.filter(connection=self.row, item__in=(self.world.small, self.world.large))
            assert {(row.offer_state, row.terms["badge"], row.terms["most"]) for row in rows} == {("agreed", "Backorder", "9")}
            assert all(row.terms_shown == row.terms for row in rows)
            there = connector_for(self.again()).read_shown(list(rows.values_list("external_id", flat=True)))
            assert {row.external_id: there[row.external_id].terms.kept() for row in rows} == {
                row.external_id: row.terms for row in rows
            }
            self.agreed()

        return self.push, check

    def states(self) -> Trial:
        """Everything is hidden, told and read back."""
        set_rules(self.row, listing_state="hidden")
        relay_now()

        def check() -> None:
            rows = Listing.objects.filter(connection=self.row, link="linked", kept_there=False)
            assert {(row.offer_state, row.terms["state"]) for row in rows} == {("agreed", "hidden")}
            there = connector_for(self.again()).read_shown(list(rows.values_list("external_id", flat=True)))
            assert {one.terms.state for one in there.values()} == {"hidden"}
            self.agreed()

        return self.push, check

    def places(self) -> Trial:
        """What lies at two places of ours is told by place, and read back."""
        with self.store.transaction():
            account = self.store.get(self.account, "account", self.account) or {}
            self.store.put(self.account, "account", self.account, {**account, "places": [{"key": "a"}, {"key": "b"}]})
        set_rules(self.row, places_there='{"a": "tannery-yard", "b": "mill-lane"}')
        self.row.feeds.set(Location.objects.filter(code__in=("tannery-yard", "mill-lane")))
        give(self.world.small, 3, place=Location.objects.get(code="mill-lane"))
        relay_now()

        def check() -> None:
            there = {row.external_id: row for row in Listing.objects.filter(connection=self.row).exclude(terms={})}
            assert {row.terms_shown["places"]["b"] for row in there.values() if row.item == self.world.small} == {"3"}
            assert all(row.terms == row.terms_shown and row.offer_state == "agreed" for row in there.values())

        return self.push, check

    def dispatch(self) -> Trial:
        """Everything is sent within five days, told and read back."""
        set_rules(self.row, send_days=5)
        relay_now()

        def check() -> None:
            rows = Listing.objects.filter(connection=self.row, link="linked", kept_there=False)
            assert {(row.offer_state, row.terms["send_days"]) for row in rows} == {("agreed", 5)}
            there = connector_for(self.again()).read_shown(list(rows.values_list("external_id", flat=True)))
            assert {one.terms.send_days for one in there.values()} == {5}
            self.agreed()

        return self.push, check

    def prices(self) -> Trial:
        """Everything is 2.50 dearer, told and read back."""
        set_rules(self.row, price_owner="here")
        for item in (self.world.small, self.world.large):
            type_prices(SYSTEM, base_list().pk, [Typed(item.pk, D("27.10"))], timezone.now())
        relay_now()

        def work() -> None:
            prices.retry_held(timezone.now() + timedelta(hours=2))
            prices.push(self.again())
            self.collect()

        def check() -> None:
            rows = Listing.objects.filter(connection=self.row, item__in=(self.world.small, self.world.large), kept_there=False)
            assert {(row.price_offer.state, row.price) for row in rows} == {("agreed", D("27.10"))}
            assert {there.price for there in self.asked(rows).values()} == {D("27.10")}
            self.agreed()

        return work, check

    def asked(self, rows: QuerySet[Listing]) -> dict[str, RemotePrice]:
        """What the account itself says."""
        return connector_for(self.again()).read_prices(list(rows.values_list("external_id", flat=True)))

    def agreed(self) -> None:
        """Compared anew, nothing differs."""
        agreement.check_connection(self.again())
        assert not Drift.objects.filter(connection=self.row, healed_at=None).exists()

    def _orders_check(self, wanted: int) -> Callable[[], None]:
        def check() -> None:
            assert SalesOrder.objects.filter(connection=self.row).count() == wanted
            assert not InboundMessage.objects.filter(state="new").exists()
            assert not Snag.objects.filter(kind="order", resolved_at=None).exists()

        return check


class WebShopContract(Contract):
    """A shop: everything but ledger documents and purchases."""

    kind = "web_shop"
    account = "web"
    name = "Web"

    def pictures(self) -> Trial:
        """A product without pictures gets those that are shown there, each once."""
        drawn = io.BytesIO()
        Image.new("RGB", (3, 2), "#A9683F").save(drawn, "PNG")
        with self.store.transaction():
            self.store.put(self.account, "picture", "s1", {"id": "s1", "data": base64.b64encode(drawn.getvalue()).decode()})
            product = self.store.get(self.account, "product", "p1") or {}
            self.store.amend(self.account, "product", "p1", {**product, "pictures": [{"key": "s1", "alt": "A smoker"}]})
        linking.take_listings(SYSTEM, self.row.pk, timezone.now(), create=False)
        Run.objects.filter(kind="pictures").delete()

        def work() -> None:
            picture_intake.take_pictures(Run.objects.create(connection=self.again(), kind="pictures"))

        def check() -> None:
            (kept,) = Picture.objects.all()
            assert (kept.alt, kept.width, kept.product.title) == ("A smoker", 3, "Smoker")

        return work, check

    def group_prices(self) -> Trial:
        """The clubs are shown the trade list, told and read back."""
        set_rules(self.row, price_owner="here")
        trade = keep_list(SYSTEM, None, 0, {"name": "Trade", "method": "derived", "percent": D(-10)})
        club = ChannelGroup.objects.create(connection=self.row, key="club", title="Clubs", price_list=trade)
        relay_now()

        def work() -> None:
            # What the account has is asked for as well: the group stays who it is here.
            group_prices.read_groups(SYSTEM, self.row.pk)
            prices.retry_held(timezone.now() + timedelta(hours=2))
            prices.push(self.again())

        def check() -> None:
            rows = Listing.objects.filter(connection=self.row, link="linked", kept_there=False)
            club.refresh_from_db()
            assert (club.price_list_id, club.gone_at) == (trade.pk, None)
            assert set(club.prices.values_list("state", "shown")) == {("agreed", D("22.14"))}
            there = connector_for(self.again()).read_group_prices("club", list(rows.values_list("external_id", flat=True)))
            assert set(there.values()) == {D("22.14")}
            self.agreed()

        return work, check

    def orders(self) -> Trial:
        """Three orders are polled."""
        for _ in range(3):
            self.world.buy({"v1": 1})
        return lambda: inbound.poll(self.again()), self._orders_check(3)

    def shipments(self) -> Trial:
        """Two orders leave, and the shop is told each once."""
        for _ in range(2):
            self.world.buy({"v1": 1})
        self.take_in()
        for order in SalesOrder.objects.all():
            ship(SYSTEM, order.pk, at=timezone.now())
        relay_now()

        def check() -> None:
            there = self.store.all(self.account, "order")
            assert [len(order["shipments"]) for order in there] == [1, 1]
            assert not Shipment.objects.filter(told_channel_at=None).exists()

        return lambda: deliver(self.again()), check

    def order_states(self) -> Trial:
        """Of two orders one is held and one is cancelled here; the shop is told of each, and takes the second one back."""
        set_rules(self.row, states_told={"ready": "in_hand", "held": "on_hold", "cancelled": "cancelled"})
        for _ in range(2):
            self.world.buy({"v1": 1})
        self.take_in()
        kept, given_up = SalesOrder.objects.order_by("pk")
        hold(SYSTEM, kept.pk, "asked to wait")
        cancel(SYSTEM, given_up.pk, "not wanted", timezone.now())
        relay_now()

        def check() -> None:
            inbound.poll(self.again())
            there = {order["id"]: (order["progress"], order["note"], order["status"]) for order in self.store.all("web", "order")}
            assert there == {
                kept.external_id: ("on_hold", "asked to wait", "paid"),
                given_up.external_id: ("cancelled", "not wanted", "cancelled"),
            }
            assert set(SalesOrder.objects.values_list("state", flat=True)) == {"held", "cancelled"}
            self.agreed()

        return lambda: deliver(self.again()), check

    def captures(self) -> Trial:
        """Two orders whose payment is authorised leave, and each is charged once."""
        for _ in range(2):
            self.world.buy({"v1": 1}, pay="card_later")
        self.take_in()
        for order in SalesOrder.objects.all():
            ship(SYSTEM, order.pk, at=timezone.now())
        relay_now()

        def check() -> None:
            there = [order["payments"][0] for order in self.store.all(self.account, "order")]
            assert [(one["state"], [c["amount"] for c in one["captures"]]) for one in there] == [
                ("paid", [one["amount"]]) for one in there
            ]
            assert not Capture.objects.filter(told_channel_at=None).exists()

        return lambda: deliver(self.again()), check

    def refunds(self) -> Trial:
        """Two orders that have left are credited here, and the shop pays each back once."""
        for _ in range(2):
            self.world.buy({"v1": 1})
        self.take_in()
        for order in SalesOrder.objects.all():
            ship(SYSTEM, order.pk, at=timezone.now())
            wanted = {line.pk: Returned(line.quantity) for line in order.lines.filter(kind="item")}
            credit(SYSTEM, order.pk, wanted, timezone.now(), refund=Refund(tell_channel=True))
        relay_now()

        def check() -> None:
            inbound.poll(self.again())
            there = self.store.all(self.account, "order")
            notes = {note.number: note for note in CreditNote.objects.all()}
            assert [[(r["key"], D(r["amount"])) for r in order["refunds"]] for order in there] == [
                [(note.number, note.total)] for note in notes.values()
            ]
            assert len(notes) == 2, "what the shop tells of our own refunds is no new one"
            assert all(note.external_id and note.told_channel_at for note in notes.values())

        return lambda: deliver(self.again()), check

    def webhooks(self) -> Trial:
        """Two orders are told; what was lost on the way comes with the next poll."""
        client = Client()
        for _ in range(2):
            self.world.buy({"v1": 1})

        def work() -> None:
            while hooks._waiting:
                call = hooks._waiting.pop(0)
                hooks.send(call, lambda url, body, headers: receive(client, url, body, headers))
            for message in InboundMessage.objects.filter(state="new"):
                inbound.apply(message.pk)

        def check() -> None:
            inbound.poll(self.again())
            self._orders_check(2)()

        return work, check


class MarketContract(Contract):
    """A marketplace: batches it works on later, orders it may send itself."""

    kind = "market"
    account = "hedge"
    name = "Hedge ie"

    @classmethod
    def connect(cls, world: World) -> None:
        world.market()
        settle()

    def feeds(self) -> Trial:
        """Two batches of quantities and one of prices; each line's result is here, and no batch is left open."""
        set_rules(self.row, price_owner="here")
        give(self.world.small, 2)
        relay_now()

        def work() -> None:
            offers.retry_held(timezone.now() + timedelta(hours=2))
            prices.retry_held(timezone.now() + timedelta(hours=2))
            offers.push(self.again())
            prices.push(self.again())
            self.collect()

        def check() -> None:
            assert set(Submission.objects.values_list("state", flat=True)) == {"done"}
            assert not SubmittedLine.objects.filter(taken=None).exists()
            assert SubmittedLine.objects.filter(submission__sort="prices", taken=True).exists()
            self.agreed()

        return work, check

    def texts(self) -> Trial:
        """Two offers are told their texts anew."""
        set_rules(self.row, title_there="{{ title }}, Larkmead")
        rows = list(Listing.objects.filter(connection=self.row, external_id__in=("o1", "o2")).order_by("pk"))

        def work() -> None:
            for listing in rows:
                Run.objects.filter(kind="refresh", state="running").update(state="failed")
                refreshing.refresh(refreshing.ask_refresh(SYSTEM, listing.pk), [listing.pk])
            self.collect()

        def check() -> None:
            told = [(self.store.get("hedge", "offer-ie", key) or {})["title"] for key in ("o1", "o2")]
            assert told == ["Smoker small, Larkmead", "Smoker large, Larkmead"]
            kept = dict(Listing.objects.filter(pk__in=[row.pk for row in rows]).values_list("pk", "title"))
            assert [kept[row.pk] for row in rows] == told

        return work, check

    def publishing(self) -> Trial:
        """Two items become listings, each once, and are told their quantities."""
        set_rules(self.row, category_there="tools")
        items = [make_item(f"NEW-{n}", on_hand=7) for n in range(2)]
        publishing.prepare(SYSTEM, self.row.pk, [item.pk for item in items])

        def work() -> None:
            row = self.again()
            waiting = list(Publication.objects.filter(state__in=("prepared", "refused")).values_list("pk", flat=True))
            if waiting:
                publishing.publish(publishing.ask_publish(SYSTEM, row.pk, None), waiting)
            self.collect()
            relay_now()
            offers.retry_held(timezone.now() + timedelta(hours=2))
            offers.push(row)
            self.collect()

        def check() -> None:
            assert set(Publication.objects.values_list("state", flat=True)) == {"listed"}
            codes = [offer["seller_code"] for offer in self.store.all("hedge", "offer-ie")]
            assert codes.count("NEW-0") == codes.count("NEW-1") == 1
            assert set(Listing.objects.filter(item__in=items).values_list("offer_state", "shown")) == {("agreed", 7)}

        return work, check

    def orders(self) -> Trial:
        """Two orders to send and one that the marketplace has sent out of its own store."""
        mill = Location.objects.get(code="mill-lane")
        give(self.world.small, 5, place=mill)
        Connection.objects.filter(pk=self.row.pk).update(their_place=mill)
        for key in ("o1", "o2", "o4"):
            self.world.order_at_market(key)

        def check() -> None:
            self._orders_check(3)()
            sent = SalesOrder.objects.get(connection=self.row, kind="sent")
            assert (sent.state, sent.location_id) == ("closed", mill.pk)
            assert StockBalance.objects.get(item=self.world.small, location=mill).on_hand == 4
            self.agreed()

        return lambda: inbound.poll(self.again()), check

    def order_states(self) -> Trial:
        """Of two orders one is confirmed and one is cancelled here, for which the marketplace charges its seller once."""
        set_rules(self.row, states_told={"ready": "confirmed", "cancelled": "cancelled"})
        for _ in range(2):
            self.world.order_at_market("o1")
        self.take_in()
        kept, given_up = SalesOrder.objects.order_by("pk")
        cancel(SYSTEM, given_up.pk, "not wanted", timezone.now())
        relay_now()

        def check() -> None:
            inbound.poll(self.again())
            there = {order["order"]: order for order in self.store.all(self.account, "order-ie")}
            assert there[kept.external_id]["confirmed"] and there[kept.external_id]["state"] == "to_ship"
            assert there[given_up.external_id]["state"] == "cancelled"
            given_up.refresh_from_db()
            assert (given_up.state, given_up.penalty) == ("cancelled", D(there[given_up.external_id]["penalty"]))
            self.agreed()

        return lambda: deliver(self.again()), check

    def shipments(self) -> Trial:
        """Two orders leave, and the marketplace is told each once."""
        for _ in range(2):
            self.world.order_at_market("o1")
        self.take_in()
        for order in SalesOrder.objects.all():
            ship(SYSTEM, order.pk, at=timezone.now())
        relay_now()

        def check() -> None:
            there = self.store.all(self.account, "order-ie")
            assert [(order["state"], len(order["parcels"])) for order in there] == [("shipped", 1), ("shipped", 1)]
            assert not Shipment.objects.filter(told_channel_at=None).exists()

        return lambda: deliver(self.again()), check


class TillContract(Contract):
    """A till: its sales happened already."""

    kind = "till"
    account = "mill"
    name = "Till"

    def orders(self) -> Trial:
        """Three sales are uploaded and taken in, once."""
        with httpx.Client(base_url=f"{self.world.standins.base}/till/{self.account}") as till:
            for _ in range(3):
                till.post("/sell", data={"q-2": "1"})
            till.post("/upload")
        return lambda: inbound.poll(self.again()), self._orders_check(3)

    def closes(self) -> Trial:
        """A till is closed twice, each count taken in once."""
        with httpx.Client(base_url=f"{self.world.standins.base}/till/{self.account}") as till:
            for counted in ("10.00", "0.50"):
                till.post("/close", data={"counted-cash": counted})

        def check() -> None:
            counted = TillCount.objects.order_by("closed_at").values_list("number", "lines__counted", "lines__posted")
            assert list(counted) == [("Z0001", D("10.00"), D("10.00")), ("Z0002", D("0.50"), D("0.50"))]

        return lambda: take_closes(self.again(), timezone.now()), check

    def price_changes(self) -> Trial:
        """A price is changed at the till, which keeps it, and becomes ours; one that stands for nothing is left."""
        set_rules(self.row, price_owner="there")
        relay_now()
        with httpx.Client(base_url=f"{self.world.standins.base}/till/{self.account}") as till:
            till.post("/price", data={"plu": "1", "price": "26.00"})
            till.post("/price", data={"plu": "2", "price": "31.00"})

        def check() -> None:
            assert Item.objects.get(sku="SMK-L").price == 31

        return lambda: price_intake.take_changes(self.again(), timezone.now()), check


class LedgerContract(Contract):
    """A ledger: documents booked once, totals and balances read back."""

    kind = "ledger"
    account = "books"
    name = "Books"

    def documents(self) -> Trial:
        """Three adjustments are booked, and the two sets of books agree."""
        place = self.world.place
        for _ in range(3):
            adjust(SYSTEM, item_id=self.world.small.pk, location_id=place.pk, reason="found", at=timezone.now(), change=D(1))
        relay_now()

        def check() -> None:
            numbers = [document["number"] for document in self.store.all(self.account, "document")]
            assert sorted(numbers) == sorted(LedgerDocument.objects.values_list("number", flat=True))
            self.agreed()

        def work() -> None:
            deliver(self.again())
            agreement.check_connection(self.again())

        return work, check

    def ledger_orders(self) -> Trial:
        """Two orders are told as sales orders, one of them shipped since; each stands there once, as it does here."""
        shop = Connection.objects.get(name="Web")
        set_rules(shop, ledger_order="order")
        for _ in range(2):
            self.world.buy({"v1": 1})
        inbound.poll(shop)
        relay_now()
        first = SalesOrder.objects.earliest("pk")
        shipped: list[Shipment] = []

        def work() -> None:
            deliver(self.again())
            if not shipped:
                shipped.append(ship(SYSTEM, first.pk, at=timezone.now()))
                relay_now()
            deliver(self.again())

        def check() -> None:
            there = {order["number"]: order["state"] for order in self.store.all(self.account, "order")}
            assert sorted(there.values()) == ["closed", "open"]
            assert there[first.number] == "closed"
            self.agreed()

        return work, check

    def _invoices(self) -> Trial:
        """Two invoices on account are booked; check what they name."""
        shop = Connection.objects.get(name="Web")
        set_rules(shop, ledger_contact="all")
        set_rules(self.row, ledger_items="sold")
        for _ in range(2):
            self.world.buy({"v1": 1})
        inbound.poll(shop)
        for order in SalesOrder.objects.all():
            ship(SYSTEM, order.pk, at=timezone.now())
        relay_now()

        def check() -> None:
            booked = [document for document in self.store.all(self.account, "document") if document["kind"] == "invoice"]
            (contact,) = self.store.all(self.account, "contact")
            (item,) = self.store.all(self.account, "item")
            assert [document["contact_key"] for document in booked] == [contact["key"]] * 2
            assert {line["item"] for document in booked for line in document["details"] if line["sku"]} == {item["key"]}
            self.agreed()

        return lambda: deliver(self.again()), check

    def ledger_contacts(self) -> Trial:
        """Two invoices of one customer name one contact, which is told first."""
        return self._invoices()

    def ledger_items(self) -> Trial:
        """Two invoices of one item name one item, which is told first."""
        return self._invoices()

    def tax_codes(self) -> Trial:
        """The account is tested: its codes are kept as it told them."""
        with self.store.transaction():
            account = self.store.get(self.account, "account", self.account) or {}
            codes = [{"code": "S23", "title": "Standard", "percent": "23"}]
            self.store.put(self.account, "account", self.account, {**account, "tax_codes": codes})

        def check() -> None:
            assert self.again().test_report["tax_codes"] == [["S23", "23", "Standard"]]

        return lambda: actions.test(SYSTEM, self.row.pk, timezone.now()), check


class SupplierContract(Contract):
    """A supplier's inbox: an order goes out once and its answer comes back."""

    kind = "supplier"
    account = "joinery"
    name = "Joinery"

    @classmethod
    def connect(cls, world: World) -> None:
        supplier = make_supplier(Item.objects.get(sku="SMK-S"))
        give_inbox(supplier, world.connect("supplier", cls.name, "supplier/joinery", key="us", secret="s"))

    def purchases(self) -> Trial:
        """Two orders are sent and acknowledged."""
        for _ in range(2):
            (order,) = draft(SYSTEM, [Wanted(self.world.small.pk, self.world.place.pk, D(5))], timezone.now())
            send(SYSTEM, order.pk, order.version, timezone.now())
        relay_now()

        def work() -> None:
            deliver(self.again())
            outbound.read_answers(self.again(), timezone.now())

        def check() -> None:
            assert len(self.store.all(self.account, "order")) == 2
            assert set(PurchaseOrder.objects.values_list("state", flat=True)) == {"acknowledged"}

        return work, check


def deliver(connection: Connection) -> int:
    """Send what waits, whatever the pauses after faults say."""
    OutboundMessage.objects.filter(state="waiting").update(next_try_at=timezone.now())
    return outbound.deliver(connection)


def receive(client: Client, url: str, body: str, headers: dict[str, str]) -> int:
    """Hand a webhook to our own door."""
    path = "/" + url.split("/", 3)[3]
    return int(client.post(path, body, content_type="application/json", headers=headers).status_code)


CONTRACTS: dict[str, type[Contract]] = {c.kind: c for c in Contract.__subclasses__()}


def test_every_kind_and_every_capability_has_its_trial() -> None:
    assert set(CONTRACTS) == set(KINDS)
    for kind, connector in KINDS.items():
        for can in connector.can:
            assert callable(getattr(CONTRACTS[kind], can.value, None)), f"{kind} says it can do {can}"


@pytest.fixture(autouse=True)
def _impatient(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """Faults last as long as they are on; waiting through each would show nothing more."""
    monkeypatch.setattr(faults, "SLOW", 0.02)
    monkeypatch.setattr(faults, "WAIT", 0)
    monkeypatch.setattr("yuvrel.connectors.http._Patience.__call__", lambda self, state: 0.0)
    monkeypatch.setattr("yuvrel.connectors.http.Pace.wait", lambda self, address, per_second: None)
    hooks._waiting.clear()
    yield
    hooks._waiting.clear()


# What can strike a capability at all, beside what strikes every call.
PAGES, CLOCKS = {"page_twice", "page_empty"}, {"clock_slow", "clock_fast"}
STRIKES: dict[Capability, set[str]] = {
    Capability.LISTINGS: PAGES,
    Capability.QUANTITIES: {"line_refused"},
    Capability.TERMS: {"line_refused"},
    Capability.STATES: {"line_refused"},
    Capability.PLACES: {"line_refused"},
    Capability.DISPATCH: {"line_refused"},
    Capability.TEXTS: {"line_refused"},
    Capability.PRICES: {"line_refused"},
    Capability.PRICE_CHANGES: PAGES | CLOCKS,
    Capability.GROUP_PRICES: {"line_refused"},
    Capability.FEEDS: {"line_refused"},
    Capability.PUBLISHING: {"line_refused"},
    Capability.ORDERS: PAGES | CLOCKS,
    Capability.CLOSES: PAGES | CLOCKS,
    Capability.WEBHOOKS: CLOCKS | {name for name in FAULTS if name.startswith("webhook_")},
    Capability.DOCUMENTS: PAGES,
    Capability.LEDGER_ORDERS: PAGES,
}
# What an account does that does nothing of what it is asked, each in its way. In each run these strike one trial, first
# each of them every call and then all of them one call in two; in the long form each has a trial of its own.
REFUSING = ("busy", "broken", "expired", "nonsense")
CASES = [
    (kind, can, struck)
    for kind, connector in KINDS.items()
    for can in sorted(connector.can)
    for struck in [
        *([] if LONG else [(*REFUSING, "slow")]),
        *((name,) for name in FAULTS if (name in faults.BEFORE and (LONG or name == "dropped")) or name in STRIKES.get(can, ())),
    ]
]


def test_every_capability_has_its_calls() -> None:
    assert set(PROTOCOLS) == set(Capability)


def test_every_fault_strikes_something() -> None:
    assert {fault for *_, struck in CASES for fault in struck} == set(FAULTS)


@pytest.mark.parametrize(
    ("kind", "can", "struck"), [pytest.param(*case, id=f"{case[0]}-{case[1]}-{'+'.join(case[2])}") for case in CASES]
)
def test_a_capability_under_faults(standins: Standins, kind: str, can: Capability, struck: tuple[str, ...]) -> None:
    contract = CONTRACTS[kind](standins)
    share = 1 - (1 - SHARE) ** (1 / len(struck))
    # What happens there while the faults last is under them as well: webhooks of orders, clocks.
    standins.faults(contract.account, **dict.fromkeys(struck, share))
    work, check = getattr(contract, can.value)()
    for fault in REFUSING if len(struck) > 1 else ():
        standins.faults(contract.account, **{fault: 1.0})
        with suppress(ConnectorError):
            work()
        # What a message says that was sent to us is taken from it; nothing is asked for then.
        assert board(standins.store, contract.account)["draws"] or can is Capability.WEBHOOKS, f"{fault} struck nothing"
    standins.faults(contract.account, **dict.fromkeys(struck, share))
    succeeded = 0
    for _ in range(TRIES):
        try:
            work()
        except ConnectorError:
            continue
        succeeded += 1
        if succeeded >= ENOUGH:
            break
    standins.faults(contract.account)
    Connection.objects.update(pause_until=None)
    work()
    settle()
    check()
    assert_invariants()
    assert_told_once()
    assert list(Snag.objects.filter(resolved_at=None).values_list("title", "detail")) == []
