"""What can be set about the orders of a connection and what becomes of them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

from yuvrel.books.queries import clearing_choices
from yuvrel.catalogue.models import Item
from yuvrel.catalogue.rungs import company_rung
from yuvrel.core.errors import BadInputError
from yuvrel.core.money import minor_unit
from yuvrel.core.rules import OF_CONNECTIONS, Level, Rung, Setting, Value, meanings, resolve
from yuvrel.people.models import User
from yuvrel.people.queries import company, company_of
from yuvrel.people.roles import Ability, actor_of
from yuvrel.rules.queries import given_on
from yuvrel.rules.registry import SETTINGS, add_check, add_choices, declare

OWN: dict[str, Any] = {"group": "Orders", "ability": Ability.CONNECT.value, "needs": "orders"}
declare(
    Setting(
        "order_prefix",
        "Order number prefix",
        "Stands before the channel's own number, so that orders of two channels are never called the same.",
        "text",
        "",
        levels=(Level.CONNECTION,),
        most=12,
        **OWN,
    ),
    Setting(
        "backorders",
        "Orders that are short",
        "What becomes of an order that cannot be reserved whole.",
        "choice",
        "taken",
        choices=(("taken", "are taken as backorders"), ("held", "are held")),
        levels=OF_CONNECTIONS,
        **OWN,
    ),
    Setting(
        "cash_customer",
        "Cash-sale customer",
        "Whom the ledger books its sales to. Without one: the customer, by name.",
        "text",
        "",
        levels=OF_CONNECTIONS,
        most=120,
        **OWN,
    ),
    Setting(
        "send_within",
        "Orders leave within",
        "Days from the day an order is placed until it has to leave, where the channel itself does not say until when.",
        "whole",
        None,
        unit="days",
        high=Decimal(90),
        limitless=True,
        no_limit="no day",
        levels=OF_CONNECTIONS,
        **OWN,
    ),
    Setting(
        "payment_days",
        "Payment terms",
        "Days from an invoice until it is due, for who buys on account. A customer may have terms of their own.",
        "whole",
        30,
        unit="days",
        high=Decimal(365),
        levels=OF_CONNECTIONS,
        **OWN,
    ),
    Setting(
        "fee_percent",
        "Channel fee",
        "What the channel keeps of all that the customer pays, with tax; it lowers an order's profit.",
        "percent",
        Decimal(0),
        unit="%",
        high=Decimal(100),
        places=2,
        levels=OF_CONNECTIONS,
        **OWN,
    ),
    Setting(
        "fee_fixed",
        "Channel fee per order",
        "What it keeps of each order besides, in the company's currency.",
        "quantity",
        Decimal(0),
        high=Decimal(10_000),
        places=2,
        levels=OF_CONNECTIONS,
        **OWN,
    ),
)
declare(
    Setting(
        "order_states",
        "What order states mean",
        "What becomes of an order that stands so at the channel. One that is here already is followed in any state.",
        "map",
        "{}",
        choices=(
            ("taken", "taken in"),
            ("held", "taken in and held"),
            ("left", "left at the channel"),
            ("cancelled", "counts as cancelled"),
        ),
        levels=OF_CONNECTIONS,
        words="order_states",
        no_limit="as its kind proposes",
        **OWN,
    ),
    Setting(
        "states_told",
        "Order states told there",
        "What the account is told when an order comes to stand so here. A state without a word is not told.",
        "map",
        "{}",
        levels=OF_CONNECTIONS,
        words="our_states",
        no_limit="not told",
        most=40,
        **{**OWN, "needs": "order_states"},
    ),
    Setting(
        "ledger_document",
        "The ledger gets",
        "What the ledger is told of its sales. What somebody owes on account is told by itself in any case, with the name.",
        "choice",
        "each",
        choices=(("each", "an invoice for each sale"), ("day", "one journal a day")),
        levels=OF_CONNECTIONS,
        **OWN,
    ),
    Setting(
        "ledger_contact",
        "Customers in the ledger",
        "Who is a contact there, with address and terms, kept up to date. The others are a name on the document.",
        "choice",
        "no",
        choices=(
            ("no", "a name on the document"),
            ("account", "who buys on account is a contact"),
            ("all", "every customer is a contact"),
        ),
        levels=OF_CONNECTIONS,
        **OWN,
    ),
    Setting(
        "ledger_order",
        "Orders in the ledger",
        "Whether the ledger knows of an order before anything of it has left. It books nothing; the invoice names it.",
        "choice",
        "no",
        choices=(("no", "not told"), ("quote", "as a quote"), ("order", "as a sales order")),
        levels=OF_CONNECTIONS,
        **OWN,
    ),
    Setting(
        "selling_currency",
        "Also sells in",
        "Orders in this currency are taken in at the rate of the day they were placed; the rates are under Books, Accounts. "
        "Empty: in the company's currency only, and orders in another are held.",
        "text",
        "",
        levels=OF_CONNECTIONS,
        most=3,
        nothing="no other",
        **OWN,
    ),
    Setting(
        "unknown_lines",
        "Lines that match nothing",
        "What becomes of an order with goods that no item is known for.",
        "choice",
        "held",
        choices=(("held", "the order is held"), ("flagged", "it is taken in and the line pointed out")),
        levels=OF_CONNECTIONS,
        **OWN,
    ),
    Setting(
        "handled_by",
        "Orders are handled by",
        "Who looks after its orders: named on each, and on the sheet everybody can see their own.",
        "choice",
        "",
        levels=OF_CONNECTIONS,
        **OWN,
    ),
    Setting(
        "shipments_told",
        "Shipments",
        "Whether the channel is told what has left. Where it is not, it writes to no customer of it either.",
        "choice",
        "all",
        choices=(("all", "are told, with carrier and tracking"), ("plain", "are told alone"), ("no", "are not told")),
        levels=OF_CONNECTIONS,
        **{**OWN, "needs": "shipments"},
    ),
    Setting(
        "cancelled_goods",
        "Goods of cancelled orders",
        "What becomes of goods that were reserved for an order that is cancelled.",
        "choice",
        "free",
        choices=(("free", "are for sale again at once"), ("wait", "stay reserved until somebody has put them back")),
        levels=OF_CONNECTIONS,
        **OWN,
    ),
    Setting(
        "refund_goods",
        "Goods that are refunded",
        "What becomes of goods that the channel has paid back, where it does not say.",
        "choice",
        "usual",
        choices=(
            ("usual", "at a till back in stock at once, else expected back"),
            ("expected", "are expected back and looked at"),
            ("stock", "are back in stock at once"),
            ("nothing", "stay with the customer"),
        ),
        levels=OF_CONNECTIONS,
        **OWN,
    ),
    Setting(
        "payment_accounts",
        "Payments settle through",
        "The clearing account of each way to pay; without one, Channel clearing. More are opened under Books, Accounts.",
        "map",
        "{}",
        levels=OF_CONNECTIONS,
        words="payment_methods",
        no_limit="Channel clearing",
        most=10,
        **OWN,
    ),
    Setting(
        "carriers",
        "Shipping methods go with",
        "The carrier that is proposed when an order with this shipping method is shipped.",
        "map",
        "{}",
        levels=OF_CONNECTIONS,
        words="shipping_methods",
        no_limit="none proposed",
        most=60,
        **OWN,
    ),
)
declare(
    Setting(
        "charge_items",
        "Charges as items",
        "The service that stands for shipping, a discount or a surcharge of its orders: named on their lines, and told to a "
        "ledger that keeps items.",
        "map",
        "{}",
        levels=OF_CONNECTIONS,
        words="charges",
        no_limit="by name alone",
        most=60,
        **OWN,
    ),
)
CHARGES = ("shipping", "discount", "surcharge")
# Where an order can stand that a channel may be told of.
OUR_STATES = ("received", "held", "ready", "part-shipped", "shipped", "cancelled")
MOST_SERVICES = 200


def services() -> list[tuple[str, str]]:
    """SKU and title of the services in use."""
    rows = Item.objects.filter(kind=Item.Kind.SERVICE, active=True).order_by("title", "pk")[:MOST_SERVICES]
    return [(item.sku, f"{item.title} {item.sku}") for item in rows]


add_choices("charge_items", services)
add_choices("payment_accounts", clearing_choices)
NOBODY = ("", "nobody in particular")


def handlers() -> list[tuple[str, str]]:
    """Sign-in name and name of everybody in the company who ships orders or puts them right."""
    people = User.objects.filter(is_active=True).prefetch_related("groups").select_related("company").order_by("pk")
    ours = [one for one in people if company_of(one) == company()]
    handle = [one for one in ours if any(actor_of(one).may(can) for can in (Ability.SHIP, Ability.RESOLVE))]
    return [(one.username, one.get_full_name() or one.username) for one in handle]


add_choices("handled_by", lambda: [NOBODY, *handlers()])
MAPS = ("order_states", "states_told", "payment_accounts", "carriers", "charge_items")


@add_check
def _check_charges(rung: Rung, found: Mapping[str, Value]) -> None:
    given = meanings(found["charge_items"]) if isinstance(found.get("charge_items"), str) else {}
    known = set(Item.objects.filter(kind=Item.Kind.SERVICE, active=True, sku__in=given.values()).values_list("sku", flat=True))
    for word, sku in given.items():
        if word not in CHARGES:
            raise BadInputError(f"A charge is one of {', '.join(CHARGES)}.", field="charge_items")
        if sku not in known:
            raise BadInputError(f"There is no service {sku} in use.", field="charge_items")


@add_check
def _check_accounts(rung: Rung, found: Mapping[str, Value]) -> None:
    codes = meanings(found["payment_accounts"]) if isinstance(found.get("payment_accounts"), str) else {}
    unknown = sorted(set(codes.values()) - {code for code, _ in clearing_choices()}) if codes else []
    if unknown:
        raise BadInputError(f"There is no clearing account {', '.join(unknown)}.", field="payment_accounts")


@add_check
def _check_handler(rung: Rung, found: Mapping[str, Value]) -> None:
    name = found.get("handled_by")
    if name and name not in dict(handlers()):
        raise BadInputError(f"Nobody called {name} handles orders in this company.", field="handled_by")


@add_check
def _check_currency(rung: Rung, found: Mapping[str, Value]) -> None:
    code = found.get("selling_currency")
    if not isinstance(code, str) or not code:
        return
    try:
        minor_unit(code)
    except BadInputError as error:
        raise BadInputError(error.detail, field="selling_currency") from error
    if code == company().base_currency:
        raise BadInputError("The company sells in this currency anyway; leave it empty.", field="selling_currency")


NAMES = (
    *MAPS,
    "selling_currency",
    "ledger_document",
    "ledger_order",
    "ledger_contact",
    "unknown_lines",
    "refund_goods",
    "cancelled_goods",
    "shipments_told",
    "handled_by",
    "order_prefix",
    "backorders",
    "cash_customer",
    "payment_days",
    "send_within",
    "fee_percent",
    "fee_fixed",
)


@dataclass(frozen=True)
class OrderRules:
    """What is set about the orders of one connection; `fee_fixed` in the company's currency."""

    prefix: str
    backorders: bool
    cash_customer: str
    payment_days: int
    send_within: int | None
    fee_percent: Decimal
    fee_fixed: Decimal
    nameless: bool
    sells_in: str
    daily: bool
    ledger_order: str
    ledger_contact: str
    goods_refunded: str
    goods_wait: bool
    shipments: str
    handled_by: str
    states: Mapping[str, str]
    states_told: Mapping[str, str]
    accounts: Mapping[str, str]
    carriers: Mapping[str, str]
    charges: Mapping[str, str]

    def send_by(self, placed: date) -> date | None:
        """The day until which an order placed on a day has to leave, where the channel does not say."""
        return None if self.send_within is None else placed + timedelta(days=self.send_within)

    def contact(self, customer: Any, *, owed: bool) -> str:
        """Whom the ledger books an invoice or a credit to: who owes it by name, else the cash-sale customer."""
        name = str(customer.name) if customer else ""
        return name if owed and name else self.cash_customer or name or "Cash sale"

    def refund_goods(self, at_till: bool) -> str:
        """What becomes of goods that were paid back: *expected*, *stock* or *nothing*."""
        usual = "stock" if at_till else "expected"
        return usual if self.goods_refunded == "usual" else self.goods_refunded

    def gather(self, connection: Any) -> str:
        """With what the ledger is told of a connection's sales, a day at a time; empty where of each by itself."""
        return str(connection.name) if self.daily else ""


def order_rules(connection: Any) -> OrderRules:
    """What is set about the orders of a connection, in one query."""
    return order_rules_of([connection])[connection.pk]


def order_rules_of(connections: Iterable[Any]) -> dict[int, OrderRules]:
    """The same of several connections, in one query."""
    ways = {connection.pk: _rungs(connection) for connection in connections}
    given = given_on([rung for rungs in ways.values() for rung in rungs], NAMES)
    return {
        pk: _rules({name: resolve(SETTINGS[name], rungs, given.get(name, {})).value for name in NAMES})
        for pk, rungs in ways.items()
    }


def _rungs(connection: Any) -> list[Rung]:
    return [
        Rung(Level.CONNECTION, connection.name, connection.pk),
        Rung(Level.KIND, f"every {connection.kind}", kind=connection.kind),
        company_rung(),
    ]


def _rules(worth: Mapping[str, Any]) -> OrderRules:
    return OrderRules(
        worth["order_prefix"],
        worth["backorders"] == "taken",
        worth["cash_customer"],
        int(worth["payment_days"]),
        None if worth["send_within"] is None else int(worth["send_within"]),
        Decimal(worth["fee_percent"]),
        Decimal(worth["fee_fixed"]),
        worth["unknown_lines"] == "flagged",
        worth["selling_currency"],
        worth["ledger_document"] == "day",
        worth["ledger_order"],
        worth["ledger_contact"],
        worth["refund_goods"],
        worth["cancelled_goods"] == "wait",
        worth["shipments_told"],
        str(worth["handled_by"] or ""),
        *(meanings(worth[name]) for name in MAPS),
    )
