"""Offers worked out as columns are the offers of the Workings, for every one."""

from __future__ import annotations

from decimal import Decimal as D

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from yuvrel.core.availability import (
    OfferRule,
    RuleColumns,
    Shelf,
    StockColumns,
    Units,
    bundle_pool,
    bundle_pools,
    offer,
    offer_quantities,
    pool_of,
    pools_of,
)

QUANTITY = st.integers(-(10**6), 10**7).map(lambda n: D(n) / 1000)
PROMISED = st.integers(0, 10**6).map(lambda n: D(n) / 1000)
SHELF = st.builds(Shelf, st.just("A"), QUANTITY, PROMISED, PROMISED, PROMISED)
RULE = st.builds(
    OfferRule,
    buffer=PROMISED,
    share_percent=st.integers(0, 10_000).map(lambda n: D(n) / 100),
    minimum=PROMISED,
    maximum=st.none() | PROMISED,
    step=st.sampled_from([D("0.001"), D("0.25"), D("0.5"), D(1), D(2), D("2.5"), D(12)]),
    past_zero_left=PROMISED,
    only_past_zero=st.booleans(),
)


def thousandths(values: list[D]) -> Units:
    """As the columns carry them."""
    return np.array([int(value * 1000) for value in values], np.int64)


@given(st.lists(st.lists(SHELF, max_size=3), min_size=1, max_size=6), st.sampled_from(["available", "projected"]))
def test_pools_of_many_items_are_the_pools_of_each(items: list[list[Shelf]], basis: str) -> None:
    rows = [(n, shelf) for n, shelves in enumerate(items) for shelf in shelves]
    columns = StockColumns(
        np.array([n for n, _ in rows], np.int64),
        thousandths([s.on_hand for _, s in rows]),
        thousandths([s.committed for _, s in rows]),
        thousandths([s.incoming_due for _, s in rows]),
        thousandths([s.backordered for _, s in rows]),
    )
    found = pools_of(columns, len(items), basis)  # type: ignore[arg-type]
    assert [D(int(n)) / 1000 for n in found] == [pool_of(shelves, basis) for shelves in items]  # type: ignore[arg-type]


@given(st.lists(st.integers(0, 10**15).map(lambda n: D(n) / 1000), min_size=1, max_size=8), RULE)
def test_offers_of_many_pools_are_the_offers_of_each(pools: list[D], rule: OfferRule) -> None:
    found = offer_quantities(thousandths(pools), RuleColumns.of(rule))
    assert [D(int(n)) / 1000 for n in found] == [offer(pool, rule) for pool in pools]


@given(
    st.lists(PROMISED, min_size=1, max_size=4),
    st.lists(st.lists(st.tuples(st.integers(0, 3), st.integers(1, 5000)), min_size=1, max_size=3), min_size=1, max_size=4),
)
def test_kits_of_many_are_the_kits_of_each(pools: list[D], kits: list[list[tuple[int, int]]]) -> None:
    parts = [(n, part % len(pools), each) for n, kit in enumerate(kits) for part, each in kit]
    columns = [np.array(column, np.int64) for column in zip(*parts, strict=True)]
    found = bundle_pools(thousandths(pools), columns[0], columns[1], columns[2], len(kits))
    expected = [bundle_pool([(pools[part % len(pools)], D(each) / 1000) for part, each in kit]) for kit in kits]
    assert [D(int(n)) / 1000 for n in found] == expected


def test_a_kit_without_parts_and_an_item_without_stock_offer_nothing() -> None:
    none = np.array([], np.int64)
    assert bundle_pools(none, none, none, none, 2).tolist() == [0, 0]
    assert pools_of(StockColumns(none, none, none, none, none), 2, "available").tolist() == [0, 0]
