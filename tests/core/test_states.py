"""The table of states: what may follow what, and tables that cannot be."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yuvrel.core.errors import RefusedError
from yuvrel.core.states import States

TABLE = States(
    "draft", {"draft": ("sent", "cancelled"), "sent": ("received", "cancelled"), "received": ("received",), "cancelled": ()}
)


@pytest.mark.parametrize(
    ("state", "to", "may"),
    [("draft", "sent", True), ("draft", "received", False), ("sent", "draft", False), ("received", "cancelled", False)],
)
def test_a_step_is_one_of_the_table(state: str, to: str, may: bool) -> None:
    assert TABLE.may(state, to) is may
    if may:
        TABLE.check("TR-1", state, to)
        return
    with pytest.raises(RefusedError, match=f"TR-1 is {state}; it cannot become {to}"):
        TABLE.check("TR-1", state, to)


def test_what_comes_of_a_state_and_where_it_ends() -> None:
    assert TABLE.reached("sent") == {"sent", "received", "cancelled"}
    assert TABLE.ends() == ("received", "cancelled")


def test_a_table_names_only_its_own_states_and_reaches_all_of_them() -> None:
    with pytest.raises(ValueError, match="no such state: sent"):
        States("draft", {"draft": ("sent",)})
    with pytest.raises(ValueError, match="never reached: lost"):
        States("draft", {"draft": (), "lost": ("draft",)})


@given(st.dictionaries(st.sampled_from("abcdef"), st.sets(st.sampled_from("abcdef")), min_size=1))
def test_every_walk_stays_within_what_is_reached(drawn: dict[str, set[str]]) -> None:
    named = {*drawn, *(after for follow in drawn.values() for after in follow)}
    follows = {state: tuple(sorted(drawn.get(state, ()))) for state in named}
    first = min(named)
    try:
        table = States(first, follows)
    except ValueError:
        return
    for state in named:
        assert all(table.reached(after) <= table.reached(state) for after in follows[state])
    assert table.reached(first) == named
