"""Goods between two places: what arrives of what left, with the lots it left in and the value it left at."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal

from .errors import RefusedError
from .money import ZERO, round_money, spoken


@dataclass(frozen=True)
class Part:
    """Units that left together: of one lot (its id, none for goods without lots), with the value they left at."""

    lot: int | None
    units: Decimal
    value: Decimal


def still_out(sent: Sequence[Part], settled: Sequence[Part]) -> list[Part]:
    """What of `sent` is on the way yet. `settled` is what arrived, was brought back or given up of it so far, each part in
    the lot in which it left.

    Units without a lot and units of one lot are kept apart, in the order in which they left. Raises RefusedError when more
    is settled than left.
    """
    gone: dict[int | None, tuple[Decimal, Decimal]] = {}
    for part in settled:
        units, value = gone.get(part.lot, (ZERO, ZERO))
        gone[part.lot] = units + part.units, value + part.value
    left: dict[int | None, Part] = {}
    for part in sent:
        before = left.get(part.lot, Part(part.lot, ZERO, ZERO))
        left[part.lot] = Part(part.lot, before.units + part.units, before.value + part.value)
    found = []
    for lot, part in left.items():
        units, value = gone.pop(lot, (ZERO, ZERO))
        if units > part.units:
            raise RefusedError(f"{spoken(units)} are settled of {spoken(part.units)} that left.")
        if part.units > units:
            found.append(Part(lot, part.units - units, part.value - value))
    if any(units for units, _ in gone.values()):
        raise RefusedError("More is settled than left.")
    return found


def take(out: Sequence[Part], units: Decimal) -> list[Part]:
    """`units` of what is on the way, in the order in which it left; each part takes its share of the value, rounded half
    up to the cent, and the last units of a part take all that is left of it, so that nothing stays behind.

    Raises RefusedError when fewer are on the way.
    """
    found, left = [], units
    for part in out:
        if not left:
            break
        some = min(left, part.units)
        value = part.value if some == part.units else round_money(part.value * some / part.units)
        found.append(Part(part.lot, some, value))
        left -= some
    if left:
        raise RefusedError(f"Only {spoken(units - left)} are on the way.", field="quantity")
    return found
