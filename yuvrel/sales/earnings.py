"""What orders earned, added up by the database for as many of them as are asked for."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence
from decimal import Decimal
from typing import Any

from django.apps import apps
from django.contrib.postgres.aggregates import BoolOr
from django.db.models import F, Q, QuerySet, Sum

from yuvrel.catalogue.kits import kits, parts_of
from yuvrel.core.money import ZERO, round_money
from yuvrel.core.orders import Profit
from yuvrel.platform.columns import Many
from yuvrel.stock.models import ItemCost

from .models import CreditNote, OrderLine, ReturnPart, SalesOrder, ShipmentLine
from .rules import OrderRules, order_rules_of

Earnings = Callable[[Any], Profit]
Rules = Mapping[int, OrderRules]
BASIS = "moving average cost"
# Goods, discounts (negative), shipping and surcharges, all of it with tax, and whether anything came or was given back.
Sums = Sequence[Any]
NOTHING: Sums = (ZERO, ZERO, ZERO, ZERO, False)


def rules_for(connections: Iterable[int]) -> Rules:
    """What is set about the orders of some connections, by connection."""
    return order_rules_of(apps.get_model("channels", "Connection").objects.filter(pk__in=connections))


def earnings(rows: Sequence[Any], rules: Rules | None = None) -> Earnings:
    """What is needed to say what each of some orders earned, read in a fixed number of queries; `rules`: as `rules_for`,
    where they have been read. Of an order its id, number, state, total, penalty and connection are looked at.

    Each is worked out when it is asked for, so that one that cannot be does not take the others along.
    """
    ids = Many(row.pk for row in rows)
    known = rules_for({row.connection_id for row in rows}) if rules is None else rules
    sums = _sums(ids)
    costs = _costs(ids)
    given, back = _given(ids, sums)

    def earned(row: Any) -> Profit:
        goods, discount, extras, lines, _ = sums.get(row.pk, NOTHING)
        fees = known[row.connection_id]
        return Profit(
            goods=goods,
            discount=-discount,
            extras=extras,
            goods_cost=costs[row.pk],
            basis=BASIS,
            fee_rate=fees.fee_percent,
            fee_fixed=fees.fee_fixed if row.pk in sums else ZERO,
            gross=row.total if row.state != SalesOrder.State.CANCELLED else lines,
            penalty=row.penalty,
            credited=given.get(row.pk, ZERO),
            cost_back=back.get(row.pk, ZERO),
            subject=f"Order {row.number}",
        )

    return earned


def _earning(ids: Many, line: str = "") -> Q:
    """The lines that orders earn by, seen from rows that have them as `line`: of one that was cancelled only what had left
    by then."""
    of = f"{line}__" if line else ""
    left = ~Q(**{f"{of}order__state": SalesOrder.State.CANCELLED}) | ~Q(**{f"{of}invoiced": 0})
    return Q(**{f"{of}order__any_of": ids}) & left


def _sums(ids: Many) -> dict[int, Sums]:
    """What the lines of each order come to, by what they are; orders without a line that earns are missing."""

    def net(*kinds: str) -> Sum:
        return Sum("net", filter=Q(kind__in=kinds), default=ZERO)

    rows: QuerySet[OrderLine, Any] = OrderLine.objects.filter(_earning(ids)).order_by().values_list("order_id")
    found = rows.annotate(
        goods=net("item", "service"),
        discount=net("discount"),
        extras=net("shipping", "surcharge"),
        gross=Sum(F("net") + F("tax")),
        back=BoolOr(Q(returned__gt=0) | ~Q(credited_net=0)),
    )
    return {order: of for order, *of in found}


def _costs(ids: Many) -> Mapping[int, Decimal]:
    """What the goods of each order cost: of what left, at the cost it left with; of the rest, at today's average."""
    left = ShipmentLine.objects.filter(_earning(ids, "order_line")).order_by().values_list("order_line__order_id")
    costs: dict[int, Decimal] = defaultdict(Decimal, left.annotate(cost=Sum("cost")))
    waiting = OrderLine.objects.filter(_earning(ids), item__isnull=False, shipped__lt=F("quantity")).order_by("pk")
    rest = list(waiting.values_list("order_id", "item_id", F("quantity") - F("shipped")))
    made = kits({item for _, item, _ in rest})
    takes = [(order, units, parts_of(made, item)) for order, item, units in rest]
    parts = {part for *_, of in takes for part, _ in of}
    average = dict(ItemCost.objects.filter(item__any_of=parts).values_list("item_id", "last_average"))
    for order, units, of in takes:
        costs[order] += sum((round_money(average.get(part, ZERO) * each * units) for part, each in of), ZERO)
    return costs


def _given(ids: Many, sums: Mapping[int, Sums]) -> tuple[dict[int, Decimal], dict[int, Decimal]]:
    """(given back of each order, without tax; what came back of it and is still ours, at the cost at which it left)."""
    if not any(back for *_, back in sums.values()):
        return {}, {}
    notes = CreditNote.objects.filter(order__any_of=ids).order_by().values_list("order_id")
    ours = ReturnPart.objects.filter(_earning(ids, "line__order_line")).exclude(kind=ReturnPart.Kind.WRITTEN_OFF)
    came = ours.order_by().values_list("line__order_line__order_id")
    return dict(notes.annotate(net=Sum("net"))), dict(came.annotate(value=Sum("value")))
