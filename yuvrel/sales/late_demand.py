"""What was sold on earlier days and is known, or known otherwise, only now: forecasts made meanwhile stand on less."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date

from django.utils import timezone

from yuvrel.catalogue.kits import explode
from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.people.queries import company_day


def note_demand(items: Iterable[int], day: date, cause: str) -> None:
    """Say that what was sold of these items, or of the bundles they are in, on a day that is over is no longer what it
    was; of today nothing is forecast yet."""
    if day < company_day(timezone.now()):
        record(Event.Kind.DEMAND, {part for of in explode(items).values() for part, _ in of}, cause)
