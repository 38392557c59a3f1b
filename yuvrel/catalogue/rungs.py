"""How an item, a product and a category inherit what is set."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from yuvrel.core.errors import NotFoundError
from yuvrel.core.rules import Ints, Level, Rung
from yuvrel.people.queries import company
from yuvrel.rules.registry import Way, add_way

from .models import Category, Item

MOST_DEEP = 12


def company_rung() -> Rung:
    """The last rung of every way."""
    return Rung(Level.COMPANY, company().name)


def category_rungs(category: Category | None) -> list[Rung]:
    """A category and those it lies in, the nearest first."""
    found: list[Rung] = []
    while category is not None and len(found) < MOST_DEEP:
        found.append(Rung(Level.CATEGORY, category.name, category.pk))
        category = category.parent
    return found


def item_rungs(item: Item) -> list[Rung]:
    """How an item inherits."""
    product = item.product
    own = [Rung(Level.ITEM, item.title, item.pk), Rung(Level.PRODUCT, product.title, product.pk)]
    return [*own, *category_rungs(product.category), company_rung()]


def parents_of() -> dict[int, int]:
    """The category that each category lies in; 0 for those at the top."""
    return {pk: parent or 0 for pk, parent in Category.objects.values_list("pk", "parent_id")}


def above(categories: Ints, parents: Mapping[int, int]) -> list[Ints]:
    """Columns of the categories themselves, of those they lie in, and so on; 0 beyond the top."""
    columns = [categories]
    known = np.array(sorted(parents), np.int64)
    up = np.array([parents[int(pk)] for pk in known], np.int64)
    while len(known) and len(columns) < MOST_DEEP:
        at = np.minimum(np.searchsorted(known, columns[-1]), len(known) - 1)
        following = np.where(known[at] == columns[-1], up[at], 0)
        if not following.any():
            break
        columns.append(following)
    return columns


def below(category: int) -> list[int]:
    """A category and all that lie in it, at whatever depth."""
    parents = parents_of()
    found = {category}
    while True:
        more = {child for child, parent in parents.items() if parent in found} - found
        if not more:
            return sorted(found)
        found |= more


def below_named(name: str) -> list[int]:
    """The category of this name and all that lie in it. Raises NotFoundError."""
    row = Category.objects.filter(name__iexact=name).first()
    if row is None:
        raise NotFoundError("There is no such category.", field="category")
    return below(row.pk)


def _of_item(item_id: int) -> list[Rung]:
    item = Item.objects.select_related("product__category").filter(pk=item_id).first()
    if item is None:
        raise NotFoundError("There is no such item.")
    return item_rungs(item)


add_way(Way("item", _of_item))
