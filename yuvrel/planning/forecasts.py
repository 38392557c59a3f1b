"""Forecasts: worked out for everything that sells, a category at a time, and kept until the next run."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator, Sequence
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import Any

import numpy as np
from django.db import IntegrityError, transaction
from django.db.models import Max
from procrastinate.contrib.django.models import ProcrastinateJob

from yuvrel.catalogue.kits import kits, parts_of
from yuvrel.catalogue.models import Item
from yuvrel.core.errors import NotFoundError, RefusedError
from yuvrel.core.forecast import Forecast, forecast, forecast_with_categories
from yuvrel.core.forecast.series import Series
from yuvrel.core.history import Bulk
from yuvrel.core.outlook import WEEK, paths_of
from yuvrel.core.replenish import Policy
from yuvrel.events.actions import Consumer, subscribe, waiting_for, wake
from yuvrel.events.models import Event
from yuvrel.people.queries import company_day
from yuvrel.people.roles import Ability, Actor, audit
from yuvrel.sales.models import OrderLine

from . import plan, queries
from .demand_history import MONTH_DAYS, Past, read_past
from .models import ForecastRun, ItemForecast, SetAside
from .rules import Pair, standings

LEAST_WEEKS, MOST_WEEKS, YEAR_WEEKS = 13, 26, 52
TASK = "planning.forecast"
AGAIN = timedelta(hours=1)
MOST_TRIES = 3
CONSUMER = "forecasts"
subscribe(Consumer(CONSUMER, frozenset({Event.Kind.DEMAND})))
# Sales of earlier days come in many at a time: their items are forecast anew once no more have come for a moment.
QUIET, LONGEST, MOST_EVENTS = timedelta(seconds=5), timedelta(minutes=10), 5000
# A transaction may be open for so long before what it wrote is seen.
OPEN = timedelta(minutes=1)
# Series in one batch: some 25 MB for their days.
BATCH = 4000
CENT = Decimal("0.01")


def begin_run(actor: Actor, at: datetime) -> ForecastRun:
    """Have everything forecast anew. Raises RefusedError while that is under way."""
    actor.need(Ability.BUY)
    try:
        with transaction.atomic():
            run = ForecastRun.objects.create(asked_by=actor.name, day=company_day(at), started_at=at)
            wake(TASK, TASK, run_id=run.pk)
    except IntegrityError as error:  # only one may be running
        raise RefusedError("The forecasts are being worked out already.", field="run") from error
    return run


def stop_run(actor: Actor) -> None:
    """Have the run under way stop after the category it is at. Raises RefusedError when there is none."""
    actor.need(Ability.BUY)
    if not ForecastRun.objects.filter(state=ForecastRun.State.RUNNING).update(stop=True):
        raise RefusedError("No forecast is being worked out.", field="run")


def take_up_again() -> None:
    """Have a run that was cut off carried on; one that waits or works already is left alone."""
    run = ForecastRun.objects.filter(state=ForecastRun.State.RUNNING).first()
    working = ProcrastinateJob.objects.filter(task_name=TASK, status__in=("todo", "doing"))
    if run is not None and not working.exists():
        wake(TASK, TASK, run_id=run.pk)


def is_due(at: datetime) -> bool:
    """Whether a new day of the company has begun since the last run, and none is under way. A run that failed is
    tried again an hour later, MOST_TRIES times in all; then it waits for the next day, or for somebody to ask."""
    runs = ForecastRun.objects.filter(day__gte=company_day(at))
    failed = runs.filter(state=ForecastRun.State.FAILED)
    if ForecastRun.objects.filter(state=ForecastRun.State.RUNNING).exists() or runs.count() > failed.count():
        return False
    last = failed.aggregate(last=Max("ended_at"))["last"]
    return last is None or (failed.count() < MOST_TRIES and last <= at - AGAIN)


def carry_out(run_id: int, clock: Callable[[], datetime]) -> None:
    """Work a run out, batch by batch, each kept as it is done; the replenishment sheet follows at the end.

    Any number of times: what is done for good is not done again, what was cut off begins anew.
    """
    run = ForecastRun.objects.get(pk=run_id)
    if run.state != ForecastRun.State.RUNNING:
        return
    try:
        state, said = _carry_out(run, clock())
    except Exception as error:
        _end(run, ForecastRun.State.FAILED, f"{type(error).__name__}: {error}"[:300], clock())
        raise
    _end(run, state, said, clock())


def _carry_out(run: ForecastRun, at: datetime) -> tuple[ForecastRun.State, str]:
    batches = list(_batches(run.day))
    run.done, run.total = 0, sum(len(batch) for batch in batches)
    run.save(update_fields=["done", "total"])
    kept = 0
    for batch in batches:
        if ForecastRun.objects.filter(pk=run.pk, stop=True).exists():
            return ForecastRun.State.STOPPED, "Stopped; what was done is kept."
        kept += _keep(batch, run.day, at)
        run.done += len(batch)
        run.save(update_fields=["done"])
    ItemForecast.objects.filter(at__lt=run.started_at).delete()
    plan.work_out_again(at)
    return ForecastRun.State.DONE, f"{kept:,} forecast; {run.total - kept:,} were never in stock."


def _end(run: ForecastRun, state: ForecastRun.State, said: str, at: datetime) -> None:
    run.state, run.said, run.ended_at = state, said, max(at, run.started_at)
    run.save(update_fields=["state", "said", "ended_at"])
    if state == ForecastRun.State.DONE:
        waiting_for(CONSUMER).filter(created_at__lt=run.started_at - OPEN).update(done_at=run.ended_at)


def forecast_category(item_id: int, at: datetime) -> None:
    """Forecast an item anew, with those of its category that are tried together with it, and its rows of the sheet."""
    today = company_day(at)
    for batch in _batches(today, item_id):
        _keep(batch, today, at)
        plan.work_out_items({item for item, _ in batch}, at)


@transaction.atomic
def follow_late_demand(at: datetime) -> int:
    """Have forecast anew what was sold on earlier days and became known after the forecast; how many categories.

    Waits while sales are coming in, and while a run is under way or due: what that reads need not be read again.
    """
    if is_due(at) or ForecastRun.objects.filter(state=ForecastRun.State.RUNNING).exists():
        return 0
    events = list(waiting_for(CONSUMER).select_for_update()[:MOST_EVENTS])
    if not events or (events[-1].created_at > at - QUIET and events[0].created_at > at - LONGEST):
        return 0
    items = Item.objects.filter(pk__in={event.subject_id for event in events}, active=True, kind=Item.Kind.STOCKED)
    woken = plan.wake_categories(dict(items.values_list("pk", "product__category_id")))
    Event.objects.filter(pk__in=[event.pk for event in events]).update(done_at=at)
    return woken


def set_aside(actor: Actor, line_id: int, aside: bool, at: datetime) -> None:
    """Leave what an order line sold out of its item's demand, or count it although it looks like a one-off; so for
    all lines of that item in the order, and for those that a change of the order puts in their place.

    Raises NotFoundError, and RefusedError for a line that is no goods.
    """
    actor.need(Ability.BUY)
    with transaction.atomic():
        line = OrderLine.objects.select_related("order").filter(pk=line_id).first()
        if line is None:
            raise NotFoundError("This line is no longer there; its order was changed. Forecast anew to see it as it is now.")
        if line.item_id is None or line.kind != OrderLine.Kind.ITEM:
            raise RefusedError("Only lines of goods count as demand.", field="line")
        said = {"aside": aside, "by": actor.name, "at": at}
        SetAside.objects.update_or_create(order=line.order, item_id=line.item_id, defaults=said)
        audit(actor, "set aside" if aside else "count", "order line", line.pk, after={"order": line.order.number})
        parts = [part for part, _ in parts_of(kits({line.item_id}), line.item_id)]
        for item in parts:
            plan.wake_category(item)


def _batches(today: date, only_item: int | None = None) -> Iterator[list[Pair]]:
    """Items and places that sell, together by category, in a lasting order; with `only_item` those it is in."""
    category = dict(Item.objects.filter(active=True, kind=Item.Kind.STOCKED).values_list("pk", "product__category_id"))
    wanted = None if only_item is None else {i for i, c in category.items() if c == category.get(only_item, -1)}
    by_category: dict[int, list[Pair]] = defaultdict(list)
    for pair in sorted(queries.pairs_of(today, wanted)):
        if pair[0] in category:
            by_category[category[pair[0]] or 0].append(pair)
    for _, pairs in sorted(by_category.items()):
        for begin in range(0, len(pairs), BATCH):
            batch = pairs[begin : begin + BATCH]
            if only_item is None or any(item == only_item for item, _ in batch):
                yield batch


def _keep(batch: Sequence[Pair], today: date, at: datetime) -> int:
    """Work out a batch and keep it; how many of it were ever in stock."""
    past = read_past(batch, today)
    found = _forecast(batch, past)
    one_offs: dict[Pair, list[Bulk]] = defaultdict(list)
    for bulk in past.history.bulk:
        one_offs[bulk.line.item, bulk.line.location].append(bulk)
    paths = paths_of(found, "week")
    choice = found.choice
    rows = []
    for at_row, pair in enumerate(batch):
        if choice.why[at_row] == "never":
            continue
        tried = {
            name: [round(float(table[at_row]), 4) for table in (choice.mase[name], choice.bias[name], choice.weights[name])]
            for name in choice.mase
            if choice.tried[name][at_row]
        }
        method, before = choice.names[at_row], past.last_year[at_row]
        rows.append(
            ItemForecast(
                item_id=pair[0],
                location_id=pair[1],
                start=today,
                method=method,
                why=choice.why[at_row],
                sentence=choice.sentence(at_row),
                sure=float(choice.sure[at_row]),
                error=tried[method][0] if method in tried else None,
                tried=tried,
                path=paths[at_row].as_dict(),
                past=_year(past.history.series, at_row),
                month=Decimal(str(round(paths[at_row].outlook().total(MONTH_DAYS), 6))).quantize(CENT),
                last_year=None if np.isnan(before) else Decimal(str(round(float(before), 2))),
                one_offs=[_told(bulk) for bulk in sorted(one_offs[pair], key=lambda b: b.line.day, reverse=True)],
                at=at,
            )
        )
    ItemForecast.objects.bulk_create(
        rows,
        batch_size=500,
        update_conflicts=True,
        unique_fields=["item", "location"],
        update_fields=[f.name for f in ItemForecast._meta.concrete_fields if f.name not in ("id", "item", "location")],
    )
    return len(rows)


def _year(series: Series, row: int) -> list[float | None]:
    """Units a week over the last year; None where nothing was in stock."""
    values, seen = series.values[row, -YEAR_WEEKS:], series.known[row, -YEAR_WEEKS:]
    return [round(float(units), 1) if known else None for units, known in zip(values, seen, strict=True)]


def _told(bulk: Bulk) -> dict[str, Any]:
    return {
        "line": bulk.line.ref,
        "day": bulk.line.day.isoformat(),
        "units": bulk.line.quantity,
        "usual": round(bulk.usual, 2),
        "aside": bulk.aside,
        "by_hand": bulk.by_hand,
        "order": bulk.line.order,
    }


def _forecast(batch: Sequence[Pair], past: Past) -> Forecast:
    """A batch forecast by the candidates weighed, or by the one method its policy names."""
    series = past.history.series
    items = {item for item, _ in batch}
    found = standings(batch, queries.terms_of(items))
    chosen = [found.get(pair) for pair in batch]
    horizon = _horizon([one.policy for one in chosen if one])
    made = forecast_with_categories(series, horizon, [0] * len(batch))
    asked: dict[str, list[int]] = defaultdict(list)
    for row, standing in enumerate(chosen):
        if standing is not None and standing.forecast != "auto":
            asked[standing.forecast].append(row)
    for method, rows in sorted(asked.items()):
        _take(made, np.array(rows), forecast(series.rows(np.array(rows)), horizon, method))
    return made


def _horizon(policies: Sequence[Policy]) -> int:
    """Weeks that reach over the longest planning period, and LEAST_WEEKS at least."""
    days = max([policy.days for policy in policies] or [0])
    return min(MOST_WEEKS, max(LEAST_WEEKS, -(-days // WEEK)))


def _take(into: Forecast, rows: Any, asked: Forecast) -> None:
    """Put the forecasts of some rows in the place of those chosen by the test."""
    into.mean[rows] = asked.mean
    ours, theirs = into.spread, asked.spread
    ours.single[rows], ours.total[rows] = theirs.single, theirs.total
    if ours.stretch is not None and theirs.stretch is not None:
        ours.stretch[rows] = theirs.stretch
    if ours.total_stretch is not None and theirs.total_stretch is not None:
        ours.total_stretch[rows] = theirs.total_stretch
    for at, row in enumerate(rows):
        into.choice.names[row], into.choice.why[row] = asked.choice.names[at], asked.choice.why[at]
        into.choice.sure[row] = asked.choice.sure[at]
        for name in into.choice.weights:
            into.choice.weights[name][row] = 0.0
        for name in asked.choice.mase:
            zeros = np.zeros(len(into.choice.names))
            into.choice.weights.setdefault(name, zeros.copy())[row] = asked.choice.weights[name][at]
            into.choice.mase.setdefault(name, zeros.copy())[row] = asked.choice.mase[name][at]
            into.choice.bias.setdefault(name, zeros.copy())[row] = asked.choice.bias[name][at]
            into.choice.tried.setdefault(name, zeros.astype(bool))[row] = asked.choice.tried[name][at]
