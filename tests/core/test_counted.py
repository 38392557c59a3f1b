"""How many of which thing, as a cell of a sheet says it."""

from __future__ import annotations

from decimal import Decimal as D

from hypothesis import given
from hypothesis import strategies as st

from yuvrel.core.intake import as_counted, counted

# Names as people give them, with what stands between parts in them.
NAMES = st.text("abÄ-;, ×x2", min_size=1, max_size=12).map(str.strip).filter(lambda name: name and not name.startswith(";"))
UNITS = st.decimals("0.001", "99999", places=3)


@given(st.dictionaries(NAMES.map(lambda name: f"N{name}N"), UNITS, max_size=6))
def test_what_is_written_is_read_again(things: dict[str, D]) -> None:
    by_name = {name.casefold(): (units, name) for name, units in things.items()}
    kept = [by_name[name] for name in sorted(by_name)]
    # A name that itself holds "; 2 × " cannot be told from two parts; nothing else is lost.
    if not any(sign in name for _, name in kept for sign in ("; ", ";2", ";x")):
        assert (counted(as_counted(kept)) if kept else []) == kept
