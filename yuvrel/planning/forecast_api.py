"""Routes of forecasts and of the policies that stand on them."""

from __future__ import annotations

from typing import Any

from django.http import HttpRequest
from django.utils import timezone
from ninja import Router

from yuvrel.people.queries import company_day
from yuvrel.platform.auth import actor
from yuvrel.platform.wire import Said
from yuvrel.rules.actions import rung_at
from yuvrel.rules.api import wanted
from yuvrel.rules.schemas import SettingsChangeIn

from . import forecasts, outlooks, policies
from .schemas import (
    ForecastHead,
    ForecastOut,
    ForecastPage,
    ForecastRunOut,
    OneOffIn,
    RehearsalOut,
)

router = Router(tags=["buying"])


@router.get("/forecasts", response=ForecastPage, operation_id="list_forecasts")
def list_forecasts(
    request: HttpRequest,
    q: str = "",
    method: str = "",
    location: int | None = None,
    item: int | None = None,
    sort: str = "",
    cursor: str = "",
    limit: int = 80,
) -> Any:
    """What is expected to sell, what sells most first."""
    actor(request)
    return outlooks.sheet(q, method, location, sort, cursor, limit, item)


@router.get("/forecasts/head", response=ForecastHead, operation_id="forecasts")
def head(request: HttpRequest) -> Any:
    """What the forecast sheet says above its rows."""
    actor(request)
    return outlooks.head()


@router.post("/forecasts/runs", response=ForecastRunOut, operation_id="run_forecasts")
def run(request: HttpRequest) -> Any:
    """Work everything out anew, in the background."""
    return outlooks.run_of(forecasts.begin_run(actor(request), timezone.now()))


@router.post("/forecasts/runs/stop", response=Said, operation_id="stop_forecasts")
def stop(request: HttpRequest) -> Any:
    """Stop the run under way; what is done is kept."""
    forecasts.stop_run(actor(request))
    return {"said": "It stops after the category it is at."}


@router.get("/forecasts/{int:item_id}/{int:location_id}", response=ForecastOut, operation_id="get_forecast")
def one(request: HttpRequest, item_id: int, location_id: int) -> Any:
    """One item at one place."""
    actor(request)
    return outlooks.one(item_id, location_id, company_day(timezone.now()))


@router.put("/forecasts/one-offs/{int:line_id}", response=Said, operation_id="set_one_off_aside")
def one_off(request: HttpRequest, line_id: int, body: OneOffIn) -> Any:
    """Leave an order line out of the demand, or count it."""
    forecasts.set_aside(actor(request), line_id, body.aside, timezone.now())
    return {"said": "Set aside; the forecast follows." if body.aside else "Counted; the forecast follows."}


@router.post("/replenishment/rehearsal/{way}/{key}", response=RehearsalOut, operation_id="rehearse_replenishment")
def rehearse(request: HttpRequest, way: str, key: str, body: SettingsChangeIn) -> Any:
    """What would be ordered with other settings; nothing is changed."""
    who = actor(request)
    rung = rung_at(way, key, body.level)
    item, _, place = key.partition("-")
    pair = (int(item), int(place)) if place else None
    return policies.rehearse(who, rung, wanted(body), pair, company_day(timezone.now()))
