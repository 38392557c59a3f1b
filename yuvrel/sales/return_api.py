"""Routes of returns and credit notes."""

from __future__ import annotations

from typing import Any, Literal

from django.http import HttpRequest
from django.utils import timezone
from ninja import Router

from yuvrel.core.credits import Wanted
from yuvrel.platform.auth import actor
from yuvrel.platform.wire import Said, VersionIn

from . import credits, return_queries, returns
from .return_schemas import (
    CreditableOut,
    CreditIn,
    CreditLineIn,
    CreditTrialIn,
    CreditTrialOut,
    InspectIn,
    ReturnIn,
    ReturnOut,
    ReturnPage,
)

router = Router(tags=["orders"])
ReturnState = Literal["", "open", "uncredited", "expected", "part-received", "received", "cancelled"]


def _wanted(lines: list[CreditLineIn]) -> dict[int, Wanted]:
    return {line.line_id: Wanted(line.quantity, line.gross) for line in lines}


@router.get("/returns", response=ReturnPage, operation_id="list_returns")
def list_returns(
    request: HttpRequest,
    q: str = "",
    state: ReturnState = "",
    connection: int | None = None,
    sort: str = "",
    cursor: str = "",
    limit: int = 100,
) -> Any:
    """Goods that come back, newest first."""
    actor(request)
    return return_queries.sheet(q, state, connection, cursor, limit, sort)


@router.post("/orders/{int:order_id}/returns", response=Said, operation_id="expect_return")
def expect_return(request: HttpRequest, order_id: int, body: ReturnIn) -> Any:
    """Expect goods of an order back."""
    lines = [returns.Coming(line.line_id, line.quantity, line.reason) for line in body.lines]
    back = returns.announce(actor(request), order_id, lines, timezone.now(), body.note)
    return {"said": f"Expected as {back.number}.", "id": back.pk}


@router.get("/returns/{int:return_id}", response=ReturnOut, operation_id="get_return")
def get_return(request: HttpRequest, return_id: int) -> Any:
    """One return."""
    actor(request)
    return return_queries.return_page(return_id)


@router.post("/returns/{int:return_id}/inspect", response=ReturnOut, operation_id="inspect_return")
def inspect_return(request: HttpRequest, return_id: int, body: InspectIn) -> Any:
    """Goods came back: where each unit goes."""
    found = {line.line_id: returns.Found(line.restock, line.repair, line.write_off) for line in body.lines}
    returns.inspect(actor(request), return_id, found, timezone.now(), body.version)
    return return_queries.return_page(return_id)


@router.post("/returns/{int:return_id}/close", response=ReturnOut, operation_id="close_return")
def close_return(request: HttpRequest, return_id: int, body: VersionIn) -> Any:
    """What is still expected will not come."""
    returns.close(actor(request), return_id, body.version)
    return return_queries.return_page(return_id)


@router.get("/orders/{int:order_id}/creditable", response=CreditableOut, operation_id="get_creditable")
def get_creditable(request: HttpRequest, order_id: int, back: int | None = None) -> Any:
    """What of an order can be credited."""
    actor(request)
    return return_queries.creditable(order_id, back)


@router.post("/orders/{int:order_id}/credits/rehearsal", response=CreditTrialOut, operation_id="rehearse_credit")
def rehearse_credit(request: HttpRequest, order_id: int, body: CreditTrialIn) -> Any:
    """What a credit note would say."""
    actor(request)
    return return_queries.trial(order_id, _wanted(body.lines), body.fee)


@router.post("/orders/{int:order_id}/credits", response=Said, operation_id="credit_order")
def credit_order(request: HttpRequest, order_id: int, body: CreditIn) -> Any:
    """Give back what of an order is named."""
    note = credits.credit(
        actor(request),
        order_id,
        _wanted(body.lines),
        timezone.now(),
        fee=body.fee,
        note=body.note,
        back_id=body.back_id,
        refund=credits.Refund(tell_channel=body.tell_channel),
    )
    return {"said": f"Credited as {note.number}: {note.total} {note.order.currency}.", "id": note.pk}
