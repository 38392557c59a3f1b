"""Reading runs: all of them, one with its calls, and how a connection has done lately."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from django.db.models import Count, Max, Q
from django.db.models.functions import TruncHour

from yuvrel.core.errors import NotFoundError
from yuvrel.people.queries import company_zone
from yuvrel.platform.faults import sheet_rows
from yuvrel.platform.paging import page

from .models import Call, Connection, Feed, Run
from .schedules import BY_NAME, all_set, is_wanted, parts_of, schedule_of
from .schemas import RunRow

STOPPABLE = frozenset({"orders", "listings", "pictures", "survey", "intake", "publish"})
# Part of setting a connection up: they say nothing of how it does.
ONCE = frozenset({"survey", "intake"})
HOURS = 24
LATELY = timedelta(days=7)
MOST_CALLS = 100
# Most runs of a schedule find nothing; those that did something, failed or are under way are looked for.
SOME = "some"
DID_SOMETHING = Q(taken__gt=0) | Q(changed__gt=0) | Q(failed__gt=0) | ~Q(state=Run.State.DONE)


def runs(q: str, connection: int | None, kind: str, state: str, cursor: str, limit: int) -> dict[str, Any]:
    """A page of runs, the newest first; what is searched for stands in their log. State `some`: those that did something."""
    found = Run.objects.select_related("connection").annotate(calls_n=Count("calls"))
    if connection is not None:
        found = found.filter(connection_id=connection)
    if kind:
        found = found.filter(kind=kind)
    if state == SOME:
        found = found.filter(DID_SOMETHING)
    elif state:
        found = found.filter(state=state)
    for word in q.split()[:6]:
        found = found.filter(log__icontains=word)
    rows, following = page(found, ["-id"], cursor, limit)
    shown = sheet_rows(RunRow, rows, run_row, known_run)
    return {"rows": shown, "next": following, "kinds": [{"kind": kind, "label": label} for kind, label in Run.Kind.choices]}


def known_run(row: Any) -> dict[str, Any]:
    """What is known of a run whatever else cannot be worked out."""
    facts = {"id": row.pk, "kind": row.kind, "label": Run.Kind(row.kind).label, "state": row.state}
    return {**facts, "connection_id": row.connection_id, "connection": row.connection.name, "started_at": row.started_at}


def run_row(row: Any) -> dict[str, Any]:
    """A run as a row."""
    names = ("kind", "state", "asked_by", "started_at", "ended_at", "done", "taken", "changed", "unchanged", "failed")
    return {
        **{name: getattr(row, name) for name in names},
        "id": row.pk,
        "label": Run.Kind(row.kind).label,
        "connection_id": row.connection_id,
        "connection": row.connection.name,
        "seconds": round((row.ended_at - row.started_at).total_seconds(), 1) if row.ended_at else None,
        "said": row.log[-1][1] if row.log else "",
        "calls": row.calls_n,
    }


def one_run(run_id: int, q: str = "") -> dict[str, Any]:
    """A run with its log and its calls, those of them in which every word of `q` stands. Raises NotFoundError."""
    row = Run.objects.select_related("connection").annotate(calls_n=Count("calls")).filter(pk=run_id).first()
    if row is None:
        raise NotFoundError("There is no such run.")
    names = ("id", "at", "method", "path", "status", "milliseconds", "sent", "received", "fault")
    return {
        **run_row(row),
        "log": row.log,
        "stoppable": row.state == Run.State.RUNNING and row.kind in STOPPABLE,
        "stopping": row.stop and row.state == Run.State.RUNNING,
        "found": list(calls_of(run_id, q).values(*names)[:MOST_CALLS]),
    }


def calls_of(run_id: int, q: str = "") -> Any:
    """The calls of a run in which every word stands, in their order."""
    found = Call.objects.filter(run_id=run_id).order_by("pk")
    for word in q.split()[:6]:
        where = Q(path__icontains=word) | Q(sent__icontains=word) | Q(received__icontains=word) | Q(fault__icontains=word)
        found = found.filter(where)
    return found


def health(connection: Connection, now: datetime) -> dict[str, Any]:
    """How a connection does: the last success and fault of each part, when it is asked next, and the hours of a day."""
    lately = Run.objects.filter(connection=connection, ended_at__gte=now - LATELY)
    ended = lately.order_by().values_list("kind", "state").annotate(at=Max("ended_at"))
    last = {(kind, state): at for kind, state, at in ended}
    feeds = {feed.part: feed for feed in Feed.objects.filter(connection=connection)}
    kept, local = all_set(), now.astimezone(company_zone())
    live = connection.state == Connection.State.LIVE
    following: dict[str, datetime | None] = {}
    for part in parts_of(connection):
        if not is_wanted(connection, part):
            continue
        feed = feeds.get(part.name)
        asked = feed.asked_at.astimezone(local.tzinfo) if feed and feed.asked_at else None
        following[part.run] = schedule_of(connection, part, kept).following(asked, local) if live else None
    ended_well_or_not = {kind for kind, state in last if state in ("done", "failed")}
    kinds = [kind for kind in Run.Kind if kind in following or kind in ended_well_or_not - ONCE]
    return {
        "parts": [
            {
                "kind": kind,
                "label": kind.label,
                "part": next((name for name, part in BY_NAME.items() if part.run == kind), ""),
                "succeeded_at": last.get((kind, "done")),
                "failed_at": last.get((kind, "failed")),
                "next_at": following.get(kind),
                "asked": kind in following,
            }
            for kind in kinds
        ],
        "hours": _hours(connection, now),
    }


def _hours(connection: Connection, now: datetime) -> list[dict[str, Any]]:
    """Runs that ended well and runs that failed, for each of the last hours, the oldest first."""
    end = now.replace(minute=0, second=0, microsecond=0)
    start = end - timedelta(hours=HOURS - 1)
    rows = Run.objects.filter(connection=connection, started_at__gte=start).annotate(hour=TruncHour("started_at"))
    counts = (
        rows.order_by()
        .values("hour")
        .annotate(done=Count("pk", filter=Q(state="done")), failed=Count("pk", filter=Q(state="failed")))
    )
    found = {row["hour"]: (row["done"], row["failed"]) for row in counts}
    hours = [start + timedelta(hours=n) for n in range(HOURS)]
    return [{"at": hour, **dict(zip(("done", "failed"), found.get(hour, (0, 0)), strict=True))} for hour in hours]
