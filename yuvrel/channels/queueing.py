"""What waits to be told to a connection."""

from __future__ import annotations

from collections.abc import Iterable

from django.utils import timezone

from yuvrel.connectors.capabilities import Capability

from .credentials import kinds_that
from .models import Connection, OutboundMessage


def live_one(can: Capability) -> Connection | None:
    """The live connection that can do something, where there is one of its sort, as a ledger."""
    return Connection.objects.filter(kind__in=kinds_that(can), state=Connection.State.LIVE).order_by("pk").first()


def queue(kind: str, subjects: Iterable[int], connection: Connection) -> set[int]:
    """Have a connection told of some subjects, each once. Returns the connection to wake."""
    now = timezone.now()
    OutboundMessage.objects.bulk_create(
        [OutboundMessage(connection=connection, kind=kind, subject_id=i, next_try_at=now) for i in subjects],
        ignore_conflicts=True,
    )
    return {connection.pk}


def queue_again(kind: str, subjects: Iterable[int], connection: Connection) -> set[int]:
    """Have a connection told of some subjects as they stand now, whether it was told of them before or not."""
    wanted = list(subjects)
    again = OutboundMessage.objects.filter(kind=kind, subject_id__in=wanted)
    again.update(state=OutboundMessage.State.WAITING, next_try_at=timezone.now(), attempts=0)
    return queue(kind, wanted, connection)
