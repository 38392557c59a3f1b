"""What a channel with several places shows at each of them."""

from __future__ import annotations

from collections.abc import Mapping

WHOLE = 1000


def split(shown: int, there: Mapping[str, int], first: str, units: int = 1) -> dict[str, int]:
    """How a quantity that is shown lies at the channel's places, in thousandths.

    `there`: what lies at each of them, in the order in which they are filled, in units of the item, of which one that is
    shown takes `units`. No place shows more than whole ones that lie there; what none of them holds, as what is sold past
    zero, is shown at the `first`. What is held back is held back where it is filled last.
    Check: 35 of 34 and 4 → 34 and 1; 40 of 34 and 4 → 36 and 4.
    """
    found = {}
    left = shown
    for name, lies in there.items():
        found[name] = max(0, min(left, lies // (units * WHOLE) * WHOLE if units > 1 else lies))
        left -= found[name]
    found[first] = found.get(first, 0) + left
    return found
