"""Routes of agreement."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from django.http import HttpRequest
from django.utils import timezone
from ninja import Router

from yuvrel.channels.jobs import wake_prices, wake_push
from yuvrel.channels.prices import STILL_HELD
from yuvrel.core.agreement import Code
from yuvrel.people.queries import company_day, company_zone
from yuvrel.platform.auth import actor
from yuvrel.platform.wire import Said

from . import actions, queries
from .schemas import AgreementOut, AgreePage

router = Router(tags=["agreement"])


@router.get("/agreement", response=AgreementOut, operation_id="get_agreement")
def get_agreement(request: HttpRequest) -> Any:
    """Do the three books agree?"""
    actor(request)
    day = company_day(timezone.now())
    return queries.head(datetime(day.year, day.month, day.day, tzinfo=company_zone()))


@router.get("/agreement/items", response=AgreePage, operation_id="list_agreement")
def list_items(request: HttpRequest, q: str = "", show: str = "all", cursor: str = "", limit: int = 100) -> Any:
    """Items across channels, shelf and books."""
    actor(request)
    return queries.items(q, show, cursor, limit)


@router.post("/agreement/check", response=Said, operation_id="check_agreement")
def check(request: HttpRequest) -> Any:
    """Have everything checked now; `checking` on the sheet says when it is done."""
    actions.ask_check(actor(request))
    return {"said": "Every book is being read; what differs shows here as it is found."}


@router.post("/drifts/{int:drift_id}/push", response=Said, operation_id="push_drift")
def push(request: HttpRequest, drift_id: int) -> Any:
    """Push ours again."""
    code, connections = actions.push_again(actor(request), drift_id)
    for connection_id in connections:
        (wake_prices if code == Code.A2 else wake_push)(connection_id)
    if code == Code.A2:
        return {"said": "Our price is being sent again." if connections else STILL_HELD, "id": drift_id}
    return {"said": "Our quantity is being sent again.", "id": drift_id}


@router.post("/drifts/{int:drift_id}/take", response=Said, operation_id="take_drift")
def take(request: HttpRequest, drift_id: int) -> Any:
    """Take the price that the channel shows."""
    return {"said": actions.take_theirs(actor(request), drift_id, timezone.now()), "id": drift_id}
