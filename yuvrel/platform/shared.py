"""What happens to what companies share happens to all of them."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.ownership import working_for
from yuvrel.people.models import Company


def record_for_all(kinds: Iterable[Event.Kind], subject_ids: Iterable[int], cause: str) -> None:
    """Note for each company that something happened to subjects that companies share, and wake its consumers: what it
    offers, asks and buys of them is worked out anew."""
    topics, subjects = list(kinds), list(subject_ids)
    for company in Company.objects.order_by("pk"):
        with working_for(company):
            for kind in topics:
                record(kind, subjects, cause)


def for_each_company(do: Callable[[], None]) -> None:
    """Do something for each company in turn."""
    for company in Company.objects.order_by("pk"):
        with working_for(company):
            do()


def anywhere(holds: Callable[[], bool]) -> bool:
    """Whether something holds in any company."""
    for company in Company.objects.order_by("pk"):
        with working_for(company):
            if holds():
                return True
    return False
