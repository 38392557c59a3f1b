"""Whether a listing is for sale, hidden or ended: as somebody chose, or because nothing is left of it."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal
from typing import Literal

Standing = Literal["live", "hidden", "ended"]
AtZero = Literal["stay", "hide", "end"]
RESTS: dict[AtZero, Standing] = {"stay": "live", "hide": "hidden", "end": "ended"}


@dataclass(frozen=True)
class Stood:
    """What a listing is to be, why, and whether it waits to be resumed by hand though stock is back."""

    standing: Standing
    reason: str
    rests: bool = False


def standing_of(chosen: Standing, at_zero: AtZero, quantity: Decimal, *, relists: bool, rested: bool) -> Stood:
    """What is chosen speaks first; then what becomes of a listing of which nothing is left.

    `quantity`: what is to be shown, what may be sold past zero in it. `rested`: it was hidden or ended at zero, and was not
    resumed since; where stock does not bring it back by itself, it waits.
    Check: chosen live, hidden at zero, 0 left → hidden; 5 left again → live, or still hidden where it is not relisted.
    """
    if chosen != "live":
        return Stood(chosen, "as its rule says")
    if at_zero == "stay":
        return Stood("live", "for sale")
    if quantity <= 0:
        return Stood(RESTS[at_zero], "nothing is left", rests=not relists)
    if rested and not relists:
        return Stood(RESTS[at_zero], "stock is back, and it waits to be resumed", rests=True)
    return Stood("live", "for sale")
