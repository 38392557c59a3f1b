"""A Run's row while it runs: progress kept in the database, ended whatever happens."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from django.utils import timezone

from yuvrel.connectors.http import ConnectorError

from .models import Connection, Run, Snag


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


def raise_snag(connection: Connection | None, kind: str, title: str, detail: str, **about: object) -> Snag:
    """Open a snag, or renew the open one about the same thing."""
    subject = {k: v for k, v in about.items() if k in ("inbound", "outbound", "listing", "order") and v is not None}
    existing = Snag.objects.filter(connection=connection, kind=kind, resolved_at=None, **subject).first()
    snag = existing or Snag(connection=connection, kind=kind, **subject)
    snag.title, snag.detail = title[:200], detail[:1000]
    snag.field = str(about.get("field", ""))[:60]
    snag.save()
    return snag


def settle_snags(kind: str, how: str, **about: object) -> None:
    """Close the open snags about something that has been put right."""
    Snag.objects.filter(kind=kind, resolved_at=None, **about).update(resolved_at=timezone.now(), resolved_how=how[:120])
