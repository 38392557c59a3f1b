"""A Run's row while it runs: progress kept in the database, ended whatever happens."""

from __future__ import annotations

import logging
import re
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from datetime import datetime, timedelta
from typing import ClassVar

from django.db import models, transaction
from django.db.models import Q
from django.utils import timezone

from yuvrel.connectors.http import ConnectorError, Record, listener, storable
from yuvrel.core.errors import NotFoundError, RefusedError, YuvrelError
from yuvrel.ownership import owned
from yuvrel.people.roles import Ability, Actor, audit

from .models import Call, Connection, Run, Snag

log = logging.getLogger("yuvrel.channels")
LONGEST_PAUSE = 60.0


# Of one run so many calls are kept, and of each so much text.
MOST_CALLS, MOST_TEXT = 400, 20_000
_SECRET = re.compile(r'("[^"]*(?:secret|token|password|api_?key)[^"]*"\s*:\s*)"(?:[^"\\]|\\.)*"', re.IGNORECASE)


class StoppedError(YuvrelError):
    """Somebody stopped it."""


class RunLog(Run):
    """A Run that takes notes, shows how far it has come and looks whether it is to stop."""

    objects: ClassVar[models.Manager[RunLog]] = owned("connection__company")  # type: ignore[assignment]

    class Meta:
        proxy = True

    def note(self, text: str) -> None:
        """A line in the log, with the time."""
        self.log = [*self.log, [timezone.now().isoformat(timespec="seconds"), text[:500]]][-200:]

    def step(self, **counts: int) -> None:
        """Add to the counts and show them. Raises StoppedError when somebody asked it to stop."""
        for name, number in counts.items():
            setattr(self, name, getattr(self, name) + number)
        self.save(update_fields=[*COUNTS, "log"])
        if Run.objects.filter(pk=self.pk, stop=True).exists():
            raise StoppedError


COUNTS = ("done", "total", "taken", "changed", "unchanged", "failed")


class _Calls:
    """Keeps the calls of a run until it ends, and then writes them down together; secrets are not among them."""

    def __init__(self, run: Run) -> None:
        self.run, self.waiting, self.kept = run, list[Call](), 0

    def hear(self, record: Record) -> None:
        """Keep one call."""
        self.kept += 1
        if self.kept > MOST_CALLS:
            return
        told = (as_kept(record.sent), as_kept(record.received.decode("utf-8", "replace")))
        facts = {"status": record.status, "milliseconds": record.milliseconds, "fault": record.fault[:300]}
        call = Call(run=self.run, at=timezone.now(), method=record.method, path=record.path[:500], **facts)
        call.sent, call.received = told
        self.waiting.append(call)

    def write(self) -> None:
        """Write down what was kept."""
        Call.objects.bulk_create(self.waiting)


def as_kept(text: str) -> str:
    """A payload as it is kept: secrets blotted out, what no column can hold as its escape, cut where it is too long."""
    plain = str(storable(_SECRET.sub(r'\1"…"', text[: MOST_TEXT * 2])))
    return plain if len(text) <= MOST_TEXT else f"{plain[:MOST_TEXT]}\n… {len(text) - MOST_TEXT} more characters"


@contextmanager
def run_of(connection: Connection, kind: str, begun: Run | None = None) -> Iterator[RunLog]:
    """Open a Run, or go on with one that was `begun`; failing ends it as failed with the reason, and the fault goes on
    its way. One that was stopped ends so, and nobody is told of a fault. Its calls are kept."""
    # One that still runs writes its own end over this; one whose process died would run for ever. Those that somebody
    # asked for have a job that takes them up again.
    left = Run.objects.filter(connection=connection, kind=kind, state=Run.State.RUNNING, asked_by="")
    left.update(state=Run.State.FAILED, ended_at=timezone.now())
    run = RunLog.objects.get(pk=begun.pk) if begun else RunLog.objects.create(connection=connection, kind=Run.Kind(kind))
    calls = _Calls(run)
    outer = listener.set(calls.hear)
    try:
        yield run
    except StoppedError:
        run.state = Run.State.STOPPED
        run.note("stopped; what was done is kept")
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
        listener.reset(outer)
        run.ended_at = timezone.now()
        run.save(update_fields=["state", "ended_at", "log", *COUNTS])
        calls.write()


def begin(connection: Connection, kind: str, asked_by: str) -> Run:
    """A run that a job will carry out. Raises RefusedError while one of the kind is under way."""
    with transaction.atomic():
        Connection.objects.select_for_update().get(pk=connection.pk)
        if Run.objects.filter(connection=connection, kind=kind, state=Run.State.RUNNING).exists():
            raise RefusedError(f"{connection.name} is being asked for this already.", field="kind")
        return Run.objects.create(connection=connection, kind=Run.Kind(kind), asked_by=asked_by)


def cannot(run: Run, why: str) -> None:
    """End a run that could not even begin, with the reason."""
    note = [timezone.now().isoformat(timespec="seconds"), why[:500]]
    standing = Run.objects.filter(pk=run.pk, state=Run.State.RUNNING)
    standing.update(state=Run.State.FAILED, ended_at=timezone.now(), log=[*run.log, note])


def stop(actor: Actor, run_id: int) -> Run:
    """Ask a run to stop at the next page or batch; what is done is kept. Raises NotFoundError, RefusedError."""
    actor.need(Ability.RESOLVE)
    run = Run.objects.select_related("connection").filter(pk=run_id).first()
    if run is None:
        raise NotFoundError("There is no such run.")
    if run.state != Run.State.RUNNING:
        raise RefusedError(f"This run is {run.state}.", field="state")
    Run.objects.filter(pk=run.pk).update(stop=True)
    audit(actor, "stop run", "run", run.pk, after={"connection": run.connection.name, "kind": run.kind})
    return run


def forget_calls(days: Mapping[int, int], now: datetime) -> int:
    """Delete the calls of each connection that are older than so many days; the runs stay. Returns how many."""
    gone = 0
    for connection_id, kept in days.items():
        old = Call.objects.filter(run__connection_id=connection_id, at__lt=now - timedelta(days=kept))
        gone += old.delete()[0]
    return gone


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
    """Open a snag, or renew the open one about the same thing; a row of a sheet is named by its `field`."""
    named = {"inbound", "outbound", "listing", "order", *(["field"] if kind == Snag.Kind.ROW else [])}
    subject = {k: v for k, v in about.items() if k in named and v is not None}
    existing = Snag.objects.filter(connection=connection, kind=kind, resolved_at=None, **subject).first()
    snag = existing or Snag(connection=connection, kind=Snag.Kind(kind), **subject)
    snag.title, snag.detail = title[:200], detail[:1000]
    snag.field = str(about.get("field", ""))[:60]
    snag.save()
    return snag


def settle_snags(kind: str, how: str, which: Q | None = None, **about: object) -> None:
    """Close the open snags about something that has been put right."""
    Snag.objects.filter(which or Q(), kind=kind, resolved_at=None, **about).update(
        resolved_at=timezone.now(), resolved_how=how[:120]
    )
