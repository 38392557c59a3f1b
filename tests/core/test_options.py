"""Options, and the SKUs that a pattern gives their combinations."""

from __future__ import annotations

from math import prod
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yuvrel.core.errors import BadInputError
from yuvrel.core.options import combinations, sku_of

VALUES = st.lists(st.text("abcdefg", min_size=1, max_size=3), min_size=1, max_size=4, unique=True)


@given(st.lists(VALUES, max_size=3))
def test_every_combination_is_there_once_and_has_a_sku_of_its_own(values: list[list[str]]) -> None:
    options = [(f"O{n}", of) for n, of in enumerate(values)]
    made = combinations(options)
    assert len(made) == prod(len(of) for of in values)
    pattern = "X" + "".join(f"-{{{name.lower()}}}" for name, _ in options)
    assert len({sku_of(pattern, one) for one in made}) == len(made)


def test_the_last_option_changes_fastest_and_spaces_become_hyphens() -> None:
    made = combinations([("Size", ["S", "M"]), ("Colour", ["Dark red", "Sand"])])
    assert [sku_of("SMO-{size}-{COLOUR}", one) for one in made] == [
        "SMO-S-Dark-red",
        "SMO-S-Sand",
        "SMO-M-Dark-red",
        "SMO-M-Sand",
    ]
    assert combinations([]) == [{}]
    assert sku_of("ONE", {}) == "ONE"


@pytest.mark.parametrize(
    ("options", "said"),
    [
        ([("Size", [])], "needs at least one value"),
        ([("Size", ["S", " s "])], "there twice"),
        ([("Size", ["S"]), ("size", ["M"])], "there twice"),
        ([("", ["S"])], "empty"),
        ([("Size", [""])], "empty"),
        ([(f"O{n}", ["a"]) for n in range(6)], "at most 5"),
        ([("A", [str(n) for n in range(30)]), ("B", [str(n) for n in range(30)])], "more than 500"),
        ([("A", [str(n) for n in range(61)])], "more than 60"),
    ],
)
def test_options_that_cannot_be_are_refused(options: Any, said: str) -> None:
    with pytest.raises(BadInputError, match=said):
        combinations(options)


@pytest.mark.parametrize("pattern", ["SMO", "SMO-{colour}", "SMO-{size}-{wood}"])
def test_a_pattern_names_each_option_and_no_other(pattern: str) -> None:
    with pytest.raises(BadInputError):
        sku_of(pattern, {"Size": "S"})
