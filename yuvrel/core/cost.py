"""Moving weighted average cost with exact value and the below-zero true-up.

The state keeps a quantity and a *value*, not a rounded average, so that the value of stock
never drifts from the inventory account by a rounding cent. IAS 2, paragraphs 25 and 27
allow the weighted average; the average is recomputed with each receipt.
"""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

from .errors import BadInputError
from .money import ZERO, round_money, round_unit_cost
from .working import Step, Working


@dataclass(frozen=True)
class CostState:
    """What an item's stock is worth: quantity, value in base currency, last known average.

    Below zero both quantity and value are negative: what was issued at the last average
    without being there yet.
    """

    quantity: Decimal = ZERO
    value: Decimal = ZERO
    last_average: Decimal = ZERO

    @property
    def average(self) -> Decimal:
        """Cost per unit to six decimals; the last known one when nothing is held."""
        if self.quantity > 0:
            return round_unit_cost(self.value / self.quantity)
        return self.last_average


@dataclass(frozen=True)
class CostChange:
    """The outcome of one event: the state after it, the value that moved in (+) or out (-) of
    inventory, and the true-up that goes to cost of sales (positive: more cost)."""

    before: CostState
    after: CostState
    moved: Decimal
    true_up: Decimal = ZERO


def receive(state: CostState, quantity: Decimal, value: Decimal, currency: str = "EUR") -> CostChange:
    """Add `quantity` units worth `value` in total.

    A receipt first covers what had been issued below zero; the difference between its cost
    and the cost at which those units had left is the true-up.
    Check: -3 at 2.00, receive 10 for 25.00 -> true-up 1.50, state 7 worth 17.50.
    Raises BadInputError when the quantity is not positive or the value negative.
    """
    if quantity <= 0:
        raise BadInputError("A receipt needs a quantity greater than zero.", field="quantity")
    if value < 0:
        raise BadInputError("A receipt cannot have a negative value.", field="value")
    true_up = ZERO
    if state.quantity < 0:
        shortfall = -state.quantity
        covered = min(quantity, shortfall)
        cost_now = value if covered == quantity else round_money(value * covered / quantity, currency)
        cost_then = -state.value if covered == shortfall else round_money(-state.value * covered / shortfall, currency)
        true_up = cost_now - cost_then
    after_quantity = state.quantity + quantity
    after_value = state.value + value - true_up
    average = after_value / after_quantity if after_quantity > 0 else value / quantity
    after = CostState(after_quantity, after_value, round_unit_cost(average))
    return CostChange(state, after, value - true_up, true_up)


def issue(state: CostState, quantity: Decimal, currency: str = "EUR") -> CostChange:
    """Take `quantity` units out at the average; all of the value with the last unit.

    Below zero the units leave at the last known average. `moved` is negative.
    Raises BadInputError when the quantity is not positive.
    """
    if quantity <= 0:
        raise BadInputError("An issue needs a quantity greater than zero.", field="quantity")
    if state.quantity == quantity:
        cost = state.value
    elif state.quantity > 0:
        cost = round_money(state.value * quantity / state.quantity, currency)
    else:
        cost = round_money(state.last_average * quantity, currency)
    after = CostState(state.quantity - quantity, state.value - cost, state.average)
    return CostChange(state, after, -cost)


def change_working(change: CostChange, quantity: Decimal, cause: str) -> Working:
    """The sum behind an item's cost after one event."""
    before, after = change.before, change.after
    steps = [
        Step("Value before", before.value, f"{before.quantity} units"),
        Step(cause, abs(change.moved), f"{abs(quantity)} units", op="+" if change.moved >= 0 else "-"),
        Step("Value after", after.value, kind="subtotal"),
        Step("Units after", after.quantity, op="÷"),
        Step("Average cost", after.average, kind="result"),
    ]
    note = ""
    if change.true_up:
        note = f"{change.true_up} went to cost of sales: units sold before they were here left at the last known average."
    return Working("What does one cost?", cause, tuple(steps), note)
