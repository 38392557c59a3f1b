"""Recording events. The relay job is deferred in the same transaction: a rollback takes it along."""

from __future__ import annotations

from collections.abc import Iterable

from procrastinate.contrib.django import app

from .models import Event

RELAY = "channels.relay"


def record(kind: Event.Kind, subject_ids: Iterable[int], cause: str = "") -> None:
    """Note that something of `kind` happened to each subject and wake the relay."""
    rows = [Event(kind=kind, subject_id=i, cause=cause[:120]) for i in sorted(set(subject_ids))]
    if rows:
        Event.objects.bulk_create(rows)
        app.configure_task(RELAY).defer()
