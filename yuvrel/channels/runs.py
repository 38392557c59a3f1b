"""A Run's row while it runs: progress kept in the database, ended whatever happens."""

from __future__ import annotations

import logging
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import timedelta

from django.db.models import Q
from django.utils import timezone

from yuvrel.connectors.http import ConnectorError

from .models import Connection, Run, Snag

log = logging.getLogger("yuvrel.channels")
LONGEST_PAUSE = 60.0


class RunLog(Run):
    """A Run that takes notes."""

    class Meta:
        proxy = True

    def note(self, text: str) -> None:
        """A line in the log, with the time."""
        self.log = [*self.log, [timezone.now().isoformat(timespec="seconds"), text[:500]]][-200:]


@contextmanager
def run_of(connection: Connection, kind: str) -> Iterator[RunLog]:
    """Open a Run; failing ends it as failed with the reason, and the fault goes on its way."""
    left = Run.objects.filter(connection=connection, kind=kind, state=Run.State.RUNNING)
    # One that still runs writes its own end over this; one whose process died would run for ever.
    left.update(state=Run.State.FAILED, ended_at=timezone.now())
    run = RunLog.objects.create(connection=connection, kind=kind)
    try:
        yield run
    except ConnectorError as error:
        run.state = Run.State.FAILED
        run.note(str(error))
        raise
    except BaseException as error:
        run.state = Run.State.FAILED
        run.note(f"{type(error).__name__}: {error}")
        raise
    else:
        run.state = Run.State.DONE
    finally:
        run.ended_at = timezone.now()
        run.save()


def account_failed(connection: Connection, kind: str, error: ConnectorError) -> None:
    """Leave an account alone for a while: pauses grow from seconds to a minute, or last as long as it asks."""
    faults = min(30, Connection.objects.values_list("faults", flat=True).get(pk=connection.pk) + 1)
    pause = max(error.wait, min(LONGEST_PAUSE, 2.0**faults))
    until = timezone.now() + timedelta(seconds=pause)
    Connection.objects.filter(pk=connection.pk).update(faults=faults, pause_until=until)
    raise_snag(connection, kind, f"{connection.name} does not answer as it should", str(error))
    log.warning("account failed", extra={"connection": connection.name, "what": kind, "pause": pause, "error": str(error)})


def account_works(connection: Connection, kind: str) -> None:
    """It answered: no pause any more, and its snag closes."""
    Connection.objects.filter(pk=connection.pk).exclude(faults=0, pause_until=None).update(faults=0, pause_until=None)
    settle_snags(kind, "it works again", connection=connection)


def raise_snag(connection: Connection | None, kind: str, title: str, detail: str, **about: object) -> Snag:
    """Open a snag, or renew the open one about the same thing."""
    subject = {k: v for k, v in about.items() if k in ("inbound", "outbound", "listing", "order") and v is not None}
    existing = Snag.objects.filter(connection=connection, kind=kind, resolved_at=None, **subject).first()
    snag = existing or Snag(connection=connection, kind=kind, **subject)
    snag.title, snag.detail = title[:200], detail[:1000]
    snag.field = str(about.get("field", ""))[:60]
    snag.save()
    return snag


def settle_snags(kind: str, how: str, which: Q | None = None, **about: object) -> None:
    """Close the open snags about something that has been put right."""
    Snag.objects.filter(which or Q(), kind=kind, resolved_at=None, **about).update(
        resolved_at=timezone.now(), resolved_how=how[:120]
    )
