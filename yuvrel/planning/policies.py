"""How each item is replenished: changed by people, tried out before it counts."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from typing import Any

from django.db import transaction

from yuvrel.buying.models import SupplierItem
from yuvrel.catalogue.models import Item
from yuvrel.core.errors import BadInputError, NotFoundError, StaleError
from yuvrel.core.forecast import METHODS
from yuvrel.core.replenish import Policy, Suggestion, suggest
from yuvrel.outbox.actions import wake
from yuvrel.people.models import Location
from yuvrel.people.roles import Ability, Actor, audit

from . import queries
from .forecasts import wake_category
from .models import ItemPolicy

FIELDS = ("lead_days", "cover_days", "safety", "safety_figure", "method", "reorder_point", "order_up_to", "forecast")


@dataclass(frozen=True)
class Standing:
    """The policy that counts for an item at a location, and whose it is: the place's, the item's, or nobody's."""

    row: ItemPolicy
    scope: str
    policy: Policy


def standing(item_id: int, location_id: int) -> Standing:
    """The policy that counts. Raises NotFoundError."""
    if (
        not Item.objects.filter(pk=item_id, kind=Item.Kind.STOCKED).exists()
        or not Location.objects.filter(pk=location_id).exists()
    ):
        raise NotFoundError("That item is not stocked at that location.")
    rows: dict[tuple[int, int | None], ItemPolicy] = {
        (row.item_id, row.location_id): row for row in ItemPolicy.objects.filter(item_id=item_id)
    }
    own, general = rows.get((item_id, location_id)), rows.get((item_id, None))
    row = own or general or ItemPolicy(item_id=item_id, version=0)
    scope = "place" if own else "item" if general else "default"
    return Standing(row, scope, queries.policy_of(rows, item_id, location_id, _terms(item_id)))


def rehearse(item_id: int, location_id: int, changes: dict[str, Any], today: date) -> tuple[Suggestion, Suggestion]:
    """What would be suggested now, and what with the changes. Raises BadInputError naming what cannot be."""
    line = queries.one_line(item_id, location_id, today)
    row = _with(_copy(standing(item_id, location_id).row, item_id, location_id), changes)
    policy = queries.policy_of({(item_id, location_id): row}, item_id, location_id, _terms(item_id))
    now = line.suggestion
    return now, suggest(now.outlook, now.position, policy, subject=now.subject, offer=now.offer)


@transaction.atomic
def change(actor: Actor, item_id: int, location_id: int, version: int, changes: dict[str, Any]) -> Standing:
    """Give an item a policy of its own at a location, beginning from the one that counts there.

    Raises StaleError when somebody changed it since, BadInputError naming what cannot be.
    """
    actor.need(Ability.BUY)
    Item.objects.select_for_update().filter(pk=item_id).first()
    before = standing(item_id, location_id)
    if before.row.version != version:
        raise StaleError("Somebody changed this policy since you opened it.")
    row = before.row if before.scope == "place" else _copy(before.row, item_id, location_id)
    was = {name: str(getattr(row, name)) for name in FIELDS}
    asked = row.forecast
    _with(row, changes)
    queries.policy_of({(item_id, location_id): row}, item_id, location_id, _terms(item_id))
    row.version = version + 1
    row.save()
    audit(actor, "change", "policy", row.pk, before=was, after={name: str(getattr(row, name)) for name in FIELDS})
    _tell(item_id, forecast=row.forecast != asked)
    return standing(item_id, location_id)


@transaction.atomic
def give_up(actor: Actor, item_id: int, location_id: int) -> Standing:
    """Back to the item's policy, or the usual one. Raises NotFoundError when the place has none of its own."""
    actor.need(Ability.BUY)
    row = ItemPolicy.objects.select_for_update().filter(item_id=item_id, location_id=location_id).first()
    if row is None:
        raise NotFoundError("This place has no policy of its own.")
    audit(actor, "give up", "policy", row.pk, before={name: str(getattr(row, name)) for name in FIELDS})
    row.delete()
    _tell(item_id, forecast=True)
    return standing(item_id, location_id)


def _tell(item_id: int, *, forecast: bool) -> None:
    """Whoever saves does not wait for the sheet's rows, which a job may hold for a minute."""
    if forecast:
        wake_category(item_id)
    else:
        wake("planning.rows", f"planning.rows:{item_id}", item_id=item_id)


def _terms(item_id: int) -> SupplierItem | None:
    return queries.terms_of({item_id}).get(item_id)


def _copy(row: ItemPolicy, item_id: int, location_id: int) -> ItemPolicy:
    return ItemPolicy(item_id=item_id, location_id=location_id, **{name: getattr(row, name) for name in FIELDS})


def _with(row: ItemPolicy, changes: dict[str, Any]) -> ItemPolicy:
    for name, value in changes.items():
        setattr(row, name, value)
    if row.forecast != "auto" and row.forecast not in METHODS:
        raise BadInputError(f"There is no forecasting method {row.forecast!r}.", field="forecast")
    if Decimal(row.safety_figure) < 0:
        raise BadInputError("Safety stock cannot be negative.", field="safety_figure")
    if min(Decimal(row.reorder_point), Decimal(row.order_up_to)) < 0:
        raise BadInputError("A reorder point and a maximum cannot be negative.", field="reorder_point")
    if Decimal(row.order_up_to) < Decimal(row.reorder_point):
        raise BadInputError("The maximum lies below the reorder point.", field="order_up_to")
    return row
