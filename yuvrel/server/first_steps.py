"""The way from an empty company, or into the demo, one step after the other, and how far each has come."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

from django.conf import settings
from django.db.models import Q
from ninja import Schema

from yuvrel.agreement.models import Check, Drift
from yuvrel.buying.models import GoodsReceipt, PurchaseOrder, Supplier, SupplierItem
from yuvrel.catalogue.models import Item
from yuvrel.channels.credentials import kinds_that
from yuvrel.channels.models import Connection, Listing
from yuvrel.connectors.capabilities import Capability
from yuvrel.demo import NOT_YET_CONNECTED
from yuvrel.people.roles import Ability, Actor
from yuvrel.sales.models import SalesOrder, Shipment
from yuvrel.stock.models import StockBalance


class FirstStepOut(Schema):
    """One step: what to do and where, how it stands, whether it was done, whether this person may do it."""

    name: str
    what: str
    link: str
    go: str
    stands: str
    done: bool
    may: bool


class FirstStepsOut(Schema):
    """The steps in their order."""

    steps: list[FirstStepOut]
    hint: str


@dataclass(frozen=True)
class Step:
    """A step and the ability it takes; None where looking is enough."""

    name: str
    what: str
    link: str
    go: str
    stands: str
    done: bool
    ability: Ability | None = None

    def row(self, who: Actor) -> dict[str, Any]:
        """As the wire shows it to this person."""
        fields = asdict(self)
        ability = fields.pop("ability")
        return {**fields, "may": ability is None or who.may(ability)}


def first_steps(who: Actor) -> dict[str, Any]:
    """Every step in a fixed number of queries."""
    steps = [*_connecting(), *_stocking(), *_selling(), *_buying(), _agreeing()]
    return {"steps": [step.row(who) for step in steps], "hint": _hint()}


def _hint() -> str:
    """What the demo leaves for its visitor to do."""
    if not settings.DEMO_STANDINS or Connection.objects.filter(address__endswith=f"/{NOT_YET_CONNECTED}").exists():
        return ""
    return "The trade shop is not connected yet: begin with it."


def _n(count: int, one: str, many: str = "") -> str:
    return f"{count:,} {one if count == 1 else many or one + 's'}"


def _connecting() -> list[Step]:
    states = list(Connection.objects.values_list("kind", "state"))
    channels = [state for kind, state in states if kind in kinds_that(Capability.ORDERS)]
    ledgers = [state for kind, state in states if kind in kinds_that(Capability.DOCUMENTS)]
    waiting = [state for state in channels if state != "live"]
    said = _n(channels.count("live"), "channel live", "channels live")
    return [
        Step(
            "Connect your channels",
            "Add each web shop and till with its address and token, test it, set its rules and go live.",
            "/connections/new",
            "Add a connection",
            said + (f", {len(waiting)} not yet" if waiting else ""),
            "live" in channels,
            Ability.CONNECT,
        ),
        Step(
            "Connect the ledger",
            "So that each invoice, receipt and cost is booked there once, under the accounts you name.",
            "/connections/new",
            "Add the ledger",
            "live" if "live" in ledgers else "not yet live" if ledgers else "none yet",
            "live" in ledgers,
            Ability.CONNECT,
        ),
    ]


def _stocking() -> list[Step]:
    paired = Listing.objects.filter(link="linked").count()
    left = Listing.objects.filter(link="unlinked").count()
    items = Item.objects.filter(active=True).count()
    balances = StockBalance.objects.exclude(on_hand=0).count()
    return [
        Step(
            "Pair listings with items",
            "On a connection's page, import its listings: a match by SKU or barcode is linked automatically. "
            "Link, create or ignore the rest on the pairing bench.",
            "/range/pairing",
            "Go to the pairing bench",
            f"{paired:,} paired, {left:,} left; {_n(items, 'item')}",
            paired > 0 and left == 0,
            Ability.PAIR,
        ),
        Step(
            "Import opening stock",
            "Download the template, enter the quantity and unit cost at each location. "
            "The file is checked before anything is imported.",
            "/shelf/opening",
            "Import a file",
            f"stock in {_n(balances, 'place')}" if balances else "none yet",
            balances > 0,
            Ability.OPEN_STOCK,
        ),
    ]


def _selling() -> list[Step]:
    ours = SalesOrder.objects.filter(history=False)
    taken = ours.count()
    ready = ours.filter(state="ready").count()
    shipped = Shipment.objects.filter(order__history=False, order__kind="order").count()
    return [
        Step(
            "See an order arrive",
            "Buy something in your shop, or ring it up at a till. Within seconds the order is here, its stock is "
            "reserved, and the other channels show less.",
            "/orders",
            "Look at the orders",
            f"{_n(taken, 'order')} imported" if taken else "none yet",
            taken > 0,
        ),
        Step(
            "Ship an order",
            "Open one that is ready and press Ship: cost and revenue are posted, the shop learns of it, and the ledger "
            "gets its invoice once.",
            "/orders?state=ready",
            "See what is ready",
            f"{shipped:,} shipped, {ready:,} ready",
            shipped > 0,
            Ability.SHIP,
        ),
    ]


def _buying() -> list[Step]:
    sent = PurchaseOrder.objects.filter(~Q(state="draft")).count()
    receipts = GoodsReceipt.objects.count()
    stocked = Item.objects.filter(active=True, kind=Item.Kind.STOCKED)
    orphans = stocked.exclude(supplier_items__preferred=True).count()
    sold = SupplierItem.objects.filter(preferred=True).count()
    return [
        Step(
            "Add your suppliers",
            "Add each supplier with its currency and lead time, then the items it sells with packs and prices; "
            "suggestions and purchase orders are based on them.",
            "/buying/suppliers",
            "See the suppliers",
            f"{_n(Supplier.objects.count(), 'supplier')}, {_n(orphans, 'item')} without one",
            sold > 0 and not orphans,
            Ability.BUY,
        ),
        Step(
            "Reorder what is running low",
            "Select what is late, draft the order, check it and send it. Every suggested quantity opens to its calculation.",
            "/buying",
            "See what to buy",
            f"{_n(sent, 'purchase order')} sent" if sent else "none sent yet",
            sent > 0,
            Ability.BUY,
        ),
        Step(
            "Receive a delivery",
            "Open a purchase order that was sent and receive it, in parts if it comes in parts; the average cost is updated.",
            "/buying/orders?state=open",
            "See what is due",
            _n(receipts, "receipt") if receipts else "none yet",
            receipts > 0,
            Ability.RECEIVE,
        ),
    ]


def _agreeing() -> Step:
    checked = Check.objects.exists()
    drifts = Drift.objects.filter(healed_at=None).count()
    return Step(
        "See the books agree",
        "Change a quantity in the shop's own back office, then check: the drift shows what was expected and found, and "
        "pushing ours again corrects it.",
        "/books",
        "Check the books",
        "not checked yet" if not checked else _n(drifts, "drift stands", "drifts stand") if drifts else "all agree",
        checked and not drifts,
    )
