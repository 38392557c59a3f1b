"""How much to buy: need over lead time and cover, safety stock, packs, cover and the ribbon."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import ROUND_CEILING, Decimal
from typing import Literal

from scipy.special import ndtri

from .demand import Velocity, velocity_sentence
from .errors import BadInputError
from .money import ZERO
from .working import Step, Working

HORIZON_DAYS = 90
SafetyMethod = Literal["units", "days", "service"]


@dataclass(frozen=True)
class Policy:
    """How an item is replenished at a location.

    `safety` names the method; its figure is units, days of cover or a service level (0-1).
    """

    lead_days: int
    cover_days: int
    safety: SafetyMethod = "service"
    safety_figure: Decimal = Decimal("0.95")
    lead_deviation_days: Decimal = ZERO
    minimum: Decimal = ZERO
    pack: Decimal = Decimal(1)

    def __post_init__(self) -> None:
        if self.lead_days < 0 or self.cover_days < 0:
            raise BadInputError("Lead time and cover cannot be negative.", field="lead_days")
        if self.pack <= 0:
            raise BadInputError("A pack must hold more than zero units.", field="pack")
        if self.safety == "service" and not 0 < self.safety_figure < 1:
            raise BadInputError("A service level lies between 0 and 1.", field="safety_figure")


@dataclass(frozen=True)
class Position:
    """Stock and promises at the place to be filled; `arrivals` are (days from today, units)."""

    on_hand: Decimal
    committed: Decimal = ZERO
    backordered: Decimal = ZERO
    arrivals: Sequence[tuple[int, Decimal]] = ()
    transfers: Decimal = ZERO


@dataclass(frozen=True)
class Ribbon:
    """What the cover ribbon draws, all in days from today (at most HORIZON_DAYS)."""

    solid_until: float
    sure_until: float
    lead: int
    arrivals: tuple[tuple[int, Decimal], ...]
    late: bool


@dataclass(frozen=True)
class Suggestion:
    """The quantity to order, why, and how long the stock lasts without it."""

    quantity: Decimal
    need: Decimal
    safety_stock: Decimal
    reorder_point: Decimal
    cover_days: Decimal | None
    ribbon: Ribbon
    working: Working


def safety_stock(level: float, daily_mean: float, daily_deviation: float, lead_days: float, lead_deviation: float = 0.0) -> float:
    """z × √(L × σ_d² + d² × σ_L²), in units.

    Source: Snyder and Shen, Fundamentals of Supply Chain Theory, 2nd ed. (Wiley 2019),
    safety stock with random lead time; z is the standard normal quantile of `level`.
    Check: N(50, 8) a day, lead time N(7, 1.5), 0.95 -> 128.18.
    """
    deviation = math.sqrt(lead_days * daily_deviation**2 + daily_mean**2 * lead_deviation**2)
    return max(0.0, float(ndtri(level)) * deviation)


def to_packs(need: Decimal, minimum: Decimal, pack: Decimal) -> Decimal:
    """`need` up to the minimum quantity, then up to whole packs; zero when nothing is needed."""
    if need <= 0:
        return ZERO
    wanted = max(need, minimum)
    return (wanted / pack).to_integral_value(rounding=ROUND_CEILING) * pack


def _safety(policy: Policy, velocity: Velocity) -> Decimal:
    if policy.safety == "units":
        return policy.safety_figure
    if policy.safety == "days":
        return (velocity.per_day * policy.safety_figure).quantize(Decimal("0.1"))
    units = safety_stock(
        float(policy.safety_figure),
        float(velocity.per_day),
        float(velocity.deviation),
        policy.lead_days,
        float(policy.lead_deviation_days),
    )
    return Decimal(str(round(units, 1)))


def _cover(velocity: Velocity, position: Position) -> float | None:
    """Days until the stock at hand and the dated arrivals run out; None when nothing sells."""
    rate = float(velocity.per_day)
    stock = float(position.on_hand - position.committed - position.backordered)
    if rate <= 0:
        return None
    day = 0.0
    for when, units in sorted(position.arrivals):
        if when > day + max(0.0, stock) / rate:
            break
        stock -= rate * (when - day)
        stock += float(units)
        day = float(when)
    return day + max(0.0, stock) / rate


def _ribbon(velocity: Velocity, position: Position, policy: Policy, cover: float | None) -> Ribbon:
    until = HORIZON_DAYS if cover is None else min(cover, HORIZON_DAYS)
    rate = float(velocity.per_day)
    blur = 0.0
    if rate > 0 and until > 0:
        blur = float(ndtri(0.9)) * float(velocity.deviation) * math.sqrt(until) / rate
    shown = tuple((when, units) for when, units in position.arrivals if when <= HORIZON_DAYS)
    late = cover is not None and cover < policy.lead_days
    return Ribbon(round(until, 1), round(max(0.0, until - blur), 1), policy.lead_days, shown, late)


def suggest(velocity: Velocity, position: Position, policy: Policy, *, subject: str) -> Suggestion:
    """Need over the planning period and the order that meets it.

    need = demand over (lead + cover) + safety + backorders - (on hand - committed)
           - incoming due in the period - transfers on the way.
    Check: 1.2 a day, lead 21, cover 30, safety 8, on hand 25, committed 4, incoming 10 in packs
    of 12 -> need 38.2 -> 48.
    """
    days = policy.lead_days + policy.cover_days
    demand = (velocity.per_day * days).quantize(Decimal("0.1"))
    safety = _safety(policy, velocity)
    due = sum((units for when, units in position.arrivals if when <= days), ZERO)
    free = position.on_hand - position.committed
    need = demand + safety + position.backordered - free - due - position.transfers
    quantity = to_packs(need, policy.minimum, policy.pack)
    cover = _cover(velocity, position)
    point = (velocity.per_day * policy.lead_days + safety).quantize(Decimal("0.1"))
    working = _working(velocity, position, policy, demand, safety, due, need, quantity, subject)
    return Suggestion(
        quantity,
        need,
        safety,
        point,
        None if cover is None else Decimal(str(round(cover, 1))),
        _ribbon(velocity, position, policy, cover),
        working,
    )


def _working(
    velocity: Velocity,
    position: Position,
    policy: Policy,
    demand: Decimal,
    safety: Decimal,
    due: Decimal,
    need: Decimal,
    quantity: Decimal,
    subject: str,
) -> Working:
    days = policy.lead_days + policy.cover_days
    figure = {
        "units": "fixed units",
        "days": f"{policy.safety_figure.normalize():f} days of sales",
        "service": f"service {policy.safety_figure * 100:.0f} %",
    }[policy.safety]
    steps = [
        Step(f"Demand, {days} days", demand, f"{policy.lead_days} lead + {policy.cover_days} cover"),
        Step("Safety stock", safety, figure, op="+"),
    ]
    if position.backordered:
        steps.append(Step("Backorders", position.backordered, "promised already", op="+"))
    steps.append(
        Step(
            "On hand less committed",
            position.on_hand - position.committed,
            f"{position.on_hand.normalize():f} − {position.committed.normalize():f}",
            op="-",
        )
    )
    steps.append(Step(f"Incoming within {days} days", due, "on open orders", op="-"))
    if position.transfers:
        steps.append(Step("Transfers on the way", position.transfers, op="-"))
    steps.append(Step("Needed", need, kind="subtotal"))
    if need > 0 and policy.minimum > need:
        steps.append(Step("up to the minimum", policy.minimum, kind="fact"))
    pack = "none needed" if quantity == 0 else f"whole packs of {policy.pack.normalize():f}"
    steps.append(Step("Order", quantity, pack, kind="result"))
    return Working("How many should we buy?", subject, tuple(steps), velocity_sentence(velocity))
