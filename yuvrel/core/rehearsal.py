"""What a change of rules would do to what is shown, before it is made."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal

from .money import ZERO, round_money


@dataclass(frozen=True)
class Shift:
    """One listing: units offered by the rules of now and by those of then; `margin`: net price less cost of one."""

    key: int
    now: Decimal
    then: Decimal
    margin: Decimal

    @property
    def change(self) -> Decimal:
        """Units more, or fewer when below zero."""
        return self.then - self.now

    @property
    def at_stake(self) -> Decimal:
        """Margin of the units that would no longer be shown; none for what sells at a loss."""
        return round_money(max(ZERO, -self.change) * max(ZERO, self.margin))


@dataclass(frozen=True)
class Rehearsal:
    """All listings together. `shifts`: those that change, what matters most first."""

    listings: int
    rising: int
    falling: int
    to_zero: int
    from_zero: int
    units_now: Decimal
    units_then: Decimal
    at_stake: Decimal
    shifts: tuple[Shift, ...]


def rehearse(rows: Sequence[Shift]) -> Rehearsal:
    """Count what would change; those that fall to zero first, then by margin at stake, then by units."""
    moved = [row for row in rows if row.change]
    order = sorted(moved, key=lambda row: (not (row.then <= 0 < row.now), -row.at_stake, -abs(row.change), row.key))
    return Rehearsal(
        listings=len(rows),
        rising=sum(1 for row in moved if row.change > 0),
        falling=sum(1 for row in moved if row.change < 0),
        to_zero=sum(1 for row in moved if row.then <= 0 < row.now),
        from_zero=sum(1 for row in moved if row.now <= 0 < row.then),
        units_now=sum((row.now for row in rows), ZERO),
        units_then=sum((row.then for row in rows), ZERO),
        at_stake=sum((row.at_stake for row in moved), ZERO),
        shifts=tuple(order),
    )
