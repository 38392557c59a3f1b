"""How many of a thing one order may hold: for everybody, and for a group of customers."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import ROUND_CEILING, Decimal
from math import gcd


@dataclass(frozen=True)
class OrderLimits:
    """The fewest and the most units of one line of an order, and the steps it goes in; None: no limit of that sort."""

    least: Decimal | None = None
    step: Decimal | None = None
    most: Decimal | None = None

    def for_group(self, group: OrderLimits) -> OrderLimits:
        """What holds for a group of customers: what is said for the group goes before what is said for everybody."""
        return OrderLimits(
            self.least if group.least is None else group.least,
            self.step if group.step is None else group.step,
            self.most if group.most is None else group.most,
        )

    def in_packs(self, units: int) -> OrderLimits:
        """The same for a listing that stands for so many units: the least rounded up to whole ones of it, the most down
        but never below one, and as many of it as come to whole steps."""
        if units == 1:
            return self
        step = None if self.step is None else _packs(self.step, units)
        least = None if self.least is None else (self.least / units).to_integral_value(ROUND_CEILING)
        return OrderLimits(least, step, None if self.most is None else max(self.most // units, Decimal(1)))

    def in_steps(self) -> OrderLimits:
        """Limits that can be kept together: the least is rounded up to whole steps, the most down to them, but never
        below one step, and the least is never above the most."""
        least, most = self.least, self.most
        if self.step is not None:
            least = None if least is None else (least / self.step).to_integral_value(ROUND_CEILING) * self.step
            most = None if most is None else max(most // self.step, Decimal(1)) * self.step
        if least is not None and most is not None:
            least = min(least, most)
        return OrderLimits(least, self.step, most)

    def allows(self, count: Decimal) -> bool:
        """Whether one line of an order may hold so many."""
        return (
            (self.least is None or count >= self.least)
            and (self.most is None or count <= self.most)
            and (self.step is None or count % self.step == 0)
        )


def _packs(step: Decimal, units: int) -> Decimal:
    """The fewest of a listing of so many units that come to whole steps; quantities have three decimals."""
    thousandths = int(step * 1000)
    return Decimal(thousandths // gcd(thousandths, units * 1000))
