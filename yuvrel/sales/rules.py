"""What can be set about the orders of a connection and what becomes of them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from yuvrel.catalogue.rungs import company_rung
from yuvrel.core.rules import OF_CONNECTIONS, Level, Rung, Setting, resolve
from yuvrel.people.roles import Ability
from yuvrel.rules.queries import given_on
from yuvrel.rules.registry import SETTINGS, declare

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
NAMES = ("order_prefix", "backorders", "cash_customer", "fee_percent", "fee_fixed")


@dataclass(frozen=True)
class OrderRules:
    """What is set about the orders of one connection; `fee_fixed` in the company's currency."""

    prefix: str
    backorders: bool
    cash_customer: str
    fee_percent: Decimal
    fee_fixed: Decimal


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
        Decimal(worth["fee_percent"]),
        Decimal(worth["fee_fixed"]),
    )
