"""What should lie in a till when it is closed, beside what was counted."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal


@dataclass(frozen=True)
class Counted:
    """One way to pay at one close, in the company's currency: what lay in the till at the start, what was taken since the
    close before, and what was counted."""

    opening: Decimal
    taken: Decimal
    counted: Decimal

    @property
    def expected(self) -> Decimal:
        """What should be there: what lay there at the start and what was taken."""
        return self.opening + self.taken

    @property
    def difference(self) -> Decimal:
        """More (positive) or less than should be there."""
        return self.counted - self.expected
