"""Two books side by side: what differs, by how much, and which side is heavier."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from decimal import Decimal
from enum import StrEnum
from typing import TypeVar

from .money import ZERO


class Code(StrEnum):
    """Which two books are compared."""

    A1 = "A1"
    A2 = "A2"
    A3 = "A3"
    A4 = "A4"
    A5 = "A5"
    A6 = "A6"


K = TypeVar("K")


@dataclass(frozen=True)
class Difference:
    """One key on which two books differ; None where a book does not know the key at all."""

    key: object
    expected: Decimal | None
    found: Decimal | None

    @property
    def amount(self) -> Decimal:
        """Found less expected."""
        return (self.found or ZERO) - (self.expected or ZERO)


@dataclass(frozen=True)
class Comparison:
    """The two totals on the beam and every difference behind them."""

    left: Decimal
    right: Decimal
    compared: int
    differences: tuple[Difference, ...]

    @property
    def agrees(self) -> bool:
        """Level: every key agrees, not only the totals."""
        return not self.differences


def compare(expected: Mapping[K, Decimal], found: Mapping[K, Decimal]) -> Comparison:
    """Compare key by key; a key that one side lacks differs unless the other side is zero there."""
    differences = []
    keys = list(expected) + [key for key in found if key not in expected]
    for key in keys:
        ours, theirs = expected.get(key), found.get(key)
        if (ours or ZERO) != (theirs or ZERO):
            differences.append(Difference(key, ours, theirs))
    return Comparison(sum(expected.values(), ZERO), sum(found.values(), ZERO), len(keys), tuple(differences))


def compare_text(expected: Mapping[K, str], found: Mapping[K, str]) -> list[tuple[K, str, str]]:
    """Keys whose texts differ, as (key, expected, found); an absent key reads as 'missing'."""
    keys = list(expected) + [key for key in found if key not in expected]
    pairs = ((key, expected.get(key, "missing"), found.get(key, "missing")) for key in keys)
    return [(key, ours, theirs) for key, ours, theirs in pairs if ours != theirs]
