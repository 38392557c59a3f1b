"""Lists made and changed, and who a place's list is."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date, datetime
from typing import Any

from django.db import IntegrityError, transaction
from django.db.models import ProtectedError, Q

from yuvrel.core.errors import BadInputError, NotFoundError, RefusedError, StaleError
from yuvrel.core.money import minor_unit
from yuvrel.core.pricing import in_order_of_parents
from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.people.models import Location
from yuvrel.people.roles import Ability, Actor, audit

from .loading import all_lists, as_core, base_list
from .models import PlaceList, PriceEntry, PriceList

FACTS = (
    "name",
    "currency",
    "taxed",
    "method",
    "parent_id",
    "percent",
    "amount",
    "rate",
    "ending",
    "rounding",
    "basis",
    "starts_on",
    "ends_on",
    "note",
)
MOST_LISTS = 300
# What is kept of a price has two decimals.
FINEST = -2


def get_list(list_id: int) -> PriceList:
    """The list. Raises NotFoundError."""
    row = PriceList.objects.filter(pk=list_id).first()
    if row is None:
        raise NotFoundError("There is no such price list.")
    return row


def locked_list(list_id: int, version: int | None = None) -> PriceList:
    """The list, locked; changes of one list take turns. Raises NotFoundError, StaleError."""
    row = PriceList.objects.select_for_update().filter(pk=list_id).first()
    if row is None:
        raise NotFoundError("There is no such price list.")
    if version is not None and row.version != version:
        raise StaleError(f"Somebody changed {row.name} since you opened it.")
    return row


def with_facts(row: PriceList, facts: Mapping[str, Any]) -> PriceList:
    """The list with other facts, checked and not saved. Raises BadInputError naming what cannot be, a circle too."""
    for name in FACTS:
        if name in facts:
            setattr(row, name, facts[name])
    row.name = row.name.strip()
    if not row.name:
        raise BadInputError("Give the list a name.", field="name")
    if minor_unit(row.currency).as_tuple().exponent < FINEST:  # type: ignore[operator]
        raise BadInputError(f"Prices are kept with two decimals; {row.currency} has more.", field="currency")
    if row.base and row.method != PriceList.Method.TYPED:
        raise BadInputError("The base prices are typed; make another list to derive.", field="method")
    if row.method != PriceList.Method.DERIVED:
        row.parent = None
    elif row.parent_id is None:
        row.parent = base_list()
    lists = all_lists()
    if row.parent_id is not None and row.parent_id not in lists:
        raise BadInputError("There is no such list to follow.", field="parent_id")
    changed = as_core(row)
    in_order_of_parents([*(one for key, one in lists.items() if key != changed.key), changed])
    return row


@transaction.atomic
def keep_list(actor: Actor, list_id: int | None, version: int, facts: Mapping[str, Any]) -> PriceList:
    """Keep a list: a new one, or one as it is now; `facts` has any of FACTS, and `place_ids`.

    Raises BadInputError naming what cannot be, StaleError when it was changed meanwhile.
    """
    actor.need(Ability.PRICE)
    # A circle can only be seen when lists are changed one after the other.
    base = PriceList.objects.select_for_update().get(pk=base_list().pk)
    if list_id is None:
        if PriceList.objects.count() >= MOST_LISTS:
            raise RefusedError(f"There are {MOST_LISTS} lists; take one away first.", field="name")
        row = PriceList(currency=base.currency)
    else:
        row = locked_list(list_id, version)
    before = _told(row) if row.pk else {}
    if row.pk and "currency" in facts and facts["currency"] != row.currency and (row.base or row.entries.exists()):
        raise RefusedError(f"Prices in {row.currency} are typed into it; make another list.", field="currency")
    with_facts(row, facts)
    row.version += 1 if row.pk else 0
    try:
        with transaction.atomic():
            row.save()
    except IntegrityError as error:
        raise BadInputError(f"There is a list called {row.name} already.", field="name") from error
    if "place_ids" in facts:
        _give_to_places(row, facts["place_ids"])
    after = _told(row)
    differs = [name for name in after if before.get(name) != after[name]]
    if differs:
        was = {name: before[name] for name in differs if name in before}
        audit(
            actor, "change price list" if before else "make price list", "price list", row.pk, was, {n: after[n] for n in differs}
        )
        record(Event.Kind.PRICE_LIST, [row.pk], f"{row.name} was changed")
    return row


def _told(row: PriceList) -> dict[str, str]:
    told = {name: str(getattr(row, name)) for name in FACTS if name != "parent_id"}
    places = PlaceList.objects.filter(list=row).order_by("location__position").values_list("location__name", flat=True)
    return {**told, "follows": row.parent.name if row.parent else "", "places": ", ".join(places)}


def _give_to_places(row: PriceList, place_ids: Sequence[int]) -> None:
    wanted = set(place_ids)
    if wanted - set(Location.objects.values_list("pk", flat=True)):
        raise BadInputError("There is no such place.", field="place_ids")
    PlaceList.objects.filter(list=row).exclude(location__in=wanted).delete()
    for place in sorted(wanted):
        PlaceList.objects.update_or_create(location_id=place, defaults={"list": row})


@transaction.atomic
def delete_list(actor: Actor, list_id: int, version: int, at: datetime) -> None:
    """Take a list away with all that is typed into it. Raises RefusedError while somebody is given it or follows it."""
    actor.need(Ability.PRICE)
    row = locked_list(list_id, version)
    if row.base:
        raise RefusedError("The base prices are the company's own; they stay.", field="base")
    try:
        with transaction.atomic():
            row.delete()
    except ProtectedError as error:
        names = sorted({_name_of(one) for one in error.protected_objects})
        raise RefusedError(f"{row.name} is in use: {', '.join(names[:5])}. Take it from them first.", field="list") from error
    audit(actor, "delete price list", "price list", list_id, before={"name": row.name, "at": at.isoformat()})


def _name_of(thing: Any) -> str:
    return str(thing.location.name if isinstance(thing, PlaceList) else getattr(thing, "name", thing))


@transaction.atomic
def begin_day(today: date) -> None:
    """With a new day, dated prices begin and end: everything they may reach is worked out once."""
    base = base_list()
    if base.worked_on is not None and base.worked_on >= today:
        return
    base = PriceList.objects.select_for_update().get(pk=base.pk)
    before = base.worked_on
    PriceList.objects.filter(pk=base.pk).update(worked_on=today)
    if before is None:
        return
    turning = Q(starts_on__gt=before, starts_on__lte=today) | Q(ends_on__gte=before, ends_on__lt=today)
    lists = set(PriceEntry.objects.filter(turning).values_list("list_id", flat=True).distinct())
    lists |= set(PriceList.objects.filter(turning).values_list("pk", flat=True))
    record(Event.Kind.PRICE_LIST, lists, f"prices of {today:%-d %b %Y}")
