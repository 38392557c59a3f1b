"""What a channel may show: from the shelf through buffer, share, step and limits to the offer."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import ROUND_DOWN, Decimal
from typing import Literal

import numpy as np
import numpy.typing as npt

from .errors import BadInputError
from .money import ZERO, floor_to, spoken
from .working import Step, Working

Basis = Literal["available", "projected", "on_hand"]


@dataclass(frozen=True)
class Shelf:
    """One location's stock of one item, in the item's unit; `own`: what of the committed is for the channel's own orders."""

    location: str
    on_hand: Decimal
    committed: Decimal = ZERO
    incoming_due: Decimal = ZERO
    backordered: Decimal = ZERO
    own: Decimal = ZERO

    def counted(self, basis: Basis) -> Decimal:
        """What counts as there: available, with what comes in in time, or on hand for a channel that takes its own open
        orders off by itself. What others have ordered is taken off in any case, as that channel knows nothing of it."""
        more = {"available": ZERO, "projected": self.incoming_due, "on_hand": self.own}
        return max(ZERO, self.on_hand - self.committed + more[basis])


@dataclass(frozen=True)
class OfferRule:
    """How a connection turns stock into a shown quantity; None means no such limit."""

    basis: Basis = "available"
    buffer: Decimal = ZERO
    share_percent: Decimal = Decimal(100)
    minimum: Decimal = ZERO
    maximum: Decimal | None = None
    step: Decimal = Decimal(1)
    past_zero_left: Decimal = ZERO
    only_past_zero: bool = False
    past_zero_said: str = "remaining limit"
    # By name of the setting, whose value counts.
    sources: tuple[tuple[str, str], ...] = ()

    def source(self, name: str, lead: str = "") -> str:
        """Where a part of the rule comes from, as a note."""
        found = dict(self.sources).get(name, "")
        return f"{lead}{found}" if found else ""

    def __post_init__(self) -> None:
        if not 0 <= self.share_percent <= 100:
            raise BadInputError("The share must lie between 0 and 100 %.", field="share_percent")
        if self.buffer < 0:
            raise BadInputError("A buffer cannot be negative.", field="buffer")
        if self.step <= 0:
            raise BadInputError("The step must be greater than zero.", field="step")


@dataclass(frozen=True)
class Offer:
    """The quantity to show, with its sum."""

    quantity: Decimal
    working: Working


def pool_of(shelves: Sequence[Shelf], basis: Basis) -> Decimal:
    """Units that may be offered: what each location has free, less all open backorders."""
    free = sum((shelf.counted(basis) for shelf in shelves), ZERO)
    return max(ZERO, free - sum((shelf.backordered for shelf in shelves), ZERO))


def bundle_pool(parts: Sequence[tuple[Decimal, Decimal]]) -> Decimal:
    """Whole bundles that can be made: min over components of floor(pool / quantity).

    `parts` are (component pool, quantity per bundle). Raises BadInputError when a bundle is empty.
    """
    if not parts:
        raise BadInputError("A bundle needs at least one component.", field="components")
    return min((pool / each).to_integral_value(rounding=ROUND_DOWN) for pool, each in parts)


def offer(pool: Decimal, rule: OfferRule) -> Decimal:
    """The shown quantity for a pool, by the six steps that follow the pool.

    Check: pool 38, buffer 3, share 50 %, maximum 15, minimum 2 -> 15. With `only_past_zero` (a pre-order that begins at
    once) what lies on the shelf does not count: 40 there, 7 left of the limit -> 7.
    """
    return from_stock(pool, rule) + max(ZERO, rule.past_zero_left)


def from_stock(pool: Decimal, rule: OfferRule) -> Decimal:
    """The part of the shown quantity that lies on the shelf."""
    if rule.only_past_zero:
        return ZERO
    left = max(ZERO, pool - rule.buffer)
    shared = floor_to(left * rule.share_percent / 100, Decimal(1) if rule.step >= 1 else rule.step)
    stepped = floor_to(shared, rule.step)
    if stepped < rule.minimum:
        stepped = ZERO
    if rule.maximum is not None:
        stepped = min(stepped, floor_to(rule.maximum, rule.step))
    return stepped


def _pool_steps(shelves: Sequence[Shelf], basis: Basis) -> list[Step]:
    steps = []
    for shelf in shelves:
        note = f"{spoken(shelf.on_hand)} on hand − {spoken(shelf.committed)} committed"
        if basis == "projected":
            note += f" + {spoken(shelf.incoming_due)} incoming"
        if basis == "on_hand" and shelf.own:
            note += f" + {spoken(shelf.own)} of its own orders, which it takes off itself"
        steps.append(Step(shelf.location, shelf.counted(basis), note, op="+"))
    owed = sum((shelf.backordered for shelf in shelves), ZERO)
    if owed:
        steps.append(Step("Backorders", owed, "promised before anything is offered", op="-"))
    return steps


def offer_for(
    shelves: Sequence[Shelf],
    rule: OfferRule,
    *,
    subject: str,
    parts: Sequence[tuple[str, Decimal, Decimal]] | None = None,
) -> Offer:
    """The offer of one listing with its Working.

    `parts` (title, component pool, quantity per bundle) replaces the shelves for a bundle.
    """
    if parts is not None:
        pool = bundle_pool([(amount, each) for _, amount, each in parts])
        steps = [Step(title, amount, f"÷ {spoken(each)} per kit", kind="fact") for title, amount, each in parts]
    else:
        pool = pool_of(shelves, rule.basis)
        steps = _pool_steps(shelves, rule.basis)
    quantity = offer(pool, rule)
    steps.append(Step("Pool", pool, f"by {rule.basis.replace('_', ' ')} stock", kind="subtotal"))
    said = rule.source
    steps.append(Step("Buffer", rule.buffer, said("buffer"), op="-"))
    if rule.share_percent != 100:
        steps.append(Step("Share", f"{spoken(rule.share_percent)} %", f"rounded down{said('share_percent', ', ')}", op="×"))
    if rule.step != 1:
        steps.append(Step("Step", rule.step, f"down to a whole step{said('quantity_step', ', ')}", kind="fact"))
    if rule.minimum:
        steps.append(Step("Minimum to show", rule.minimum, f"less shows as none{said('minimum', ', ')}", kind="fact"))
    if rule.maximum is not None:
        steps.append(Step("Maximum to show", rule.maximum, f"at most{said('maximum', ', ')}", kind="fact"))
    if rule.only_past_zero:
        note = "a pre-order that began at once: what lies on the shelf does not count"
        steps.append(Step("From the shelf", ZERO, note, kind="subtotal"))
    if rule.past_zero_left or rule.only_past_zero:
        note = f"{rule.past_zero_said}{said('past_zero_limit', ', limit of ')}"
        steps.append(Step("Selling past zero", rule.past_zero_left, note, op="+"))
    steps.append(Step("Offered", quantity, kind="result"))
    return Offer(quantity, Working("How many may it show?", subject, tuple(steps)))


THOUSAND = 1000
NO_MAXIMUM = np.iinfo(np.int64).max
Units = npt.NDArray[np.int64]


@dataclass(frozen=True)
class StockColumns:
    """Many items at many locations as columns of equal length, quantities in thousandths of the unit. Of a channel that
    takes its own orders off by itself, `committed` is what is for others."""

    item: Units
    on_hand: Units
    committed: Units
    incoming_due: Units
    backordered: Units


def pools_of(shelves: StockColumns, items: int, basis: Basis) -> Units:
    """`pool_of` for items numbered 0 to items - 1, in thousandths; an item without a row has none."""
    free = shelves.on_hand - shelves.committed
    if basis == "projected":
        free = free + shelves.incoming_due
    pools = np.zeros(items, np.int64)
    owed = np.zeros(items, np.int64)
    np.add.at(pools, shelves.item, np.maximum(free, 0))
    np.add.at(owed, shelves.item, shelves.backordered)
    return np.asarray(np.maximum(pools - owed, 0), np.int64)


def bundle_pools(pools: Units, bundle: Units, component: Units, each: Units, bundles: int) -> Units:
    """`bundle_pool` for many bundles: `component` points into `pools`, `each` is the quantity in one bundle.

    Result in thousandths; a bundle without components has none.
    """
    made = np.full(bundles, np.iinfo(np.int64).max, np.int64)
    np.minimum.at(made, bundle, pools[component] // each * THOUSAND)
    made[made == np.iinfo(np.int64).max] = 0
    return made


@dataclass(frozen=True)
class RuleColumns:
    """`OfferRule` for many offers: a column each, or one number for all; quantities in thousandths, the share in
    hundredths of a per cent. `maximum`: NO_MAXIMUM where there is none."""

    buffer: Units
    share: Units
    minimum: Units
    maximum: Units
    step: Units
    past_zero_left: Units
    only_past_zero: npt.NDArray[np.bool_]

    @classmethod
    def of(cls, rule: OfferRule) -> RuleColumns:
        """One rule for all."""
        maximum = NO_MAXIMUM if rule.maximum is None else int(rule.maximum * THOUSAND)
        amounts = (rule.buffer, rule.minimum, rule.step, rule.past_zero_left)
        buffer, minimum, step, past_zero = (np.asarray(int(amount * THOUSAND), np.int64) for amount in amounts)
        share = np.asarray(int(rule.share_percent * 100), np.int64)
        only = np.asarray(rule.only_past_zero, np.bool_)
        return cls(buffer, share, minimum, np.asarray(maximum, np.int64), step, past_zero, only)


def offer_quantities(pools: Units, rules: RuleColumns) -> Units:
    """`offer` for many pools at once, in thousandths; equal to it for every one."""
    return np.asarray(stock_quantities(pools, rules) + np.maximum(0, rules.past_zero_left), np.int64)


def stock_quantities(pools: Units, rules: RuleColumns) -> Units:
    """`from_stock` for many pools at once, in thousandths."""
    unit = np.where(rules.step >= THOUSAND, THOUSAND, rules.step)
    left = np.maximum(pools - rules.buffer, 0)
    # Split before multiplying: a large stock times the share would not fit into 64 bits.
    shared = left // 10_000 * rules.share + left % 10_000 * rules.share // 10_000
    shown = shared // unit * unit // rules.step * rules.step
    shown = np.where(shown < rules.minimum, 0, shown)
    shown = np.minimum(shown, rules.maximum // rules.step * rules.step)
    return np.asarray(np.where(rules.only_past_zero, 0, shown), np.int64)


def in_packs(shown: Units, units: Units) -> Units:
    """What a listing shows that stands for several units of its item: whole ones of it, in thousandths.

    Check (02-domain, *Pairing*): 38 jars in trays of 12 → 3 trays; a listing of one unit shows what it did.
    """
    return np.asarray(np.where(units > 1, shown // (units * THOUSAND) * THOUSAND, shown), np.int64)


def reserve(wanted: Decimal, on_hand: Decimal, committed: Decimal) -> tuple[Decimal, Decimal]:
    """(reserved, backordered) for a wanted quantity at one location; never more than is free."""
    if wanted < 0:
        raise BadInputError("A quantity to reserve cannot be negative.", field="quantity")
    free = max(ZERO, on_hand - committed)
    reserved = min(wanted, free)
    return reserved, wanted - reserved
