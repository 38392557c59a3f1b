"""Routes of the books."""

from __future__ import annotations

from typing import Any

from django.http import HttpRequest
from django.utils import timezone
from ninja import Router

from yuvrel.people.queries import company_day
from yuvrel.platform.auth import actor
from yuvrel.platform.wire import Said

from . import actions, queries
from .models import Period
from .schemas import AccountsOut, ClearingIn, JournalPage, PeriodIn, PeriodOut

router = Router(tags=["books"])


@router.get("/journal", response=JournalPage, operation_id="list_journal")
def list_journal(request: HttpRequest, q: str = "", kind: str = "", cursor: str = "", limit: int = 60) -> Any:
    """Journal entries, newest first."""
    actor(request)
    return queries.journal(q, kind, cursor, limit)


@router.get("/accounts", response=AccountsOut, operation_id="list_accounts")
def list_accounts(request: HttpRequest) -> Any:
    """Accounts and balances."""
    actor(request)
    return queries.accounts(company_day(timezone.now()))


@router.post("/accounts", response=Said, operation_id="add_clearing_account")
def add_clearing(request: HttpRequest, body: ClearingIn) -> Any:
    """Open a further clearing account."""
    row = actions.add_clearing(actor(request), body.code, body.name)
    return {"said": f"{row.code} {row.name} is open. A connection's rules say which payments settle through it.", "id": row.pk}


@router.get("/periods", response=list[PeriodOut], operation_id="list_periods")
def list_periods(request: HttpRequest) -> Any:
    """Months that were closed or reopened."""
    actor(request)
    return list(Period.objects.order_by("-month"))


@router.post("/periods", response=PeriodOut, operation_id="set_period")
def set_period(request: HttpRequest, body: PeriodIn) -> Any:
    """Close or reopen a month."""
    return actions.set_period(actor(request), body.month, closed=body.closed, at=timezone.now())
