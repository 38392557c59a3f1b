"""Routes of the way back after a restore."""

from __future__ import annotations

from typing import Any

from django.http import HttpRequest
from django.utils import timezone
from ninja import Router

from yuvrel.platform.auth import actor
from yuvrel.platform.wire import Said

from . import actions
from .models import FoundThere
from .schemas import FoundOut, LeaveIn, RecoveryOut, SendAgainIn, TakeAllIn

router = Router(tags=["recovery"])


@router.get("/recovery", response=RecoveryOut, operation_id="get_recovery")
def get_recovery(request: HttpRequest) -> Any:
    """Where the company stands after a restore; nothing stands in it where there was none, or it is over."""
    actor(request)
    row = actions.standing()
    if row is None:
        return {"held": False}
    found = FoundThere.objects.filter(recovery=row).select_related("connection").order_by("state", "kind", "body__at", "pk")
    return {
        "held": True,
        "begun_at": row.epoch.begun_at,
        "data_until": row.epoch.data_until,
        "epoch": row.epoch.number,
        "asked_at": row.asked_at,
        "asking": row.asking,
        "said": [{"connection": name, "what": what} for name, what in row.said],
        "silent": row.silent,
        "series": [{"kind": kind, "next": number} for kind, number in actions.series()],
        "found": [_found(one) for one in found[:2000]],
    }


def _found(row: FoundThere) -> dict[str, Any]:
    names = ("kind", "title", "said", "state", "fault", "why", "settled_by")
    return {"id": row.pk, "connection": row.connection.name, **{name: getattr(row, name) for name in names}}


@router.post("/recovery/ask", response=Said, operation_id="ask_other_ends")
def ask(request: HttpRequest) -> Any:
    """Have the other ends asked what they hold."""
    actions.ask_all(actor(request))
    return {"said": "Every connection is being asked what it holds."}


@router.post("/recovery/found/{int:found_id}/take", response=FoundOut, operation_id="take_found")
def take(request: HttpRequest, found_id: int) -> Any:
    """Take in what was found, or undo it there."""
    return _found(actions.take(actor(request), found_id, timezone.now()))


@router.post("/recovery/found/{int:found_id}/leave", response=FoundOut, operation_id="leave_found")
def leave(request: HttpRequest, found_id: int, body: LeaveIn) -> Any:
    """Leave it as it is."""
    return _found(actions.leave(actor(request), found_id, body.why, timezone.now()))


@router.post("/recovery/take-all", response=Said, operation_id="take_all_found")
def take_all(request: HttpRequest, body: TakeAllIn) -> Any:
    """Take in all of a kind."""
    done, failed = actions.take_all(actor(request), body.kind, timezone.now())
    return {"said": f"{done} done{f', {failed} could not be' if failed else ''}."}


@router.post("/recovery/send", response=Said, operation_id="send_again")
def send(request: HttpRequest, body: SendAgainIn) -> Any:
    """Let it send again."""
    actions.send_again(actor(request), timezone.now(), without=body.without)
    return {"said": "What waits goes out again from now on."}
