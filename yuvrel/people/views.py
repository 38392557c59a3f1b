"""Named views of sheets, and how each person last had a sheet. A view belongs to who made it; others may look
through it when it is shared, and whoever may change the company may take a shared one away."""

from __future__ import annotations

from typing import Any

from django.db import IntegrityError, transaction
from django.db.models import Q, QuerySet

from yuvrel.core.errors import BadInputError, ForbiddenError, NotFoundError, RefusedError, StaleError

from .models import Company, SheetHabit, SheetView
from .queries import company
from .roles import Actor, Role, audit

# More than anybody could tell apart in a list.
MOST_VIEWS = 60


def _person(actor: Actor) -> int:
    if actor.user_id is None:
        raise RefusedError("Only somebody who is signed in has views.")
    return actor.user_id


def _seen_by(actor: Actor, sheet: str) -> QuerySet[SheetView]:
    """One's own, and what people of the same company share. Who has no company named works for the first."""
    mine = company()
    theirs = Q(owner__company=mine)
    if not Company.objects.filter(pk__lt=mine.pk).exists():
        theirs |= Q(owner__company=None)
    return SheetView.objects.filter(Q(owner_id=_person(actor)) | (Q(shared=True) & theirs), sheet=sheet)


def of_sheet(actor: Actor, sheet: str) -> dict[str, Any]:
    """The views somebody may look through, their own first, and their habit."""
    habit = SheetHabit.objects.filter(user_id=_person(actor), sheet=sheet).first()
    rows = _seen_by(actor, sheet).select_related("owner")
    views = [
        {
            "id": row.pk,
            "name": row.name,
            "owner": row.owner.get_full_name() or row.owner.username,
            "mine": row.owner_id == actor.user_id,
            "shared": row.shared,
            "version": row.version,
            "settings": row.settings,
        }
        for row in rows
    ]
    views.sort(key=lambda view: (not view["mine"], str(view["name"]).lower()))
    shown = {view["id"] for view in views}
    opens = habit.opens_with_id if habit and habit.opens_with_id in shown else None
    return {"views": views, "last": habit.settings if habit else None, "opens_with": opens}


def remember(actor: Actor, sheet: str, settings: dict[str, Any]) -> None:
    """Keep how a person has a sheet."""
    SheetHabit.objects.update_or_create(user_id=_person(actor), sheet=sheet, defaults={"settings": settings})


def open_with(actor: Actor, sheet: str, view_id: int | None) -> None:
    """Let a sheet open with a view, or as it was last."""
    if view_id is not None and not _seen_by(actor, sheet).filter(pk=view_id).exists():
        raise NotFoundError("There is no such view.", field="view")
    SheetHabit.objects.update_or_create(user_id=_person(actor), sheet=sheet, defaults={"opens_with_id": view_id})


def keep(
    actor: Actor, sheet: str, view_id: int | None, *, name: str, shared: bool, settings: dict[str, Any], version: int = 0
) -> SheetView:
    """Keep a view under a name: a new one, or one of one's own as it is now.

    Raises BadInputError for an empty name or one that is taken, StaleError when it was changed meanwhile, RefusedError
    where there are too many.
    """
    name = " ".join(name.split())
    if not name:
        raise BadInputError("Give the view a name.", field="name")
    with transaction.atomic():
        if view_id is None:
            row = SheetView(owner_id=_person(actor), sheet=sheet, version=0)
            if SheetView.objects.filter(owner_id=_person(actor), sheet=sheet).count() >= MOST_VIEWS:
                raise RefusedError(f"You have {MOST_VIEWS} views of this sheet. Take one away first.")
        else:
            row = _own(actor, sheet, view_id)
            if row.version != version:
                raise StaleError
        row.name, row.shared, row.settings, row.version = name, shared, settings, row.version + 1
        try:
            with transaction.atomic():
                row.save()
        except IntegrityError as error:
            raise BadInputError(f"You have a view called {name} already.", field="name") from error
        return row


def _own(actor: Actor, sheet: str, view_id: int) -> SheetView:
    row = _seen_by(actor, sheet).select_for_update(of=("self",)).filter(pk=view_id).first()
    if row is None:
        raise NotFoundError("There is no such view.")
    if row.owner_id != actor.user_id:
        raise ForbiddenError("This view belongs to somebody else. Keep what you see under a name of your own.")
    return row


def take_away(actor: Actor, sheet: str, view_id: int) -> None:
    """Take a view away: one's own, or as a manager one that is shared."""
    with transaction.atomic():
        if actor.role is Role.MANAGER:
            row = _seen_by(actor, sheet).select_for_update(of=("self",)).filter(pk=view_id).first()
            if row is None:
                raise NotFoundError("There is no such view.")
        else:
            row = _own(actor, sheet, view_id)
        if row.owner_id != actor.user_id:
            audit(actor, "took away a view", "view", row.pk, {"sheet": sheet, "name": row.name, "owner": row.owner_id})
        row.delete()
