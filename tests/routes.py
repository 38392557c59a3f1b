"""The routes of the API with ids that exist: one of everything in Larkmead."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta
from decimal import Decimal
from functools import cache
from typing import Any

from django.contrib.sessions.models import Session
from django.utils import timezone

from yuvrel.agreement.actions import check_shelf
from yuvrel.agreement.models import Drift
from yuvrel.books.models import JournalEntry
from yuvrel.buying.models import PurchaseLine, PurchaseOrder, SupplierItem
from yuvrel.catalogue.models import Category, Item, Picture
from yuvrel.channels.models import ChannelGroup, Connection, Listing, Publication, Run
from yuvrel.channels.runs import raise_snag
from yuvrel.intake.actions import send as send_sheet
from yuvrel.people.models import Epoch, OpenSession, SheetView, User
from yuvrel.people.roles import SYSTEM, actor_of
from yuvrel.people.tokens import give_out
from yuvrel.planning.models import ItemForecast
from yuvrel.pricing.changes import Typed, type_prices
from yuvrel.pricing.loading import base_list
from yuvrel.pricing.models import PriceList
from yuvrel.recovery.models import FoundThere, Recovery
from yuvrel.sales.models import CreditNote, Customer, CustomerGroup, OrderLine, Return, SalesOrder
from yuvrel.sales.till_counts import CountedTender, take_count
from yuvrel.server.api import api
from yuvrel.server.workings import WORKINGS
from yuvrel.stock.models import CostChange, StockBalance, Transfer

# What a route cannot answer without.
QUERIES = {
    "demand_history": "?item={item_id}&location={location_id}",
    "delete_item": "?version=1",
    "delete_price_list": "?version=1",
}


@dataclass(frozen=True)
class Route:
    """An operation and where it is: {name} stands for an id."""

    operation: str
    method: str
    path: str

    def at(self, ids: dict[str, Any], *, asked: bool = True) -> str:
        """The address with ids filled in, and with what it must be asked for. A name means another thing below
        another station."""
        path = self.path + (QUERIES.get(self.operation, "") if asked else "")
        for name, value in ids.items():
            above, _, key = name.rpartition("/")
            if not above or f"/{above}/" in path:
                path = path.replace(f"{{{key}}}", str(value))
        assert "{" not in path, path
        return path


@cache
def routes() -> list[Route]:
    """The whole API, as it describes itself."""
    described = api.get_openapi_schema()["paths"]
    return [Route(o["operationId"], method, path) for path, methods in described.items() for method, o in methods.items()]


def real_ids(user: User) -> dict[str, Any]:
    """An id that exists for every name in a path; 'purchase-orders/order_id' is one below that address only."""
    shop = Connection.objects.get(name="Larkmead web shop")
    terms = SupplierItem.objects.order_by("pk").first()
    forecast = ItemForecast.objects.order_by("pk").first()
    order = SalesOrder.objects.order_by("-pk").first()
    line = OrderLine.objects.filter(kind="item").order_by("-pk").first()
    assert terms and forecast and order and line
    check_shelf()
    drift = Drift.objects.first() or Drift.objects.create(
        code="A4",
        key="made",
        title="On hand",
        expected="1",
        found="2",
        cause="made",
        since=timezone.now(),
        seen_at=timezone.now(),
    )
    view = SheetView.objects.create(owner=user, sheet="orders", name="Mine", settings={})
    priced = type_prices(SYSTEM, base_list().pk, [Typed(forecast.item_id, Decimal("12.34"))], timezone.now())
    assert priced
    now = timezone.now()
    Session.objects.create(session_key="k" * 32, session_data="", expire_date=now + timedelta(days=1))
    seen = OpenSession.objects.create(user=user, key="k" * 32, address="127.0.0.1", device="A program", begun_at=now, seen_at=now)
    restored = Recovery.objects.create(epoch=Epoch.objects.create(number=2, begun_at=now))
    found = FoundThere.objects.create(recovery=restored, connection=shop, kind="shipment", key="k", title="Shipment", body={})
    return {
        "found_id": found.pk,
        "session_id": seen.pk,
        "token_id": give_out(actor_of(user), "a program", 30, [], now)[0].pk,
        "category_id": Category.objects.order_by("pk").values_list("pk", flat=True)[0],
        "list_id": PriceList.objects.get(base=True).pk,
        "change_id": priced.pk,
        "customer_id": Customer.objects.order_by("pk").values_list("pk", flat=True)[0],
        "channel-groups/group_id": ChannelGroup.objects.create(connection=shop, key="club", title="Clubs").pk,
        "group_id": CustomerGroup.objects.values_list("pk", flat=True)[0],
        "connection_id": shop.pk,
        "imports/kind": "items",
        "documents/kind": "purchase-order",
        "document_id": PurchaseOrder.objects.filter(state="draft").values_list("pk", flat=True)[0],
        "form": "order",
        "transfer_id": Transfer.objects.filter(state="draft").values_list("pk", flat=True)[0],
        "run_id": Run.objects.create(connection=shop, kind="orders").pk,
        "picture_id": Picture.objects.order_by("pk").values_list("pk", flat=True)[0],
        "size": "thumb",
        "language": "de",
        "replenishment/way": "item",
        "way": "listing",
        "settings/key": Listing.objects.filter(link="linked").values_list("pk", flat=True)[0],
        "suppliers/item_id": terms.item_id,
        "suppliers/supplier_id": terms.supplier_id,
        "item_id": forecast.item_id,
        "product_id": forecast.item.product_id,
        "location_id": forecast.location_id,
        "purchase-orders/order_id": PurchaseOrder.objects.filter(state="draft").values_list("pk", flat=True)[0],
        "order_id": order.pk,
        "return_id": Return.objects.get(state="expected").pk,
        "line_id": line.pk,
        "listing_id": Listing.objects.filter(link="unlinked").exclude(sku="").values_list("pk", flat=True)[0],
        "publication_id": Publication.objects.order_by("pk").values_list("pk", flat=True)[0],
        "snag_id": raise_snag(shop, "order", "A snag", "to be resolved", order=order).pk,
        "drift_id": drift.pk,
        "view_id": view.pk,
        "import_id": send_sheet(SYSTEM, "items", "range.csv", b"sku,price\nSMK-BRS-S,1\n", timezone.now()).pk,
        "sheet": "orders",
        "kind": "cost",
        "key": forecast.item_id,
    }


def working_keys() -> dict[str, str]:
    """A key that exists for every kind of Working; a kind without one is missing here and fails its test."""
    balance = StockBalance.objects.filter(on_hand__gt=0, item__kind=Item.Kind.STOCKED).order_by("pk").first()
    forecast = ItemForecast.objects.order_by("pk").first()
    change = CostChange.objects.order_by("pk").first()
    purchase = PurchaseLine.objects.exclude(working={}).order_by("pk").first()
    entry = JournalEntry.objects.order_by("pk").first()
    listing = Listing.objects.filter(link="linked", offered__isnull=False).order_by("pk").first()
    order = SalesOrder.objects.order_by("-pk").first()
    drift = Drift.objects.order_by("pk").first()
    assert balance and forecast and change and purchase and entry and listing and order and drift
    pair = f"{balance.item_id}-{balance.location_id}"
    keys = dict.fromkeys(("on-hand", "available", "value", "committed", "incoming", "suggestion", "velocity", "demand"), pair)
    keys |= {"cost": f"{balance.item_id}", "booked": f"{balance.item_id}", "account": "1300"}
    keys |= {"offer": f"{listing.pk}", "pairing": f"{listing.pk}", "profit": f"{order.pk}", "order-total": f"{order.pk}"}
    keys |= {
        "month": f"{forecast.item_id}-{forecast.location_id}",
        "purchase-line": f"{purchase.pk}",
        "purchase-order": f"{purchase.order_id}",
        "entry": f"{entry.pk}",
    }
    keys |= {"drift": f"{drift.pk}", "cost-change": f"{change.pk}", "setting": f"listing.{listing.pk}.buffer"}
    base = PriceList.objects.get(base=True)
    keys |= {"price": f"{base.pk}-{balance.item_id}", "price-offer": f"{listing.pk}"}
    club = ChannelGroup.objects.filter(connection=listing.connection).first()
    club = club or ChannelGroup.objects.create(connection=listing.connection, key="staff", title="Staff")
    keys |= {"group-price": f"{listing.pk}-{club.pk}"}
    counted = take_count(
        SYSTEM, listing.connection, "z", "Z1", timezone.now(), "EUR", [CountedTender("cash", Decimal(0), Decimal(1))]
    )[0]
    keys |= {"till-count": f"{counted.lines.values_list('pk', flat=True)[0]}"}
    keys |= {"credit": f"{CreditNote.objects.values_list('pk', flat=True)[0]}"}
    keys |= {"asked": f"{Customer.objects.values_list('pk', flat=True)[0]}-{balance.item_id}"}
    assert set(keys) == set(WORKINGS)
    return keys
