"""Figures for Prometheus, read from the database when they are asked for: they hold for all processes."""

from __future__ import annotations

import secrets
from collections.abc import Iterable
from datetime import datetime

from django.conf import settings
from django.db.models import Count, Max, Min
from django.http import HttpRequest, HttpResponse
from django.utils import timezone
from django_scopes import scopes_disabled
from procrastinate.contrib.django.models import ProcrastinateEvent, ProcrastinateJob
from prometheus_client import CollectorRegistry
from prometheus_client.core import GaugeMetricFamily, Metric
from prometheus_client.exposition import CONTENT_TYPE_LATEST, generate_latest

from yuvrel.agreement.models import Drift
from yuvrel.channels.jobs import RELAYS
from yuvrel.channels.models import Connection, Feed, InboundMessage, Listing, OutboundMessage, Snag
from yuvrel.events.models import Event


def metrics(request: HttpRequest) -> HttpResponse:
    """The figures, for who holds the token of the settings; without one there is no such page."""
    token = settings.METRICS_TOKEN
    given = request.headers.get("Authorization", "").removeprefix("Bearer ")
    if not token or not secrets.compare_digest(token.encode(), given.encode()):
        return HttpResponse(status=404)
    registry = CollectorRegistry()
    registry.register(_Figures())
    with scopes_disabled():
        figures = generate_latest(registry)
    return HttpResponse(figures, content_type=CONTENT_TYPE_LATEST)


class _Figures:
    def collect(self) -> Iterable[Metric]:
        now = timezone.now()
        yield from _connections(now)
        yield _counted("yuvrel_open_drifts", "Drifts not healed", "code", Drift.objects.filter(healed_at=None), "code")
        yield _counted("yuvrel_open_snags", "Snags not resolved", "kind", Snag.objects.filter(resolved_at=None), "kind")
        aside = InboundMessage.objects.filter(state=InboundMessage.State.SNAGGED)
        text = "Messages set aside that wait for a decision"
        yield _counted("yuvrel_set_aside", text, "connection", aside, "connection__name")
        # Those that ended well are deleted, so these are few.
        kept = ProcrastinateJob.objects.filter(status__in=("todo", "doing", "failed"))
        yield _counted("yuvrel_jobs", "Jobs that wait, run or failed", "status", kept, "status")
        yield _single("yuvrel_oldest_job_seconds", "Age of the oldest job that could run", _oldest_job(now))
        oldest = Event.objects.filter(done_at=None, consumer__in=RELAYS).aggregate(at=Min("created_at"))["at"]
        yield _single("yuvrel_oldest_event_seconds", "Age of the oldest event not relayed", _age(now, oldest))
        open_events = Event.objects.filter(done_at=None)
        yield _counted("yuvrel_open_events", "Events that a consumer has not worked on", "consumer", open_events, "consumer")


def _connections(now: datetime) -> Iterable[Metric]:
    """How far each live connection is behind: the age of the oldest thing that waits for it."""
    oldest: dict[int, datetime] = {}
    sources = (
        Listing.objects.filter(offer_state__in=("pending", "held")).values_list("connection_id").annotate(at=Min("offered_at")),
        OutboundMessage.objects.filter(state="waiting").values_list("connection_id").annotate(at=Min("made_at")),
        InboundMessage.objects.filter(state="new").values_list("connection_id").annotate(at=Min("received_at")),
    )
    for rows in sources:
        for key, at in rows.order_by():
            oldest[key] = min(oldest.get(key, at), at)
    of = ["company", "connection"]
    lag = GaugeMetricFamily("yuvrel_connection_lag_seconds", "Age of the oldest thing waiting", labels=of)
    faults = GaugeMetricFamily("yuvrel_connection_faults", "Calls that failed in a row", labels=of)
    heard = GaugeMetricFamily(
        "yuvrel_connection_heard_seconds", "Since it was last asked for news", labels=["company", "connection"]
    )
    asked = dict(Feed.objects.exclude(asked_at=None).values_list("connection_id").annotate(at=Max("asked_at")).order_by())
    for row in Connection.objects.filter(state=Connection.State.LIVE).select_related("company").order_by("name"):
        named = [row.company.name, row.name]
        lag.add_metric(named, _age(now, oldest.get(row.pk)))
        faults.add_metric(named, row.faults)
        if row.pk in asked:
            heard.add_metric(named, _age(now, asked[row.pk]))
    return lag, faults, heard


def _oldest_job(now: datetime) -> float:
    """Jobs scheduled for later do not count; a job's age is that of its deferral."""
    ready = ProcrastinateJob.objects.filter(status="todo").exclude(scheduled_at__gt=now)
    deferred = ProcrastinateEvent.objects.filter(job__in=ready, type="deferred").aggregate(at=Min("at"))["at"]
    return _age(now, deferred)


def _age(now: datetime, at: datetime | None) -> float:
    return max(0.0, (now - at).total_seconds()) if at else 0.0


def _single(name: str, text: str, value: float) -> Metric:
    return GaugeMetricFamily(name, text, value=value)


def _counted(name: str, text: str, label: str, rows: object, field: str) -> Metric:
    found = GaugeMetricFamily(name, text, labels=[label])
    for key, count in rows.values_list(field).annotate(n=Count("pk")).order_by(field):  # type: ignore[attr-defined]
        found.add_metric([key], count)
    return found
