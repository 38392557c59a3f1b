"""Reading transfers."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import asdict
from datetime import date
from decimal import Decimal
from typing import Any

from django.db.models import Case, Count, DecimalField, F, Q, QuerySet, Sum, Value, When
from django.db.models.functions import Coalesce

from yuvrel.books.queries import entries_of
from yuvrel.catalogue.obstacles import Obstacle, look_for
from yuvrel.catalogue.pictures import first_of
from yuvrel.core.errors import NotFoundError
from yuvrel.core.money import ZERO
from yuvrel.documents.queries import time_line
from yuvrel.platform.faults import sheet_rows
from yuvrel.platform.paging import in_order, page

from .documents import TRANSFER
from .holding import reserved_by
from .models import DocumentReservation, StockBalance, Transfer, TransferLine, TransferPart
from .schemas import TransferLineOut, TransferRow

SORTS = {
    "number": "id",
    "from": "source__name",
    "to": "destination__name",
    "expected": "expected_on",
    "made": "made_at",
    "state": "state",
}
_UNITS = DecimalField(max_digits=18, decimal_places=3)
_ON_THE_WAY = F("lines__quantity") - F("lines__received") - F("lines__returned") - F("lines__lost")
# Into Goods in transit, less what came out of it again.
_IN_TRANSIT = Case(When(kind=TransferPart.Kind.SENT, then=F("value")), default=-F("value"))


def transfers(q: str, state: str, place: int | None) -> QuerySet[Transfer]:
    """Transfers under a filter; 'open' means sent and not settled; `place` is where they leave or go."""
    rows = Transfer.objects.select_related("source", "destination")
    if state == "open":
        rows = rows.filter(state__in=Transfer.OPEN)
    elif state:
        rows = rows.filter(state=state)
    if place:
        rows = rows.filter(Q(source_id=place) | Q(destination_id=place))
    for word in q.split()[:6]:
        lines = TransferLine.objects.filter(Q(item__sku__icontains=word) | Q(item__title__icontains=word))
        rows = rows.filter(Q(number__icontains=word) | Q(note__icontains=word) | Q(pk__in=lines.values("transfer_id")))
    return rows


def sheet(q: str, state: str, place: int | None, cursor: str, limit: int, today: date, sort: str = "") -> dict[str, Any]:
    """A page of transfers, newest first, with their units added up for its rows alone."""
    found, order = in_order(transfers(q, state, place), sort, SORTS, ["-id"])
    rows, following = page(found, order, cursor, limit)
    zero = Value(ZERO, output_field=_UNITS)
    sums: dict[int, dict[str, Any]] = {
        row["pk"]: dict(row)
        for row in Transfer.objects.filter(pk__in=[row.pk for row in rows])
        .values("pk")
        .annotate(
            n=Count("lines"),
            units=Coalesce(Sum("lines__quantity"), zero),
            left=Coalesce(Sum(_ON_THE_WAY, output_field=_UNITS), zero),
        )
        .order_by()
    }
    return {"rows": sheet_rows(TransferRow, rows, lambda row: _row(row, sums[row.pk], today), _known), "next": following}


def _known(row: Transfer) -> dict[str, Any]:
    known = {"id": row.pk, "number": row.number, "state": row.state}
    return {**known, "made_at": row.made_at, "expected_on": row.expected_on}


def _row(row: Transfer, sums: dict[str, Any], today: date) -> dict[str, Any]:
    return {
        **_known(row),
        "source": row.source.name,
        "destination": row.destination.name,
        "lines": sums["n"],
        "units": sums["units"],
        "left": sums["left"] if row.state in Transfer.OPEN else ZERO,
        "late": row.state in Transfer.OPEN and row.expected_on < today,
    }


def transfer_page(transfer_id: int, today: date) -> dict[str, Any]:
    """A transfer with its lines. Raises NotFoundError."""
    row = transfers("", "", None).filter(pk=transfer_id).first()
    if row is None:
        raise NotFoundError("There is no such transfer.")
    lines = list(row.lines.select_related("item").order_by("pk"))  # type: ignore[attr-defined]
    balances = StockBalance.objects.filter(location_id=row.source_id, item_id__in=[line.item_id for line in lines])
    reserved = reserved_by(row.ref)
    # What is reserved for it is free for it.
    free = {one.item_id: one.on_hand - one.committed + reserved.get(one.item_id, ZERO) for one in balances}
    pictures = first_of(line.item_id for line in lines)
    parts = TransferPart.objects.filter(line__transfer=row).values_list("line_id").annotate(total=Sum(_IN_TRANSIT)).order_by()
    worth: dict[int, Decimal] = dict(parts)
    fields = ("id", "number", "state", "source_id", "destination_id", "note", "made_at", "sent_at", "expected_on", "version")

    def line_of(line: TransferLine) -> dict[str, Any]:
        figures = ("quantity", "received", "returned", "lost")
        return {
            **{name: getattr(line, name) for name in ("id", "item_id", *figures)},
            "sku": line.item.sku,
            "title": line.item.title,
            "picture": pictures.get(line.item_id),
            "left": line.left if row.state in Transfer.OPEN else ZERO,
            "free": free.get(line.item_id, ZERO),
            "reserved": reserved.get(line.item_id, ZERO),
            "value": worth.get(line.pk, ZERO),
        }

    return {
        **{name: getattr(row, name) for name in fields},
        "source": row.source.name,
        "destination": row.destination.name,
        "late": row.state in Transfer.OPEN and row.expected_on < today,
        "lines": sheet_rows(
            TransferLineOut,
            lines,
            line_of,
            lambda line: {"id": line.pk, "item_id": line.item_id, "sku": line.item.sku, "title": line.item.title},
        ),
        "value": sum(worth.values(), ZERO),
        "entries": entries_of(row.ref),
        "history": [asdict(one) for one in time_line(TRANSFER, row)],
    }


def reserved_to_move(items: Iterable[int] | None = None) -> list[tuple[int, int, date, Decimal]]:
    """(item, where it goes, the day, units) that are reserved for transfers which have not left yet; None: of all items."""
    rows = DocumentReservation.objects.filter(document_kind=TRANSFER.code)
    held = list((rows if items is None else rows.filter(item__any_of=items)).values_list("document_id", "item_id", "quantity"))
    bound = Transfer.objects.filter(pk__any_of={document for document, *_ in held if document})
    goes = {pk: (place, day) for pk, place, day in bound.values_list("pk", "destination_id", "expected_on")}
    return [(item, *goes[document], units) for document, item, units in held if document in goes]


@look_for
def transfer_obstacles(item_id: int) -> list[Obstacle]:
    """Transfers that are to move an item, or are moving it."""
    rows = TransferLine.objects.filter(item_id=item_id, transfer__state__in=("draft", *Transfer.OPEN))
    return [
        Obstacle(f"Transfer {row.transfer.number} is to move it.", f"/shelf/transfers/{row.transfer_id}")
        for row in rows.select_related("transfer").order_by("transfer_id")[:5]
    ]


def late_transfers(today: date) -> int:
    """Transfers past their day."""
    return Transfer.objects.filter(state__in=Transfer.OPEN, expected_on__lt=today).count()
