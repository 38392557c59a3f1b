"""How many of which thing, as a cell of a sheet says it."""

from __future__ import annotations

import re
from decimal import Decimal as D

from hypothesis import given
from hypothesis import strategies as st

from yuvrel.core.intake import as_counted, counted

# Names as people give them, with what stands between parts in them; one that holds a whole part of its own, as "; 2 × ",
# cannot be told from two.
PART = re.compile(r";\s*[\d.,]+\s*[×x*]\s")
NAMES = st.text("abÄ-;, ×x2", min_size=1, max_size=12).map(lambda name: f"N{name}N").filter(lambda name: not PART.search(name))
UNITS = st.decimals("0.001", "99999", places=3)


@given(st.dictionaries(NAMES, UNITS, min_size=1, max_size=6))
def test_what_is_written_is_read_again(things: dict[str, D]) -> None:
    by_name = {name.casefold(): (units, name) for name, units in things.items()}
    kept = [by_name[name] for name in sorted(by_name)]
    assert counted(as_counted(kept)) == kept
