"""Money in stock: what is too much, and what may still be bought."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal

from .errors import BadInputError
from .money import round_money, spoken
from .replenish import Suggestion
from .working import Step, Working

MONTH_DAYS = Decimal("30.4375")


@dataclass(frozen=True)
class Overstock:
    """Units above the planning period's demand, the months they last, and their value."""

    units: Decimal
    months: Decimal | None
    at_cost: Decimal
    at_retail: Decimal
    working: Working


def overstock(suggestion: Suggestion, cost: Decimal, retail: Decimal) -> Overstock:
    """Overstock = on hand + incoming - demand over the planning period, if positive.

    `months` = units ÷ monthly demand of the planning period (None when nothing sells); money is
    rounded to the cent. `cost` and `retail` are prices a unit.
    """
    units, days = suggestion.overstock, max(1, suggestion.policy.days)
    monthly = suggestion.terms.demand / days * MONTH_DAYS
    months = (units / monthly).quantize(Decimal("0.1")) if monthly > 0 else None
    held = suggestion.position.on_hand
    steps = (
        Step("On hand", held),
        Step("Incoming", suggestion.position.due(3650), "on open orders", op="+"),
        Step(f"Demand, {suggestion.policy.days} days", suggestion.terms.demand, "lead time and cover", op="-"),
        Step("Too much", units, "never below zero", kind="result"),
    )
    note = "Nothing of it sells." if months is None else f"It lasts {spoken(months)} months beyond the plan."
    return Overstock(
        units,
        months,
        round_money(units * cost),
        round_money(units * retail),
        Working("How much is too much?", suggestion.subject, steps, note if units else "Nothing is."),
    )


def ranked(rows: Sequence[Overstock]) -> list[int]:
    """Places of the rows by retail value, the highest first; equal ones stay in order."""
    return sorted(range(len(rows)), key=lambda at: -rows[at].at_retail)


@dataclass(frozen=True)
class Month:
    """Plans and facts of one month at retail, for all, a location or a category."""

    name: str
    sales: Decimal
    markdowns: Decimal
    closing_stock: Decimal
    opening_stock: Decimal
    on_order: Decimal


@dataclass(frozen=True)
class OpenToBuy:
    """What may still be bought in a month, at retail and at cost; below zero when too much was."""

    at_retail: Decimal
    at_cost: Decimal
    working: Working


def open_to_buy(month: Month, initial_markup: Decimal) -> OpenToBuy:
    """Planned sales + markdowns + closing stock - opening stock - on order; at cost × (1 - initial markup).

    Common practice of retail planning, no source. `initial_markup`: share of retail, 0 to below 1.
    Check: 50,000 + 2,000 + 60,000 - 55,000 - 20,000 = 37,000; at cost with 45 % 20,350. Raises
    BadInputError for a markup outside 0 to 1 or figures that are not finite.
    """
    figures = (month.sales, month.markdowns, month.closing_stock, month.opening_stock, month.on_order)
    if not all(x.is_finite() for x in figures):
        raise BadInputError("The plan holds a figure that is not a finite number.", field="sales")
    if not (initial_markup.is_finite() and 0 <= initial_markup < 1):
        raise BadInputError("An initial markup lies between 0 and 1.", field="initial_markup")
    retail = month.sales + month.markdowns + month.closing_stock - month.opening_stock - month.on_order
    cost = round_money(retail * (1 - initial_markup))
    steps = (
        Step("Planned sales", month.sales),
        Step("Planned markdowns", month.markdowns, op="+"),
        Step("Planned closing stock", month.closing_stock, op="+"),
        Step("Opening stock", month.opening_stock, op="-"),
        Step("On order", month.on_order, op="-"),
        Step("Open to buy at retail", retail, kind="subtotal"),
        Step("Open to buy at cost", cost, f"initial markup {initial_markup * 100:.0f} %", kind="result"),
    )
    note = "More is on order than the plan allows." if retail < 0 else ""
    return OpenToBuy(retail, cost, Working("What may still be bought?", month.name, steps, note))


def budget_left(plans: Sequence[OpenToBuy], ordered: Sequence[Decimal]) -> list[Decimal]:
    """Open to buy at cost less what a draft order would take, month by month."""
    if len(plans) != len(ordered):
        raise BadInputError("Each month has one amount.", field="ordered")
    return [plan.at_cost - amount for plan, amount in zip(plans, ordered, strict=True)]
