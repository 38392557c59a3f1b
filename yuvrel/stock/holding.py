"""Goods that a document of whatever kind holds where they lie: they are counted as committed, and nobody else has them.

What orders hold their own reservations say, which also know what is still owed; here are those of any other document.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping
from decimal import Decimal

from django.db.models import Sum

from yuvrel.core.availability import reserve
from yuvrel.core.money import ZERO, spoken
from yuvrel.documents.columns import from_document
from yuvrel.documents.registry import Ref
from yuvrel.people.roles import Actor, audit

from .models import DocumentReservation
from .moving import lock_balances


def reserved_by(ref: Ref) -> dict[int, Decimal]:
    """Units of each item that a document holds."""
    rows = DocumentReservation.objects.filter(document_kind=ref.kind, document_id=ref.id)
    return dict(rows.values_list("item_id").annotate(units=Sum("quantity")).order_by())


def reserve_for(ref: Ref, number: str, place_id: int, wanted: Mapping[int, Decimal]) -> dict[int, Decimal]:
    """Reserve, for a document that is locked, so many of each item in all as are there for nobody else, orders that wait for
    goods among them; returns how many it holds now. What it held already stays its own; what it wants no more is let go."""
    balances = lock_balances((item, place_id) for item in wanted)
    held = {row.item_id: row for row in DocumentReservation.objects.filter(document_kind=ref.kind, document_id=ref.id)}
    found = {}
    for item, units in sorted(wanted.items()):
        here, own = balances[item, place_id], held.get(item)
        had = min(own.quantity, units) if own else ZERO
        more, _ = reserve(units - had, here.on_hand, here.committed + here.backordered)
        found[item] = had + more
        _keep(own or DocumentReservation(document=number, item_id=item, location_id=place_id, **from_document(ref)), found[item])
    return found


def release(ref: Ref, beyond: Mapping[int, Decimal] | None = None) -> list[int]:
    """Set what a document holds free: all of it, or of the items named what goes `beyond` so many. Returns the items."""
    rows = DocumentReservation.objects.filter(document_kind=ref.kind, document_id=ref.id)
    listed = list(rows if beyond is None else rows.filter(item_id__in=beyond))
    lock_balances((row.item_id, row.location_id) for row in listed)
    touched = []
    for row in rows.filter(pk__in=[row.pk for row in listed]):
        most = ZERO if beyond is None else beyond[row.item_id]
        if row.quantity > most:
            _keep(row, most)
            touched.append(row.item_id)
    return touched


def give_up(actor: Actor, over: dict[tuple[int, int], Decimal]) -> None:
    """Where so many more are reserved than are there, what is reserved for other documents than orders goes, the newest
    first, each with a trace; what is still too much stays in `over`. The caller holds the balances' locks."""
    rows = DocumentReservation.objects.filter(item_id__in={i for i, _ in over}, location_id__in={place for _, place in over})
    gone: dict[Ref, list[str]] = defaultdict(list)
    for row in rows.select_related("item").order_by("-pk"):
        units = min(row.quantity, over.get((row.item_id, row.location_id), ZERO))
        if units <= 0:
            continue
        over[row.item_id, row.location_id] -= units
        _keep(row, row.quantity - units)
        gone[Ref(row.document_kind, row.document_id or 0)].append(f"{spoken(units)} {row.item.sku}")
    for ref, units_said in gone.items():
        audit(actor, "goods are there no more", ref.kind, ref.id, after={"units": units_said})


def _keep(row: DocumentReservation, units: Decimal) -> None:
    if units > 0:
        row.quantity = units
        row.save()
    elif row.pk:
        row.delete()


def reserved_of(item_id: int, place_id: int | None = None) -> Iterable[DocumentReservation]:
    """What documents hold of an item, at a place or at all of them, the oldest first."""
    rows = DocumentReservation.objects.filter(item_id=item_id).select_related("location").order_by("pk")
    return rows if place_id is None else rows.filter(location_id=place_id)
