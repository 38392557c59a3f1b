"""The margin below which nothing is offered: declared once, resolved for one item or for many."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from decimal import Decimal

import numpy as np

from yuvrel.catalogue.models import Item
from yuvrel.catalogue.rungs import above, parents_of
from yuvrel.core.rules import ON_CHANNELS, Ladder, Level, Setting, Value, resolve_columns
from yuvrel.people.roles import Ability
from yuvrel.rules.queries import by_level
from yuvrel.rules.registry import declare

FLOOR = Setting(
    "margin_floor",
    "Margin floor",
    "An offer whose margin, net of tax, is below this is held and becomes a Snag instead of being shown.",
    "percent",
    None,
    ON_CHANNELS,
    "Prices",
    Ability.PRICE.value,
    unit="%",
    low=Decimal(-1000),
    high=Decimal(100),
    places=2,
    limitless=True,
    no_limit="no floor",
    rehearsal="shown",
)
declare(FLOOR)


def floors_of(item_ids: Sequence[int]) -> dict[int, Decimal | None]:
    """The floor of each item where no connection is asked about: item, product, category, company."""
    rows = list(Item.objects.filter(pk__in=item_ids).values_list("pk", "product_id", "product__category_id"))
    table = np.array([[value or 0 for value in row] for row in rows], np.int64).reshape(len(rows), 3)
    columns = [(Level.ITEM, table[:, 0]), (Level.PRODUCT, table[:, 1])]
    columns += [(Level.CATEGORY, ids) for ids in above(table[:, 2], parents_of())]
    ladder = Ladder((*columns, (Level.COMPANY, np.ones(len(rows), np.int64))), len(rows))
    given: dict[Level, Mapping[int, Value]] = {}
    for level, by_subject in by_level([FLOOR.name])[FLOOR.name].items():
        found = by_subject.get((0, ""), {})
        given[level] = ({1: found[0]} if 0 in found else {}) if level == Level.COMPANY else found
    values, which = resolve_columns(FLOOR, ladder, given)
    return {row[0]: values[at] for row, at in zip(rows, which.tolist(), strict=True)}  # type: ignore[misc]
