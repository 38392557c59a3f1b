"""What a policy would have done: run over the past, or over simulated demand, period by period."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from scipy.special import ndtri

from .errors import BadInputError
from .forecast import Series, forecast
from .forecast.series import Floats, Mask

Safety = Literal["measured", "normal"]


@dataclass(frozen=True)
class Levels:
    """Reorder point and order-up-to level, n × periods, in units; order when stock and orders fall to the point."""

    reorder_point: Floats
    order_up_to: Floats


@dataclass(frozen=True)
class Rules:
    """How orders are placed: lead time and review in periods, pack and minimum in units.

    `backorders`: what is short is delivered later; else it is lost.
    """

    lead: int
    review: int = 1
    pack: float = 1.0
    minimum: float = 0.0
    backorders: bool = True

    def __post_init__(self) -> None:
        if self.lead < 0 or self.review < 1:
            raise BadInputError("A lead time cannot be negative, and the review interval is at least one period.", field="lead")
        if not (self.pack > 0 and np.isfinite(self.pack) and self.minimum >= 0):
            raise BadInputError("A pack must hold more than zero units.", field="pack")


@dataclass(frozen=True)
class Record:
    """What happened, n each.

    `fill_rate`: units served at once ÷ units asked for. `cycle_service`: share of replenishment
    cycles (from one receipt to the next) without a unit short. 1 where nothing was asked for.
    `average_stock`: units on hand at the end of a period, mean. `stock_value`: that × unit cost.
    """

    fill_rate: Floats
    cycle_service: Floats
    average_stock: Floats
    orders: Floats
    stock_value: Floats
    short: Floats

    def summary(self) -> dict[str, float]:
        """Means over the items, and sums of orders, value and units short."""
        return {
            "fill rate": float(self.fill_rate.mean()),
            "cycle service": float(self.cycle_service.mean()),
            "average stock": float(self.average_stock.mean()),
            "orders": float(self.orders.sum()),
            "stock value": float(self.stock_value.sum()),
            "units short": float(self.short.sum()),
        }


class _Books:
    """Counters of a run."""

    def __init__(self, n: int) -> None:
        self.asked, self.served, self.stock, self.orders = (np.zeros(n) for _ in range(4))
        self.cycles, self.clean = np.zeros(n), np.zeros(n)
        self.was_short = np.zeros(n, dtype=np.bool_)

    def close(self, ended: Mask) -> None:
        """A cycle ends where goods arrive."""
        self.cycles += ended
        self.clean += ended & ~self.was_short
        self.was_short &= ~ended


def run(demand: Floats, levels: Levels, rules: Rules, start: Floats, unit_cost: Floats | float = 1.0) -> Record:
    """Run levels over demand, n × periods.

    In each period: receive what was ordered `lead` periods ago, serve demand, then, at a review,
    order up to the level when on hand + on order - backorders is at or below the point (up to the
    minimum and whole packs). `start`: on hand before the first period, n.

    Raises BadInputError for demand that is NaN, infinite or negative, and for shapes that differ.
    """
    if not np.isfinite(demand).all() or (demand < 0).any():
        raise BadInputError("Demand must be finite and not negative.", field="demand")
    if levels.reorder_point.shape != demand.shape or levels.order_up_to.shape != demand.shape:
        raise BadInputError("Levels and demand must be tables of one shape.", field="levels")
    n, periods = demand.shape
    on_hand, owed = np.asarray(start, dtype=np.float64).copy(), np.zeros(n)
    pipeline = np.zeros((n, periods + rules.lead + 1))
    books = _Books(n)
    for at in range(periods):
        arrived = pipeline[:, at]
        books.close(arrived > 0)
        on_hand += arrived
        settled = np.minimum(on_hand, owed)
        on_hand, owed = on_hand - settled, owed - settled
        served = np.minimum(on_hand, demand[:, at])
        short = demand[:, at] - served
        on_hand -= served
        owed += short if rules.backorders else 0.0
        books.asked += demand[:, at]
        books.served += served
        books.was_short |= short > 1e-9
        books.stock += on_hand
        if at % rules.review == 0:
            held = on_hand - owed + pipeline[:, at + 1 :].sum(axis=1)
            wanted = np.where(held <= levels.reorder_point[:, at], levels.order_up_to[:, at] - held, 0.0)
            quantity = np.ceil(np.maximum(wanted, rules.minimum) / rules.pack - 1e-9) * rules.pack * (wanted > 1e-9)
            pipeline[:, at + 1 + rules.lead] += quantity
            books.orders += quantity > 0
    return _record(books, periods, unit_cost)


def _record(books: _Books, periods: int, unit_cost: Floats | float) -> Record:
    fill = np.divide(books.served, books.asked, out=np.ones_like(books.asked), where=books.asked > 0)
    service = np.divide(books.clean, books.cycles, out=np.ones_like(books.asked), where=books.cycles > 0)
    stock = books.stock / max(1, periods)
    return Record(fill, service, stock, books.orders, stock * unit_cost, books.asked - books.served)


def levels_from(
    series: Series,
    rules: Rules,
    level: float,
    cover: int,
    begin: int,
    every: int = 4,
    safety: Safety = "measured",
    method: str = "auto",
) -> Levels:
    """Levels for the periods from `begin` on, forecast anew every `every` periods from what was known then.

    Reorder point: mean demand over lead time and review + safety stock; order up to: `cover`
    periods of demand more. `level`: the service level; `safety` "normal" takes z × σ × √(lead + review)
    with σ the deviation of a period's demand in the past, "measured" the calibrated errors of the sum.
    """
    protect = rules.lead + rules.review
    n, width = series.count, series.length - begin
    point, up_to = np.zeros((n, width)), np.zeros((n, width))
    for origin in range(begin, series.length, every):
        known = series.until(origin)
        found = forecast(known, protect + cover, method)
        sums = np.cumsum(found.mean, axis=1)
        if safety == "normal":
            apart = np.where(known.known, known.values - known.mean[:, None], 0.0)
            variance = (apart**2).sum(axis=1) / np.maximum(known.known.sum(axis=1) - 1, 1)
            reach = sums[:, protect - 1] + float(ndtri(level)) * np.sqrt(variance * protect)
        else:
            reach = np.maximum(found.totals(level)[:, protect - 1], sums[:, protect - 1])
        columns = slice(origin - begin, min(width, origin - begin + every))
        point[:, columns] = reach[:, None]
        up_to[:, columns] = (reach + sums[:, -1] - sums[:, protect - 1])[:, None]
    return Levels(point, up_to)


def replay(
    series: Series,
    rules: Rules,
    level: float,
    cover: int,
    begin: int,
    unit_cost: Floats | float = 1.0,
    safety: Safety = "measured",
) -> Record:
    """Run a service-level policy over the past from period `begin` on, knowing at each time only what came before.

    Demand of periods that were not seen is taken to be the mean of those that were. Starts with
    the level of the first period in stock. Raises BadInputError when less than eight periods lie before `begin`.
    """
    if not 8 <= begin < series.length:
        raise BadInputError("The run must begin after eight periods and before the end.", field="begin")
    levels = levels_from(series, rules, level, cover, begin, safety=safety)
    demand = np.where(series.known, series.values, series.mean[:, None])[:, begin:]
    return run(demand, levels, rules, levels.order_up_to[:, 0].copy(), unit_cost)
