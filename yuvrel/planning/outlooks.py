"""Reading forecasts: all of them side by side, and one with its past, its rivals and its one-offs."""

from __future__ import annotations

from datetime import date, timedelta
from decimal import Decimal
from typing import Any

from django.db.models import Count, Q

from yuvrel.core.errors import NotFoundError
from yuvrel.core.forecast import METHODS
from yuvrel.core.outlook import Path, demand_working
from yuvrel.core.working import Working
from yuvrel.people.models import Location
from yuvrel.platform.faults import sheet_rows
from yuvrel.platform.paging import in_order, page

from . import queries
from .demand_history import MONTH_DAYS
from .models import ForecastRun, ItemForecast
from .policies import figures
from .schemas import ForecastRow

CENT = Decimal("0.01")
SORTS = {"units": "month", "item": "item__title", "location": "location__name"}


def sheet(
    q: str, method: str, location: int | None, sort: str, cursor: str, limit: int, item: int | None = None
) -> dict[str, Any]:
    """A page of forecasts, what sells most first, in a fixed number of queries."""
    found = ItemForecast.objects.select_related("item__product__category", "location")
    if method:
        found = found.filter(method=method)
    if location is not None:
        found = found.filter(location_id=location)
    if item is not None:
        found = found.filter(item_id=item)
    for word in q.split()[:6]:
        found = found.filter(Q(item__title__icontains=word) | Q(item__sku__icontains=word))
    found, order = in_order(found, sort, SORTS, ["-month", "id"])
    rows, following = page(found, order, cursor, limit)
    return {"rows": sheet_rows(ForecastRow, rows, _row, _known), "next": following}


def _known(row: ItemForecast) -> dict[str, Any]:
    item, place = row.item, row.location
    known = {"item_id": item.pk, "title": f"{item.title} · {place.name}", "sku": item.sku, "location_id": place.pk}
    return {**known, "location": place.name}


def _row(row: ItemForecast) -> dict[str, Any]:
    category = row.item.product.category
    return {
        "item_id": row.item_id,
        "location_id": row.location_id,
        "sku": row.item.sku,
        "title": row.item.title,
        "category": category.name if category else "",
        "location": row.location.name,
        "month": row.month,
        "last_year": row.last_year,
        "method": row.method,
        "why": row.why,
        "sentence": row.sentence,
        "error": row.error,
        "one_offs": sum(1 for one in row.one_offs if one["aside"]),
        "past": row.past,
        "ahead": row.path["mean"],
    }


def head() -> dict[str, Any]:
    """How the forecasts stand: how many by which method, how many beat last year, and the newest run."""
    counts = ItemForecast.objects.aggregate(
        n=Count("pk"), tested=Count("pk", filter=~Q(error=None)), closer=Count("pk", filter=Q(error__lt=1))
    )
    methods = ItemForecast.objects.values_list("method").annotate(n=Count("pk")).order_by("-n")
    places = Location.objects.filter(pk__in=ItemForecast.objects.order_by().values("location")).order_by("name")
    return {
        **counts,
        "methods": [{"name": name, "words": METHODS[name].words, "n": n} for name, n in methods],
        "locations": list(places.values("id", "name")),
        "run": run_of(ForecastRun.objects.order_by("-pk").first()),
    }


def run_of(run: ForecastRun | None) -> dict[str, Any] | None:
    """A run as the wire shows it."""
    if run is None:
        return None
    names = ("state", "day", "total", "done", "said", "asked_by", "started_at", "ended_at")
    return {name: getattr(run, name) for name in names}


def one(item_id: int, location_id: int, today: date) -> dict[str, Any]:
    """Everything about one item at one place: its past, what is expected, how that was chosen, how it is replenished.

    Raises NotFoundError.
    """
    line = queries.one_line(item_id, location_id, today)
    kept = ItemForecast.objects.filter(item_id=item_id, location_id=location_id).first()
    return {
        "item_id": item_id,
        "location_id": location_id,
        "sku": line.item.sku,
        "title": line.item.title,
        "location": line.location.name,
        "today": today,
        "past": queries.history(item_id, location_id, today),
        "weeks": _weeks(kept),
        "sentence": line.suggestion.outlook.sentence,
        "candidates": _candidates(kept),
        "one_offs": kept.one_offs if kept else [],
        "per_day": line.per_day,
        "velocity": line.velocity.per_day.quantize(CENT),
        "month": kept.month if kept else None,
        "last_year": kept.last_year if kept else None,
        "at": kept.at if kept else None,
        "suggestion": figures(line.suggestion),
    }


def month_of(item_id: int, location_id: int) -> Working:
    """The Working behind the units of the 30 days that a kept forecast begins with. Raises NotFoundError."""
    kept = ItemForecast.objects.filter(item_id=item_id, location_id=location_id).select_related("item", "location").first()
    if kept is None:
        raise NotFoundError("Nothing has been forecast for that item at that location.")
    outlook = Path(**kept.path).outlook(kept.sentence)
    return demand_working(outlook, MONTH_DAYS, kept.start, f"{kept.item.title} · {kept.location.name}")


def _weeks(kept: ItemForecast | None) -> list[dict[str, Any]]:
    if kept is None:
        return []
    path = kept.path
    triples = zip(path["mean"], path["low"], path["high"], strict=True)
    return [
        {"start": kept.start + timedelta(days=7 * n), "mean": mean, "low": low, "high": high}
        for n, (mean, low, high) in enumerate(triples)
    ]


def _candidates(kept: ItemForecast | None) -> list[dict[str, Any]]:
    """What was tried on the past, what counts most in the forecast first."""
    if kept is None:
        return []
    rows = [
        {"name": name, "words": METHODS[name].words, "error": mase, "bias": bias, "weight": weight, "chosen": name == kept.method}
        for name, (mase, bias, weight) in kept.tried.items()
    ]
    return sorted(rows, key=lambda row: (-row["weight"], row["error"], row["name"]))
