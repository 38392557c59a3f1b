"""Selling past zero: how many more may be sold than lie on the shelf, and for when they are promised.

Two ways (02-domain, *Selling past zero*): a backorder, and a pre-order that begins at zero or at once. Each has a
limit that belongs to the level where it is set and is shared by everything that inherits it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import ROUND_CEILING, ROUND_FLOOR, Decimal
from typing import Literal

import numpy as np
import numpy.typing as npt

from .money import ZERO

Way = Literal["no", "backorder", "preorder", "preorder_at_once"]
BADGES = {"backorder": "Backorder", "preorder": "Pre-order", "preorder_at_once": "Pre-order"}
Deliveries = Sequence[tuple[date, Decimal]]
Units = npt.NDArray[np.int64]
THOUSAND = 1000


@dataclass(frozen=True)
class Sold:
    """Units sold past zero under one limit: all of them, and those of them not yet served."""

    all: Decimal = ZERO
    unserved: Decimal = ZERO


@dataclass(frozen=True)
class PastZero:
    """What is allowed for one listing: `begins` and `ends` are the first and the last day, None without such a bound.

    `limit` in units of the item; `lead_days`: promised from today when no delivery on its way has units free.
    """

    way: Way = "no"
    limit: Decimal = ZERO
    begins: date | None = None
    ends: date | None = None
    lead_days: int = 0

    def runs(self, today: date) -> bool:
        """Whether it counts on a day: both bounds are days on which it does."""
        begun = self.begins is None or self.begins <= today
        return self.way != "no" and begun and (self.ends is None or today <= self.ends)

    @property
    def at_once(self) -> bool:
        """Whether only the limit is for sale, whatever lies on the shelf."""
        return self.way == "preorder_at_once"

    def left(self, sold: Sold) -> Decimal:
        """What is left of the limit in whole units: of a pre-order at once less all units sold under it, else less those
        not served.

        Check: limit 10, 3 sold and none served -> 7, from zero and at once.
        """
        left = self.limit - (sold.all if self.at_once else sold.unserved)
        return max(ZERO, left).to_integral_value(rounding=ROUND_FLOOR)

    def under_limit(self, wanted: Decimal, short: Decimal) -> Decimal:
        """How many of `wanted` units count against the limit, when `short` of them cannot be reserved."""
        return wanted if self.at_once else short


def promised_on(deliveries: Deliveries, owed: Decimal, units: Decimal, today: date, lead_days: int) -> date:
    """The day for which the last of `units` more can be promised: that of the first delivery that still has units free
    after `owed` ones, else `lead_days` from today. A delivery that is late is taken to come tomorrow.

    Check: owed 3, deliveries of 5 and 10: two more come with the first, a third with the second.
    """
    still = owed + units
    for day, coming in sorted(deliveries):
        still -= coming
        if still <= 0:
            return max(day, today + timedelta(days=1))
    return today + timedelta(days=lead_days)


def wholes(owed: Decimal, each: Decimal) -> Decimal:
    """How many wait for a part of which `owed` units are missing and `each` go into one: kits wait whole."""
    return owed if each == 1 else (owed / each).to_integral_value(rounding=ROUND_CEILING)


def left_columns(at_once: npt.NDArray[np.bool_], limit: Units, sold: Units, unserved: Units) -> Units:
    """`PastZero.left` for many, in thousandths of the unit."""
    left = np.maximum(0, limit - np.where(at_once, sold, unserved))
    return np.asarray(left // THOUSAND * THOUSAND, np.int64)
