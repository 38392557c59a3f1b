"""Routes of what the ledger keeps of ours."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any

from django.http import HttpRequest
from ninja import Router, Schema

from yuvrel.platform.auth import actor
from yuvrel.platform.wire import words
from yuvrel.sales.customers import get_customer

from . import ledger_known
from .models import OutboundMessage

router = Router(tags=["connections"])


class LedgerContactOut(Schema):
    """How a customer stands in a ledger that knows of them."""

    ledger: str
    connection_id: int
    key: str
    state: Annotated[str, words(OutboundMessage.State)]
    at: datetime | None
    said: str


@router.get("/customers/{int:customer_id}/ledgers", response=list[LedgerContactOut], operation_id="list_customer_ledgers")
def ledgers(request: HttpRequest, customer_id: int) -> Any:
    """Ledgers that keep a customer as a contact."""
    actor(request)
    return ledger_known.standing(get_customer(customer_id).pk)
