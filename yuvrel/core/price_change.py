"""Changing many prices by one rule, and what that would do."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from functools import cached_property
from typing import Literal

from .errors import BadInputError
from .money import ZERO, round_money, spoken
from .pricing import (
    HUNDRED,
    MOST_PRICE,
    ONE,
    ItemFacts,
    Method,
    PriceList,
    Rounding,
    ending_step,
    margin_percent,
    net_from_cost,
    put_tax,
    take_tax,
    with_ending,
)

By = Literal["percent", "amount", "margin", "markup", "ending"]


@dataclass(frozen=True)
class PriceRule:
    """How prices are changed: by so many per cent or so much, to a margin or markup on cost, or only to an ending."""

    by: By
    value: Decimal = ZERO
    ending: Decimal | None = None
    rounding: Rounding = Rounding.UP

    def __post_init__(self) -> None:
        if self.by == "percent" and self.value <= -HUNDRED:
            raise BadInputError("More than everything cannot be taken off.", field="value")
        if self.by == "margin" and not 0 <= self.value < HUNDRED:
            raise BadInputError("A margin lies between 0 and below 100 %.", field="value")
        if self.by == "markup" and self.value < 0:
            raise BadInputError("A markup is not below zero.", field="value")
        if self.by == "ending" and self.ending is None:
            raise BadInputError("Say which ending.", field="ending")

    def words(self, currency: str) -> str:
        """The rule as a person says it."""
        if self.ending is not None:
            ending_step(self.ending, currency)
        tail = f", ending {self.ending:.2f}" if self.ending is not None else ""
        match self.by:
            case "percent":
                return f"{spoken(self.value, signed=True)} %{tail}"
            case "amount":
                return f"{spoken(self.value, signed=True)} {currency}{tail}"
            case "ending":
                return f"to the ending {self.ending or ZERO:.2f}"
        return f"to {spoken(self.value)} % {self.by}{tail}"


def changed_price(
    now: Decimal | None, rule: PriceRule, one: PriceList, facts: ItemFacts, rate: Decimal | None = ONE
) -> Decimal | None:
    """The price of one that a rule comes to in a list, rounded to its currency; None where there is nothing to go by.
    `rate`: of the list's currency for one of the company's, None where it is not known.

    Raises BadInputError when it would fall below zero, or the ending cannot be.
    """
    if rule.by in ("margin", "markup"):
        cost = facts.cost(one.basis)
        if cost is None or rate is None:
            return None
        amount = round_money(net_from_cost(cost, Method(rule.by), rule.value) * rate, one.currency)
        amount = put_tax(amount, facts.tax_percent, one.currency) if one.taxed else amount
    elif now is None:
        return None
    elif rule.by == "percent":
        amount = round_money(now * (HUNDRED + rule.value) / HUNDRED, one.currency)
    else:
        amount = now + (rule.value if rule.by == "amount" else ZERO)
    if amount < 0:
        raise BadInputError(f"A price of {spoken(now or ZERO)} would fall below zero.", field="value")
    if rule.ending is not None and amount > 0:
        amount = with_ending(amount, rule.ending, rule.rounding, one.currency)
    if amount >= MOST_PRICE:
        raise BadInputError(f"A price of {spoken(now or ZERO)} would become larger than can be kept.", field="value")
    return amount


@dataclass(frozen=True)
class PriceShift:
    """One item's price now and then (None: none), its tax where the list holds tax, its cost in the list's currency,
    the units that leave in the time compared, and the margin floor."""

    key: int
    now: Decimal | None
    then: Decimal | None
    tax_percent: Decimal = ZERO
    cost: Decimal | None = None
    units: Decimal = ZERO
    floor: Decimal | None = None

    @cached_property
    def _net(self) -> tuple[Decimal | None, Decimal | None]:
        now = None if self.now is None else take_tax(self.now, self.tax_percent)
        return now, None if self.then is None else take_tax(self.then, self.tax_percent)

    @cached_property
    def _margin(self) -> Decimal | None:
        net = self._net[1]
        return None if net is None or self.cost is None else margin_percent(net, self.cost)

    @property
    def margin_then(self) -> Decimal | None:
        """Margin in per cent of the net price, to one decimal; None without a cost."""
        return None if self._margin is None else round(self._margin, 1)

    @property
    def is_below_floor(self) -> bool:
        """Whether the new price would be held."""
        return self.floor is not None and self._margin is not None and self._margin < self.floor

    @cached_property
    def gain(self) -> Decimal:
        """What the units bring more without tax, or less when below zero."""
        now, then = self._net
        return ZERO if now is None or then is None else (then - now) * self.units


@dataclass(frozen=True)
class Rehearsal:
    """All items together; `shifts`: those that change, those below the floor first, then what matters most."""

    items: int
    rising: int
    falling: int
    new: int
    gone: int
    below_floor: int
    margin_gained: Decimal
    margin_lost: Decimal
    shifts: tuple[PriceShift, ...]


def rehearse_prices(items: int, shifts: Sequence[PriceShift], currency: str = "EUR") -> Rehearsal:
    """Count what would change of `items` in all; margin gained and lost apart, at the same units as now."""
    moved = [one for one in shifts if one.now != one.then]
    both = [(one, one.now, one.then) for one in moved]
    order = sorted(moved, key=lambda one: (not one.is_below_floor, -abs(one.gain), one.key))
    gains = [one.gain for one in moved]
    return Rehearsal(
        items,
        sum(1 for _, now, then in both if now is not None and then is not None and then > now),
        sum(1 for _, now, then in both if now is not None and then is not None and then < now),
        sum(1 for _, now, _ in both if now is None),
        sum(1 for _, _, then in both if then is None),
        sum(1 for one in moved if one.is_below_floor),
        round_money(sum((gain for gain in gains if gain > 0), ZERO), currency),
        round_money(-sum((gain for gain in gains if gain < 0), ZERO), currency),
        tuple(order),
    )
