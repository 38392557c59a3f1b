"""The documents by which somebody puts stock right."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from yuvrel.core.states import States
from yuvrel.documents.actions import next_number
from yuvrel.documents.registry import DocumentKind, Form, Series, register
from yuvrel.people.models import Location
from yuvrel.people.roles import Actor

from .models import StockDocument, Transfer

State = Transfer.State
STATES = States(
    State.DRAFT.value,
    {
        State.DRAFT.value: (State.SENT.value, State.CANCELLED.value),
        State.SENT.value: (State.PART_RECEIVED.value, State.RECEIVED.value, State.CANCELLED.value),
        State.PART_RECEIVED.value: (State.PART_RECEIVED.value, State.RECEIVED.value),
        State.RECEIVED.value: (),
        State.CANCELLED.value: (),
    },
)


def _facts(row: StockDocument) -> list[tuple[str, str]]:
    place = row.location.name if row.location else ""
    return [("Reason", row.reason.capitalize()), ("Location", place), ("Note", row.note), ("By", row.by)]


def _kind(code: str, name: str, prefix: str) -> DocumentKind:
    kind = DocumentKind(
        code, name, StockDocument, "shelf", at="happened_at", series=Series(prefix), narrows={"kind": code}, facts=_facts
    )
    return register(kind)


ADJUSTMENT = _kind(StockDocument.Kind.ADJUSTMENT.value, "Adjustment", "ADJ")
COUNT = _kind(StockDocument.Kind.COUNT.value, "Count", "CNT")
OPENING = _kind(StockDocument.Kind.OPENING.value, "Opening stock", "OPEN")


def _note(transfer_id: int) -> dict[str, Any]:
    row = Transfer.objects.select_related("source", "destination").get(pk=transfer_id)
    lines = row.lines.select_related("item").order_by("item__sku")  # type: ignore[attr-defined]
    return {"number": row.number, "transfer": row, "lines": lines}


TRANSFER = register(
    DocumentKind(
        "transfer",
        "Transfer",
        Transfer,
        "shelf",
        at="made_at",
        series=Series("TR"),
        states=STATES,
        page="/shelf/transfers/{id}",
        forms={"note": Form("Delivery note", "delivery_note.html", _note)},
    )
)


def write(
    actor: Actor, kind: DocumentKind, at: datetime, reason: str, location: Location | None = None, note: str = ""
) -> StockDocument:
    """Write one, with the next number of its kind; the caller holds the balances' locks."""
    return StockDocument.objects.create(
        kind=kind.code,
        number=next_number(kind),
        reason=reason,
        location=location,
        note=note[:200],
        by=actor.name,
        happened_at=at,
    )
