"""The tree of categories: named, moved, merged into another, taken away."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from django.db import IntegrityError, transaction
from django.db.models import Count, ProtectedError

from yuvrel.core.errors import BadInputError, NotFoundError, RefusedError
from yuvrel.core.rules import Level
from yuvrel.events.models import Event
from yuvrel.people.roles import Ability, Actor, audit
from yuvrel.platform.shared import record_for_all
from yuvrel.rules.models import SettingValue

from .models import Category, Item, Product
from .rungs import MOST_DEEP, below


def tree() -> list[dict[str, Any]]:
    """Every category below the one it lies in, by name; `items`: in it and in all that lie in it."""
    rows = {row.pk: row for row in Category.objects.all()}
    own = dict(Item.objects.filter(active=True).values_list("product__category").annotate(n=Count("pk")).order_by())
    inside: dict[int | None, list[Category]] = {}
    for row in rows.values():
        inside.setdefault(row.parent_id, []).append(row)
    found: list[dict[str, Any]] = []
    for row in sorted(inside.get(None, []), key=lambda one: one.name.casefold()):
        _walk(row, 0, inside, own, found)
    return found


def _walk(
    row: Category,
    depth: int,
    inside: Mapping[int | None, Sequence[Category]],
    own: Mapping[int, int],
    found: list[dict[str, Any]],
) -> int:
    at = len(found)
    found.append(
        {"id": row.pk, "name": row.name, "parent_id": row.parent_id, "depth": depth, "own": own.get(row.pk, 0), "items": 0}
    )
    total = own.get(row.pk, 0)
    for child in sorted(inside.get(row.pk, []), key=lambda one: one.name.casefold()):
        total += _walk(child, depth + 1, inside, own, found)
    found[at]["items"] = total
    return total


def _held() -> dict[int, Category]:
    """The whole tree, held while it is changed: two moved into each other at once would be lost from it."""
    return {row.pk: row for row in Category.objects.select_for_update(no_key=True).order_by("pk")}


def _one(tree: Mapping[int, Category], category_id: int) -> Category:
    if category_id not in tree:
        raise NotFoundError("There is no such category.")
    return tree[category_id]


@transaction.atomic
def keep(actor: Actor, category_id: int | None, facts: Mapping[str, Any]) -> Category:
    """Keep a category: a new one, or another name or place of one; `facts` has name, parent_id (None: at the top).

    Raises BadInputError for a name that is taken, or a place inside itself.
    """
    actor.need(Ability.EDIT_RANGE)
    held = _held()
    row = Category() if category_id is None else _one(held, category_id)
    before = {"name": row.name, "in": row.parent.name if row.parent else ""} if row.pk else {}
    if "name" in facts:
        row.name = str(facts["name"]).strip()
    if not row.name:
        raise BadInputError("A category needs a name.", field="name")
    moved = "parent_id" in facts and facts["parent_id"] != row.parent_id
    if moved:
        row.parent = _parent(held, row, facts["parent_id"])
    try:
        with transaction.atomic():
            row.save()
    except IntegrityError as error:
        raise BadInputError(f"There is a category called {row.name} already.", field="name") from error
    if moved and before:
        tell(below(row.pk), f"{row.name} was moved")
    after = {"name": row.name, "in": row.parent.name if row.parent else ""}
    if before != after:
        audit(actor, "change category" if before else "make category", "category", row.pk, before, after)
    if before and before["name"] != after["name"]:
        record_for_all([Event.Kind.TEXT], _items([row.pk]), f"{row.name} is called so now")
    return row


def _parent(held: Mapping[int, Category], row: Category, parent_id: int | None) -> Category | None:
    """The category that one is to lie in. Raises BadInputError for none, for one that lies in it, and too deep a tree."""
    if parent_id is None:
        return None
    parent = held.get(parent_id)
    if parent is None:
        raise BadInputError("There is no such category to put it in.", field="parent_id")
    moved = below(row.pk) if row.pk else []
    if parent_id in moved:
        raise BadInputError(f"{row.name} cannot lie in {parent.name}, which lies in it.", field="parent_id")

    def depth(at: int | None) -> int:
        return 0 if at is None else 1 + depth(held[at].parent_id)

    height = max((depth(one) for one in moved), default=1) - (depth(row.pk) - 1 if row.pk else 0)
    if depth(parent_id) + height > MOST_DEEP:
        raise BadInputError(f"Categories lie at most {MOST_DEEP} deep.", field="parent_id")
    return parent


def tell(categories: Sequence[int], cause: str) -> None:
    """What items inherit from their categories may be other now: offers and prices are worked out anew."""
    record_for_all([Event.Kind.AVAILABILITY, Event.Kind.PRICE], _items(categories), cause)


def _items(categories: Sequence[int]) -> list[int]:
    return list(Item.objects.filter(product__category_id__in=categories).values_list("pk", flat=True))


@transaction.atomic
def merge(actor: Actor, category_id: int, into_id: int) -> Category:
    """Move all that is in a category into another, and take it away. Raises BadInputError for one that lies in it."""
    actor.need(Ability.EDIT_RANGE)
    held = _held()
    row, into = _one(held, category_id), _one(held, into_id)
    if into_id in below(category_id):
        raise BadInputError(f"{into.name} lies in {row.name}; move it out first.", field="into_id")
    count = Product.objects.filter(category=row).update(category=into)
    Category.objects.filter(parent=row).update(parent=into)
    name = row.name
    _take_away(row)
    tell(below(into_id), f"{name} was put into {into.name}")
    record_for_all([Event.Kind.TEXT], _items([into_id]), f"{name} was put into {into.name}")
    audit(actor, "merge category", "category", into.pk, {"name": name}, {"into": into.name, "products": count})
    return into


@transaction.atomic
def delete(actor: Actor, category_id: int) -> None:
    """Take an empty category away. Raises RefusedError when something is in it."""
    actor.need(Ability.EDIT_RANGE)
    row = _one(_held(), category_id)
    name = row.name
    _take_away(row)
    audit(actor, "delete category", "category", category_id, {"name": name})


def _take_away(row: Category) -> None:
    """With what was set for it. Raises RefusedError when something is in it."""
    levels = (Level.CATEGORY.value, Level.CATEGORY_ON_CONNECTION.value)
    SettingValue.objects.filter(level__in=levels, subject=row.pk).delete()
    try:
        with transaction.atomic():
            row.delete()
    except ProtectedError as error:
        raise RefusedError(f"Something is in {row.name}: move it, or put it all into another category.", field="name") from error
