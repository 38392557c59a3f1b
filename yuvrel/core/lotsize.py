"""How much to order at once: the economic quantity, all-units discounts, last orders, dated lots.

Source of every formula and check value: Snyder and Shen, Fundamentals of Supply Chain Theory,
2nd ed. (Wiley 2019); the number of the worked example stands with each function. Costs are in one
currency; demand and holding are a year's unless said otherwise.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

from scipy.special import ndtri
from scipy.stats import norm

from .errors import BadInputError


def _positive(**values: float) -> None:
    for name, value in values.items():
        if not (math.isfinite(value) and value > 0):
            raise BadInputError(f"{name.replace('_', ' ').capitalize()} must be a number above zero.", field=name)


def economic_quantity(fixed_cost: float, holding: float, demand: float) -> tuple[float, float]:
    """(quantity, cost a year): √(2 × fixed × demand ÷ holding) and √(2 × fixed × demand × holding).

    Example 3.1: fixed 8, holding 0.225, demand 1300 -> 304.0468 and 68.4105. Raises BadInputError
    for what is not above zero.
    """
    _positive(fixed_cost=fixed_cost, holding=holding, demand=demand)
    return math.sqrt(2 * fixed_cost * demand / holding), math.sqrt(2 * fixed_cost * demand * holding)


def all_units_quantity(
    fixed_cost: float, holding_rate: float, demand: float, breaks: Sequence[tuple[float, float]]
) -> tuple[float, float]:
    """(quantity, cost a year with the goods) where reaching a break cheapens every unit.

    `breaks`: (from quantity, price), the first from 0. Example 3.5: fixed 8, rate 0.3, demand 1300,
    0.75 / 0.72 from 400 / 0.68 from 800 -> 800 and 978.60. Raises BadInputError as above, and without a price from 0.
    """
    _positive(fixed_cost=fixed_cost, holding_rate=holding_rate, demand=demand)
    rows = sorted(breaks)
    if not rows or rows[0][0] > 0:
        raise BadInputError("Price breaks need a price from the first unit on.", field="breaks")
    best = (math.inf, 0.0)
    for place, (least, price) in enumerate(rows):
        _positive(price=price)
        above = rows[place + 1][0] if place + 1 < len(rows) else math.inf
        quantity = max(economic_quantity(fixed_cost, holding_rate * price, demand)[0], least)
        if quantity < above:
            cost = price * demand + fixed_cost * demand / quantity + holding_rate * price * quantity / 2
            best = min(best, (cost, quantity))
    return best[1], best[0]


def normal_loss(z: float) -> float:
    """Expected units short per unit of deviation: φ(z) - z × (1 - Φ(z)). Check: 0.083315 at 1."""
    return float(norm.pdf(z) - z * norm.sf(z))


def newsvendor(holding: float, short: float, mean: float, deviation: float) -> tuple[float, float]:
    """(stock, expected cost) for a season sold from one order, normal demand.

    mean + z × deviation with Φ(z) = short ÷ (short + holding). Example 4.3: 0.18, 0.70, N(50, 8) ->
    56.6040 and 1.9976. Raises BadInputError for costs or a deviation not above zero.
    """
    _positive(holding=holding, short=short, deviation=deviation)
    z = float(ndtri(short / (short + holding)))
    return mean + z * deviation, (holding + short) * deviation * float(norm.pdf(z))


def reorder_point_and_quantity(
    fixed_cost: float, holding: float, short: float, demand: float, lead_mean: float, lead_deviation: float
) -> tuple[float, float]:
    """(reorder point, quantity) for continuous review, normal lead-time demand, cost per unit short.

    Iterates Q = √(2 λ (K + p n(r)) ÷ h) and 1 - F(r) = Q h ÷ (p λ) until both rest. Example 5.1:
    K 8, h 0.225, p 7.5, λ 1300, lead-time demand N(108.33, 43.30) -> 213.97 and 318.59. Raises
    BadInputError when a unit short costs too little for any stock to be worth keeping.
    """
    _positive(fixed_cost=fixed_cost, holding=holding, short=short, demand=demand, lead_deviation=lead_deviation)
    quantity, point = economic_quantity(fixed_cost, holding, demand)[0], 0.0
    for _ in range(200):
        share = quantity * holding / (short * demand)
        if share >= 1:
            raise BadInputError("A unit short costs too little for a reorder point.", field="short")
        z = float(-ndtri(share))
        before, point = point, lead_mean + z * lead_deviation
        quantity = math.sqrt(2 * demand * (fixed_cost + short * lead_deviation * normal_loss(z)) / holding)
        if abs(point - before) < 1e-9:
            break
    return point, quantity


def dated_lots(fixed_cost: float, holding: float, demand: Sequence[float]) -> tuple[list[float], float]:
    """(orders by period, cost) for known demand: Wagner and Whitin's dynamic program.

    `holding`: a unit kept from one period to the next. Example 3.9: 500, 2, demand 90, 120, 80, 70 ->
    210, 0, 150, 0 and 1380. Raises BadInputError for negative or not finite demand.
    """
    if any(not math.isfinite(d) or d < 0 for d in demand):
        raise BadInputError("Demand must be finite and not negative.", field="demand")
    n = len(demand)
    best: list[tuple[float, int]] = [(math.inf, n)] * n + [(0.0, n)]
    for begin in range(n - 1, -1, -1):
        kept = 0.0
        for end in range(begin + 1, n + 1):
            kept += holding * (end - 1 - begin) * demand[end - 1]
            best[begin] = min(best[begin], (fixed_cost + kept + best[end][0], end))
    orders, at = [0.0] * n, 0
    while at < n:
        end = best[at][1]
        orders[at] = float(sum(demand[at:end]))
        at = end
    return orders, best[0][0]
