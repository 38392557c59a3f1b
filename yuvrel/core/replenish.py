"""How much to buy or to send: need over lead time and cover, safety stock, packs, breaks, expiry, cover."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import ROUND_CEILING, ROUND_FLOOR, Decimal
from functools import cached_property
from typing import Literal

from scipy.special import ndtri

from .errors import BadInputError
from .money import ZERO, spoken
from .outlook import Outlook
from .working import Step, Working

HORIZON_DAYS = 90
SafetyMethod = Literal["units", "days", "service"]
Method = Literal["cover", "min_max"]
YEAR = 365


@dataclass(frozen=True)
class Policy:
    """How an item is replenished at a location.

    `safety` names the method; its figure is units, days of cover or a service level (0-1), which is
    taken over the lead time and `review_days` (days between two occasions to order; 0: any day).
    `normal` asks for the normal formula where calibrated errors are at hand. `method` "min_max":
    at or below `reorder_point`, order up to `order_up_to`.
    """

    lead_days: int
    cover_days: int
    safety: SafetyMethod = "service"
    safety_figure: Decimal = Decimal("0.95")
    lead_deviation_days: Decimal = ZERO
    minimum: Decimal = ZERO
    pack: Decimal = Decimal(1)
    normal: bool = False
    review_days: int = 0
    method: Method = "cover"
    reorder_point: Decimal = ZERO
    order_up_to: Decimal = ZERO

    def __post_init__(self) -> None:
        figures = (self.safety_figure, self.minimum, self.pack, self.reorder_point, self.order_up_to, self.lead_deviation_days)
        if not all(x.is_finite() for x in figures):
            raise BadInputError("A policy's figures must be finite.", field="safety_figure")
        if self.lead_days < 0 or self.cover_days < 0 or self.review_days < 0 or self.lead_deviation_days < 0:
            raise BadInputError("Lead time, cover and review cannot be negative.", field="lead_days")
        if self.pack <= 0:
            raise BadInputError("A pack must hold more than zero units.", field="pack")
        if self.safety == "service" and not 0 < self.safety_figure < 1:
            raise BadInputError("A service level lies between 0 and 1.", field="safety_figure")
        if self.method == "min_max" and self.order_up_to < self.reorder_point:
            raise BadInputError("The maximum lies below the reorder point.", field="order_up_to")

    @property
    def days(self) -> int:
        """The planning period."""
        return self.lead_days + self.cover_days


@dataclass(frozen=True)
class Position:
    """Stock and promises at the place to be filled; dated things are (days from today, units).

    `preorders`: promised for a day to come. `lots`: what is on hand by the day on which it expires.
    `to_feed`: what the places fed from here need.
    """

    on_hand: Decimal
    committed: Decimal = ZERO
    backordered: Decimal = ZERO
    arrivals: Sequence[tuple[int, Decimal]] = ()
    transfers: Decimal = ZERO
    preorders: Sequence[tuple[int, Decimal]] = ()
    lots: Sequence[tuple[int, Decimal]] = ()
    to_feed: Decimal = ZERO

    def __post_init__(self) -> None:
        parts = [self.on_hand, self.committed, self.backordered, self.transfers, self.to_feed]
        dated = [units for _, units in [*self.arrivals, *self.preorders, *self.lots]]
        if not all(x.is_finite() for x in [*parts, *dated]):
            raise BadInputError("Stock and promises must be finite numbers.", field="on_hand")
        if any(x < 0 for x in [*parts[1:], *dated]):
            raise BadInputError("Only stock on hand can be below zero.", field="committed")

    @property
    def free(self) -> Decimal:
        """On hand less committed."""
        return self.on_hand - self.committed

    def due(self, days: int) -> Decimal:
        """Incoming within `days`."""
        return sum((units for when, units in self.arrivals if when <= days), ZERO)

    def promised(self, days: int) -> Decimal:
        """Pre-orders for a day within `days`."""
        return sum((units for when, units in self.preorders if when <= days), ZERO)


@dataclass(frozen=True)
class SupplierTerms:
    """What the supplier asks: price breaks for all units (from quantity, price), and days that what arrives keeps.

    `holding_rate`: a year's cost of keeping stock, as a share of its value; a break is taken when it
    saves more than keeping the extra units costs.
    """

    breaks: tuple[tuple[Decimal, Decimal], ...] = ()
    holding_rate: Decimal = Decimal("0.25")
    keeps_days: int | None = None

    def __post_init__(self) -> None:
        figures = [self.holding_rate, *(figure for row in self.breaks for figure in row)]
        if not all(x.is_finite() and x >= 0 for x in figures):
            raise BadInputError("Prices and what keeping costs must be finite and not negative.", field="breaks")

    def price(self, quantity: Decimal) -> Decimal:
        """Price a unit for an order of `quantity`; the first break's below it; 0 without any."""
        rows = sorted(self.breaks)
        fitting = [price for least, price in rows if least <= quantity]
        return fitting[-1] if fitting else rows[0][1] if rows else ZERO


@dataclass(frozen=True)
class Ribbon:
    """What the cover ribbon draws, all in days from today (at most HORIZON_DAYS)."""

    solid_until: float
    sure_until: float
    lead: int
    arrivals: tuple[tuple[int, Decimal], ...]
    late: bool


@dataclass(frozen=True)
class Terms:
    """The parts of the sum that leads to a suggestion, in units."""

    demand: Decimal
    safety: Decimal
    preorders: Decimal
    expiring: Decimal
    due: Decimal
    need: Decimal
    packed: Decimal
    broken: Decimal
    limit: Decimal | None


@dataclass(frozen=True)
class Suggestion:
    """The quantity to order, why, and how long the stock lasts without it."""

    quantity: Decimal
    need: Decimal
    safety_stock: Decimal
    reorder_point: Decimal
    cover_days: Decimal | None
    ribbon: Ribbon
    terms: Terms
    policy: Policy
    position: Position
    outlook: Outlook
    offer: SupplierTerms
    subject: str
    source: str = ""

    @property
    def price(self) -> Decimal:
        """Price a unit at the suggested quantity."""
        return self.offer.price(self.quantity)

    @property
    def out_in_days(self) -> int | None:
        """Whole days until the stock is gone by the forecast path; None when it lasts."""
        return None if self.cover_days is None else int(self.cover_days)

    def out_on(self, today: date) -> date | None:
        """The day on which the stock is gone by the forecast path; None when it lasts."""
        return None if self.out_in_days is None else today + timedelta(days=self.out_in_days)

    @property
    def overstock(self) -> Decimal:
        """On hand + incoming - demand over the planning period, if positive."""
        held = self.position.on_hand + self.position.due(YEAR * 10)
        return max(ZERO, held - self.terms.demand)

    @cached_property
    def working(self) -> Working:
        """The sum behind the quantity."""
        return _working(self)


def to_packs(need: Decimal, minimum: Decimal, pack: Decimal) -> Decimal:
    """`need` up to the minimum quantity, then up to whole packs; zero when nothing is needed."""
    if need <= 0:
        return ZERO
    wanted = max(need, minimum)
    return (wanted / pack).to_integral_value(rounding=ROUND_CEILING) * pack


def lost_to_expiry(lots: Sequence[tuple[int, Decimal]], outlook: Outlook) -> Decimal:
    """Units that expire before the forecast path sells them, the first to expire sold first (0.1 units)."""
    sold = lost = 0.0
    for day, units in sorted(lots):
        kept = min(float(units), max(0.0, outlook.total(day) - sold))
        sold += kept
        lost += float(units) - kept
    return _tenth(lost)


def _tenth(value: float) -> Decimal:
    return Decimal(str(round(value, 1)))


def _safety(policy: Policy, outlook: Outlook) -> Decimal:
    if policy.safety == "units":
        return policy.safety_figure
    if policy.safety == "days":
        rate = outlook.total(policy.days) / policy.days if policy.days else outlook.tail
        return _tenth(rate * float(policy.safety_figure))
    return _tenth(
        outlook.safety(
            float(policy.safety_figure),
            policy.lead_days + policy.review_days,
            float(policy.lead_deviation_days),
            normal=policy.normal,
        )
    )


def _cover(outlook: Outlook, position: Position) -> float | None:
    """Days until the stock at hand and the dated arrivals run out on the forecast path; None when they last.

    Pre-orders leave on their day; an arrival after the stock is gone comes too late to count.
    """
    stock = float(position.free - position.backordered)
    events = [(day, float(units)) for day, units in position.arrivals] + [
        (day, -float(units)) for day, units in position.preorders
    ]
    gone_by = 0.0
    for day, units in sorted(events):
        end = outlook.until(outlook.total(gone_by) + max(0.0, stock))
        if end is not None and end < day:
            return end
        stock += units - outlook.between(gone_by, day)
        gone_by = float(day)
        if stock <= 0 and units < 0:
            return gone_by
    return outlook.until(outlook.total(gone_by) + max(0.0, stock)) if outlook.tail or outlook.total(outlook.reach) else None


def _ribbon(outlook: Outlook, position: Position, policy: Policy, cover: float | None) -> Ribbon:
    until = HORIZON_DAYS if cover is None else min(cover, HORIZON_DAYS)
    rate = outlook.total(until) / until if until > 0 else 0.0
    blur = float(ndtri(0.9)) * outlook.spread(until) / rate if rate > 0 else 0.0
    shown = tuple((when, units) for when, units in position.arrivals if when <= HORIZON_DAYS)
    late = cover is not None and cover < policy.lead_days
    return Ribbon(round(until, 1), round(max(0.0, until - blur), 1), policy.lead_days, shown, late)


def _raised(quantity: Decimal, outlook: Outlook, policy: Policy, offer: SupplierTerms) -> Decimal:
    """Up to the next break, and the next, as long as all units cheaper save more than keeping the extra ones costs.

    Saving: quantity at the break × the price difference. Keeping: the extra units × price × rate a
    year × the time until half of them are sold after the rest. From break to break, so that less
    need never leads to more.
    """
    if quantity <= 0:
        return quantity
    for least, price in sorted(offer.breaks):
        if least <= quantity:
            continue
        wanted = to_packs(least, policy.minimum, policy.pack)
        extra = wanted - quantity
        sold_by = outlook.until(float(quantity + extra / 2))
        if sold_by is None:
            break
        saved = wanted * (offer.price(quantity) - price)
        keeping = extra * price * offer.holding_rate * Decimal(str(round(sold_by / YEAR, 6)))
        if saved <= keeping:
            break
        quantity = wanted
    return quantity


def _limit(outlook: Outlook, position: Position, policy: Policy, offer: SupplierTerms, expiring: Decimal) -> Decimal | None:
    """The most whole packs that will be sold before what arrives expires; None when it keeps."""
    if offer.keeps_days is None:
        return None
    until = policy.lead_days + offer.keeps_days
    before = position.free - expiring + position.due(until) + position.transfers - position.backordered - position.promised(until)
    sold = Decimal(str(round(outlook.total(until), 6))) - max(ZERO, before) + position.to_feed + max(ZERO, -before)
    return max(ZERO, (sold / policy.pack).to_integral_value(rounding=ROUND_FLOOR) * policy.pack)


def suggest(
    outlook: Outlook, position: Position, policy: Policy, *, subject: str, offer: SupplierTerms | None = None, source: str = ""
) -> Suggestion:
    """Need over the planning period and the order that meets it.

    need = demand over (lead + cover) + safety + backorders + pre-orders due + what is fed from here
           - (on hand - committed - what expires unsold) - incoming due in the period - transfers on the way.
    Then up to the minimum, up to whole packs, up to a price break that pays, and never more than is
    sold before it expires. With "min_max": nothing above the reorder point, else up to the maximum.
    Check: 1.2 a day, lead 21, cover 30, safety 8, on hand 25, committed 4, incoming 10 in packs
    of 12 -> need 38.2 -> 48.
    """
    offer = offer or SupplierTerms()
    demand = _tenth(outlook.total(policy.days))
    safety = _safety(policy, outlook)
    preorders = position.promised(policy.days)
    expiring = lost_to_expiry(position.lots, outlook)
    due = position.due(policy.days)
    need = _need(position, policy, demand, safety, preorders, expiring, due)
    packed = to_packs(need, policy.minimum, policy.pack)
    broken = _raised(packed, outlook, policy, offer)
    limit = _limit(outlook, position, policy, offer, expiring)
    quantity = broken if limit is None else min(broken, limit)
    if quantity < policy.minimum:
        quantity = ZERO
    cover = _cover(outlook, position)
    point = policy.reorder_point if policy.method == "min_max" else _tenth(outlook.total(policy.lead_days)) + safety
    return Suggestion(
        quantity=quantity,
        need=need,
        safety_stock=safety,
        reorder_point=point,
        cover_days=None if cover is None else _tenth(cover),
        ribbon=_ribbon(outlook, position, policy, cover),
        terms=Terms(demand, safety, preorders, expiring, due, need, packed, broken, limit),
        policy=policy,
        position=position,
        outlook=outlook,
        offer=offer,
        subject=subject,
        source=source,
    )


def _need(
    position: Position, policy: Policy, demand: Decimal, safety: Decimal, preorders: Decimal, expiring: Decimal, due: Decimal
) -> Decimal:
    owed = position.backordered + preorders + position.to_feed
    held = position.free - expiring + due + position.transfers
    if policy.method == "min_max":
        at = held - owed
        return policy.order_up_to - at if at <= policy.reorder_point else ZERO
    return demand + safety + owed - held


def _working(s: Suggestion) -> Working:
    policy, position, terms = s.policy, s.position, s.terms
    steps = _first_steps(s)
    owed = [
        ("Backorders", position.backordered, "promised already"),
        ("Pre-orders due", terms.preorders, f"for a day within {policy.days} days"),
        ("To feed other places", position.to_feed, "filled from here"),
    ]
    steps += [Step(label, value, note, op="+") for label, value, note in owed if value]
    free = f"{spoken(position.on_hand)} − {spoken(position.committed)}"
    steps.append(Step("On hand less committed", position.free, free, op="-"))
    if terms.expiring:
        steps.append(Step("of which expires unsold", terms.expiring, "first to expire goes first", op="+"))
    steps.append(Step(f"Incoming within {policy.days} days", terms.due, "on open orders", op="-"))
    if position.transfers:
        steps.append(Step("Transfers on the way", position.transfers, op="-"))
    steps.append(Step("Needed", terms.need, kind="subtotal"))
    if terms.need > 0 and policy.minimum > terms.need:
        steps.append(Step("up to the minimum", policy.minimum, kind="fact"))
    if terms.broken > terms.packed:
        price = f"{spoken(s.offer.price(terms.broken))} instead of {spoken(s.offer.price(terms.packed))} each"
        steps.append(Step("up to a price break", terms.broken, price, kind="fact"))
    if terms.limit is not None and terms.limit < terms.broken:
        note = f"sold before it expires, {s.offer.keeps_days} days after arrival"
        steps.append(Step("no more than", terms.limit, note, kind="fact"))
    steps.append(Step("Send" if s.source else "Order", s.quantity, _last_note(s), kind="result"))
    title = f"How many should come from {s.source}?" if s.source else "How many should we buy?"
    return Working(title, s.subject, tuple(steps), s.outlook.sentence)


def _first_steps(s: Suggestion) -> list[Step]:
    policy, terms = s.policy, s.terms
    if policy.method == "min_max":
        note = f"at or below {spoken(policy.reorder_point)}"
        return [Step("Order up to", policy.order_up_to, note)]
    figure = {
        "units": "fixed units",
        "days": f"{spoken(policy.safety_figure)} days of sales",
        "service": f"service {policy.safety_figure * 100:.0f} %",
    }[policy.safety]
    if policy.safety == "service" and s.outlook.measured:
        figure += ", normal formula" if policy.normal else ", by past errors"
    return [
        Step(f"Demand, {policy.days} days", terms.demand, f"{policy.lead_days} lead + {policy.cover_days} cover"),
        Step("Safety stock", terms.safety, figure, op="+"),
    ]


def _last_note(s: Suggestion) -> str:
    if s.quantity > 0:
        return "whole units" if s.policy.pack == 1 else f"whole packs of {spoken(s.policy.pack)}"
    if s.terms.need > 0:
        return f"less than the minimum of {spoken(s.policy.minimum)} would be sold before it expires"
    return "none needed"
