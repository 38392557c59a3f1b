"""What goods cost as they come and go: at the moving weighted average, or first in, first out; with exact value and the
below-zero true-up.

The state keeps a quantity and a *value*, not a rounded average, so that the value of stock
never drifts from the inventory account by a rounding cent. IAS 2, paragraphs 25 and 27
allow the weighted average, recomputed with each receipt, and first in, first out: the units that came
in first leave first, at what they came in at.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import Protocol

from .errors import BadInputError
from .money import ZERO, round_money, round_unit_cost


@dataclass(frozen=True)
class Layer:
    """Units that came in together and are still there: how many, what they are worth, and with which document they came."""

    quantity: Decimal
    value: Decimal
    came: str = ""


@dataclass(frozen=True)
class CostState:
    """What an item's stock is worth: quantity, value in base currency, last known average.

    Below zero both quantity and value are negative: what was issued at the last average
    without being there yet. `layers`: the same units in the order in which they came, where that counts.
    """

    quantity: Decimal = ZERO
    value: Decimal = ZERO
    last_average: Decimal = ZERO
    layers: tuple[Layer, ...] = ()

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


class Valuation(Protocol):
    """A way to say what units that leave are worth. `came` names the document with which units come in."""

    def receive(self, state: CostState, quantity: Decimal, value: Decimal, currency: str = "EUR", came: str = "") -> CostChange:
        """Add units worth `value` in total. Raises BadInputError as `receive`."""
        ...

    def issue(self, state: CostState, quantity: Decimal, currency: str = "EUR") -> CostChange:
        """Take units out. Raises BadInputError as `issue`."""
        ...


class MovingAverage:
    """Every unit is worth the same."""

    def receive(self, state: CostState, quantity: Decimal, value: Decimal, currency: str = "EUR", came: str = "") -> CostChange:
        """As `receive`; no layers are kept."""
        return receive(state, quantity, value, currency)

    def issue(self, state: CostState, quantity: Decimal, currency: str = "EUR") -> CostChange:
        """As `issue`; no layers are kept."""
        return issue(state, quantity, currency)


class FirstInFirstOut:
    """Units leave in the order in which they came, each at what it came in at (IAS 2, paragraph 27).

    Check: 100 for 1000.00, then 100 for 1200.00; 150 that leave take 1600.00, and 50 stay worth 600.00. What was there
    when the method was chosen is one layer. Units issued below zero leave at the cost of one of the last layer.
    """

    def receive(self, state: CostState, quantity: Decimal, value: Decimal, currency: str = "EUR", came: str = "") -> CostChange:
        """As `receive`; what is left of the units after those owed is the newest layer."""
        change = receive(state, quantity, value, currency)
        before = layers_of(state)
        units = change.after.quantity - sum((one.quantity for one in before), ZERO)
        worth = change.after.value - sum((one.value for one in before), ZERO)
        layers = (*before, Layer(units, worth, came)) if change.after.quantity > 0 else ()
        return replace(change, after=replace(change.after, layers=layers))

    def issue(self, state: CostState, quantity: Decimal, currency: str = "EUR") -> CostChange:
        """The oldest layers first; a layer's last unit takes all that is left of it."""
        layers = layers_of(state)
        if not layers:
            return issue(state, quantity, currency)
        if quantity <= 0:
            raise BadInputError("An issue needs a quantity greater than zero.", field="quantity")
        cost, left, kept = ZERO, quantity, list(layers)
        unit = state.last_average
        while left and kept:
            first = kept.pop(0)
            taken = min(left, first.quantity)
            unit = round_unit_cost(first.value / first.quantity)
            part = first.value if taken == first.quantity else round_money(first.value * taken / first.quantity, currency)
            cost, left = cost + part, left - taken
            if taken < first.quantity:
                kept.insert(0, replace(first, quantity=first.quantity - taken, value=first.value - part))
        # What is not there leaves at the cost of the last that was.
        cost += round_money(unit * left, currency)
        after = CostState(state.quantity - quantity, state.value - cost, unit, tuple(kept))
        return CostChange(state, replace(after, last_average=after.average), -cost)


def layers_of(state: CostState) -> tuple[Layer, ...]:
    """The layers of what is there: those kept, or one of everything where none were or they are of another time."""
    if state.quantity <= 0:
        return ()
    units, worth = sum((one.quantity for one in state.layers), ZERO), sum((one.value for one in state.layers), ZERO)
    return state.layers if (units, worth) == (state.quantity, state.value) else (Layer(state.quantity, state.value),)


def as_kept(layers: Sequence[Layer]) -> list[list[str]]:
    """Layers as they are kept beside an item's cost."""
    return [[str(one.quantity), str(one.value), one.came] for one in layers]


def from_kept(rows: Sequence[Sequence[str]]) -> tuple[Layer, ...]:
    """Layers as `as_kept` wrote them."""
    return tuple(Layer(Decimal(units), Decimal(worth), came) for units, worth, came in rows)


VALUATIONS: dict[str, Valuation] = {"average": MovingAverage(), "fifo": FirstInFirstOut()}
