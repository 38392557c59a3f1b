"""Two and a quarter years of Larkmead: daily demand, deliveries, empty shelves, returns. Deterministic."""

from __future__ import annotations

import math
from collections import defaultdict
from dataclasses import dataclass, field
from datetime import date, timedelta
from decimal import Decimal

import numpy as np

from yuvrel.core import cost as costing
from yuvrel.core.money import round_money, round_unit_cost

from .range import BY_SKU, RATES, SEASONS, SPECS, SUPPLIERS, Spec

DAYS = 822
SEED = 20270314
PLACES = ("tannery-yard", "mill-lane", "wagon")
SHARE = {"tannery-yard": 0.68, "mill-lane": 0.27, "wagon": 0.05}
LEAD = {s.code: s.lead for s in SUPPLIERS}
# Now and then a club equips itself at once: days before today, what, how many, which club.
CLUB_ORDERS = (
    (210, "VEI-RND", 24, 1),
    (150, "SMK-BRS-S", 20, 3),
    (120, "SUI-VEN-M", 18, 3),
    (47, "SYR-005", 40, 0),
    (33, "JAR-340-24", 24, 2),
)
PROMOTIONS = ((3, 20, 9, 1.5), (11, 24, 6, 1.7))


@dataclass(frozen=True)
class Move:
    """A simulated move: value signed, at an hour of the day."""

    day: date
    hour: float
    sku: str
    place: str
    quantity: int
    value: Decimal
    reason: str
    document: str
    order: int = -1
    lot: str = ""


@dataclass(frozen=True)
class Change:
    """A simulated change of cost."""

    day: date
    sku: str
    cause: str
    document: str
    quantity: int
    before: costing.CostState
    after: costing.CostState
    value: Decimal


@dataclass
class Basket:
    """A simulated order: lines of (sku, units, cost)."""

    day: date
    hour: float
    place: str
    lines: list[tuple[str, int, Decimal]] = field(default_factory=list)
    club: int | None = None


@dataclass
class History:
    """Everything that happened before the books were opened here."""

    start: date
    baskets: list[Basket]
    moves: list[Move]
    changes: list[Change]
    costs: dict[str, costing.CostState]
    last_cost: dict[str, Decimal]
    stock: dict[tuple[str, str], int]
    lots: dict[tuple[str, str], date]
    monthly: dict[tuple[date, str], dict[str, Decimal]]
    coming: dict[tuple[str, str], list[tuple[date, int]]] = field(default_factory=dict)


def base_cost(spec: Spec) -> Decimal:
    """Cost of one in base currency."""
    supplier = next(s for s in SUPPLIERS if s.code == spec.supplier)
    return spec.cost / RATES.get(supplier.currency, Decimal(1))


def _weight(spec: Spec, day: date, age: float) -> float:
    season = SEASONS[spec.season]
    month = day.month - 1
    part = (day.day - 15) / 30
    blend = season[month] * (1 - abs(part)) + season[(month + (1 if part > 0 else -1)) % 12] * abs(part)
    weekday = (1.1, 1.0, 0.95, 0.95, 1.05, 1.25, 0.7)[day.weekday()]
    boost = 1.0
    for month_, first, length, factor in PROMOTIONS:
        if day.month == month_ and first <= day.day < first + length:
            boost = factor
    return blend * weekday * boost * (1 + spec.trend * age)


class Simulation:
    """Day by day: deliveries come, people buy what is there, somebody reorders, sometimes late."""

    def __init__(self, today: date) -> None:
        self.random = np.random.default_rng(SEED)
        self.today = today
        self.start = today - timedelta(days=DAYS)
        self.out = History(self.start, [], [], [], {}, {}, {}, {}, defaultdict(lambda: defaultdict(Decimal)))
        self.coming: dict[tuple[str, str], list[tuple[date, int]]] = defaultdict(list)
        self.specs = [s for s in SPECS if s.kind == "stocked"]
        self.drift = {s.sku: 1.0 for s in self.specs}
        self.receipts = 0

    def rate(self, spec: Spec, place: str) -> float:
        """Units a day at a place; the van carries only some things."""
        if place == "wagon" and not spec.wagon:
            return 0.0
        share = SHARE[place]
        return spec.rate * (share if spec.wagon else share / 0.95)

    def open(self) -> None:
        """Opening stock on the first day."""
        for spec in self.specs:
            for place in PLACES:
                rate = self.rate(spec, place)
                if rate:
                    units = max(2, math.ceil(rate * (LEAD[spec.supplier] + 40)))
                    self.bring(self.start, spec, place, units, "opening", "OPEN-0", 7.0)

    def bring(self, day: date, spec: Spec, place: str, units: int, reason: str, document: str, hour: float) -> None:
        """Units in at today's price."""
        price = round_unit_cost(base_cost(spec) * Decimal(str(round(self.drift[spec.sku], 3))))
        value = round_money(price * units)
        state = self.out.costs.get(spec.sku, costing.CostState())
        change = costing.receive(state, Decimal(units), value)
        self.out.costs[spec.sku] = change.after
        self.out.last_cost[spec.sku] = price
        lot = ""
        if spec.expiry:
            lot = f"{day:%y%m%d}"
            self.out.lots[spec.sku, lot] = day + timedelta(days=270)
        self.out.changes.append(Change(day, spec.sku, reason, document, units, change.before, change.after, change.moved))
        self.out.moves.append(Move(day, hour, spec.sku, place, units, change.moved, reason, document, lot=lot))
        self.out.stock[spec.sku, place] = self.out.stock.get((spec.sku, place), 0) + units
        self.out.monthly[day.replace(day=1), "opening" if reason == "opening" else "receipt"][spec.sku] += change.moved

    def take(self, spec: Spec, units: int) -> Decimal:
        """Units out; returns their cost."""
        change = costing.issue(self.out.costs[spec.sku], Decimal(units))
        self.out.costs[spec.sku] = change.after
        return -change.moved

    def run(self) -> History:
        """All days up to yesterday."""
        self.open()
        for offset in range(DAYS):
            day = self.start + timedelta(days=offset)
            self.deliver(day)
            self.sell(day, offset / 365)
            if day.weekday() in (0, 3):
                self.reorder(day)
            if day.day == 1:
                for spec in self.specs:
                    self.drift[spec.sku] *= 1 + self.random.normal(0.002, 0.012)
        self.out.coming = {key: rows for key, rows in self.coming.items() if rows}
        return self.out

    def deliver(self, day: date) -> None:
        """What was ordered and is due."""
        for key, rows in sorted(self.coming.items()):
            for due, units in [r for r in rows if r[0] <= day]:
                rows.remove((due, units))
                self.receipts += 1
                self.bring(day, BY_SKU[key[0]], key[1], units, "receipt", f"GR-H{self.receipts}", 8.5)

    def reorder(self, day: date) -> None:
        """Order up to cover; now and then somebody forgets, which is where empty shelves come from."""
        for spec in self.specs:
            for place in PLACES:
                rate = self.rate(spec, place)
                if not rate or self.random.random() < 0.12:
                    continue
                lead = LEAD[spec.supplier]
                ahead = _weight(spec, day + timedelta(days=lead // 2 + 14), (day - self.start).days / 365)
                need = rate * ahead * (lead + 62) + 1.6 * math.sqrt(rate * lead)
                have = self.out.stock.get((spec.sku, place), 0) + sum(u for _, u in self.coming[spec.sku, place])
                if have < rate * ahead * (lead + 24) + 1 and need > have:
                    packs = math.ceil((need - have) / spec.pack) if place == "tannery-yard" else 0
                    units = packs * spec.pack if packs else math.ceil(need - have)
                    wait = max(2, round(self.random.normal(lead, lead * 0.16)))
                    self.coming[spec.sku, place].append((day + timedelta(days=wait), units))

    def sell(self, day: date, age: float) -> None:
        """People come, and leave with what there is."""
        wanted: dict[str, list[tuple[Spec, int]]] = defaultdict(list)
        for place in PLACES:
            if place == "wagon" and day.weekday() not in (5, 6):
                continue
            for spec in self.specs:
                rate = self.rate(spec, place) * (3.5 if place == "wagon" else 1)
                if not rate:
                    continue
                units = int(self.random.poisson(rate * _weight(spec, day, age)))
                have = self.out.stock.get((spec.sku, place), 0)
                units = min(units, have)
                if units > 0:
                    wanted[place].append((spec, units))
        for place, rows in wanted.items():
            self.fill_baskets(day, place, rows)
        for ago, sku, units, club in CLUB_ORDERS:
            if (self.today - day).days == ago and self.out.stock[sku, PLACES[0]] >= units:
                basket = Basket(day, 11.5, PLACES[0], [(sku, units, self.take(BY_SKU[sku], units))], club)
                self.out.stock[sku, PLACES[0]] -= units
                self.book(day, [basket])

    def fill_baskets(self, day: date, place: str, rows: list[tuple[Spec, int]]) -> None:
        """Spread a day's sales over orders of one to a few lines."""
        count = max(1, round(sum(u for _, u in rows) / 2.6))
        baskets = [Basket(day, round(float(self.random.uniform(8.2, 20.5)), 2), place) for _ in range(count)]
        for spec, units in rows:
            left = units
            while left > 0:
                part = min(left, int(self.random.integers(1, 4)))
                basket = baskets[int(self.random.integers(0, count))]
                if any(sku == spec.sku for sku, _, _ in basket.lines):
                    basket = Basket(day, basket.hour, place)
                    baskets.append(basket)
                basket.lines.append((spec.sku, part, self.take(spec, part)))
                self.out.stock[spec.sku, place] -= part
                left -= part
        self.book(day, [b for b in baskets if b.lines])

    def book(self, day: date, baskets: list[Basket]) -> None:
        """Orders, their moves, the month's sums; a few come back."""
        month = day.replace(day=1)
        for basket in baskets:
            number = len(self.out.baskets)
            self.out.baskets.append(basket)
            reason = "shipment" if basket.place == "tannery-yard" else "till sale"
            for sku, units, cost in basket.lines:
                self.out.moves.append(Move(day, basket.hour, sku, basket.place, -units, -cost, reason, str(number), number))
                self.out.monthly[month, "cost"][sku] += cost
            if self.random.random() < 0.012 and (self.today - day).days > 14:
                self.bring_back(basket, number)

    def bring_back(self, basket: Basket, number: int) -> None:
        """One unit of the first line comes back at the cost at which it left."""
        sku, units, cost = basket.lines[0]
        spec, day = BY_SKU[sku], basket.day
        value = round_money(cost / units)
        change = costing.receive(self.out.costs[sku], Decimal(1), value)
        self.out.costs[sku] = change.after
        self.out.moves.append(Move(day, 20.8, sku, basket.place, 1, change.moved, "return", str(number), number))
        self.out.stock[spec.sku, basket.place] += 1
        self.out.monthly[day.replace(day=1), "returned"][sku] += change.moved


def simulate(today: date) -> History:
    """The history that ends yesterday."""
    return Simulation(today).run()
