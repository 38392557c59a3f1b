"""Settings: the most specific value wins, for one and for many at once."""

from __future__ import annotations

from decimal import Decimal as D
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from yuvrel.core.errors import BadInputError
from yuvrel.core.kits import flatten
from yuvrel.core.rules import ON_CHANNELS, Ladder, Level, Rung, Setting, resolve, resolve_columns

BUFFER = Setting("buffer", "Buffer", "", "quantity", D(0), ON_CHANNELS, "g", "a", unit="units", places=3)
MAXIMUM = Setting("maximum", "Maximum", "", "quantity", None, ON_CHANNELS, "g", "a", limitless=True)
WEB, TILL, MARKET = (Rung(Level.CONNECTION, name, n) for n, name in enumerate(("web shop", "till", "market"), 1))
COMPANY = Rung(Level.COMPANY, "Larkmead")
JARS, SMOKERS = 1, 2
JAR_454 = 5
# 02-domain, Settings: the buffers of the worked example.
SET: dict[Any, Any] = {
    COMPANY.key: D(0),
    WEB.key: D(3),
    (Level.CATEGORY, JARS, 0, ""): D(6),
    (Level.CATEGORY_ON_CONNECTION, JARS, MARKET.subject, ""): D(1),
    (Level.PRODUCT, JAR_454, 0, ""): D(5),
    (Level.ITEM, 42, 0, ""): D(4),
    (Level.LISTING, 77, 0, ""): D(2),
}


def way(connection: Rung, category: int, product: int, item: int, listing: int) -> list[Rung]:
    return [
        Rung(Level.LISTING, "listing", listing),
        Rung(Level.ITEM, "item", item),
        Rung(Level.PRODUCT, "product", product),
        Rung(Level.CATEGORY_ON_CONNECTION, "category there", category, connection.subject),
        Rung(Level.CATEGORY, "category", category),
        connection,
        Rung(Level.KIND, "kind", kind="web_shop"),
        COMPANY,
    ]


@pytest.mark.parametrize(
    ("rungs", "value", "level"),
    [
        (way(WEB, JARS, 3, 40, 77), D(2), Level.LISTING),
        (way(TILL, JARS, 3, 40, 78), D(6), Level.CATEGORY),
        (way(MARKET, JARS, 3, 40, 79), D(1), Level.CATEGORY_ON_CONNECTION),
        (way(MARKET, JARS, JAR_454, 42, 80), D(4), Level.ITEM),
        (way(MARKET, JARS, JAR_454, 43, 81), D(5), Level.PRODUCT),
        (way(WEB, SMOKERS, 9, 50, 82), D(3), Level.CONNECTION),
        (way(TILL, SMOKERS, 9, 50, 83), D(0), Level.COMPANY),
        (way(WEB, JARS, 3, 40, 84), D(6), Level.CATEGORY),  # the listing's value cleared
    ],
)
def test_the_check_values_of_the_buffer(rungs: list[Rung], value: D, level: Level) -> None:
    found = resolve(BUFFER, rungs, SET)
    assert (found.value, found.level) == (value, level)
    working = found.working(rungs, "subject")
    assert working.result == (f"{value} unit" if value == 1 else f"{value} units")
    spoke = [step for step in working.steps if step.kind == "term"]
    assert [step.note for step in spoke] == [level.value]


IDS = st.integers(0, 4)


@given(
    st.lists(st.tuples(IDS, IDS, IDS, IDS), min_size=1, max_size=12),
    st.dictionaries(st.tuples(st.sampled_from(ON_CHANNELS), st.integers(1, 4)), st.integers(0, 9).map(D) | st.none()),
)
def test_many_at_once_resolve_as_each_alone(rows: list[tuple[int, ...]], values: dict[tuple[Level, int], D | None]) -> None:
    levels = (Level.LISTING, Level.ITEM, Level.CATEGORY, Level.CONNECTION)
    columns = tuple((level, np.array([row[n] for row in rows], np.int64)) for n, level in enumerate(levels))
    by_level: dict[Level, dict[int, Any]] = {}
    for (level, subject), value in values.items():
        by_level.setdefault(level, {})[subject] = value
    found, which = resolve_columns(MAXIMUM, Ladder(columns, len(rows)), by_level)
    keyed = {(level, subject, 0, ""): value for (level, subject), value in values.items()}
    for row, at in zip(rows, which, strict=True):
        rungs = [Rung(level, "", row[n]) for n, level in enumerate(levels) if row[n]]
        assert found[at] == resolve(MAXIMUM, rungs, keyed).value


def test_the_nearest_category_speaks() -> None:
    columns = ((Level.CATEGORY, np.array([7, 8, 9])), (Level.CATEGORY, np.array([1, 1, 0])))
    found, which = resolve_columns(BUFFER, Ladder(columns, 3), {Level.CATEGORY: {1: D(5), 8: D(2)}})
    assert [found[at] for at in which] == [D(5), D(2), D(0)]


def test_no_limit_is_a_value_and_not_an_inherited_one() -> None:
    rungs = way(WEB, JARS, 3, 40, 77)
    values = {rungs[0].key: None, WEB.key: D(60)}
    assert resolve(MAXIMUM, rungs, values).value is None
    assert resolve(MAXIMUM, rungs, {WEB.key: D(60)}).value == D(60)
    assert MAXIMUM.said(None) == "no limit"


@pytest.mark.parametrize("given", ["-1", "1e400", "NaN", "abc", "", None, "1.0005", True])
def test_a_value_out_of_bounds_is_refused_by_name(given: Any) -> None:
    with pytest.raises(BadInputError) as error:
        BUFFER.take(given)
    assert error.value.field == "buffer"


def test_bundles_of_bundles_are_taken_apart() -> None:
    jar, tool, kit, box = 1, 2, 10, 11
    made = {kit: [(jar, D(3)), (tool, D(1))], box: [(kit, D(2)), (jar, D(1))]}
    assert dict(flatten(made)[box]) == {jar: D(7), tool: D(2)}
    assert flatten(made, {kit}) == {kit: [(jar, D(3)), (tool, D(1))]}
    with pytest.raises(BadInputError, match="hold itself"):
        flatten(made | {jar: [(box, D(1))]})
