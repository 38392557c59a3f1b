"""Reading returns and credit notes."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import asdict
from decimal import Decimal
from typing import Any

from django.db.models import DecimalField, F, Q, QuerySet, Sum, Value
from django.db.models.functions import Coalesce

from yuvrel.books.models import LedgerDocument
from yuvrel.books.queries import entries_of
from yuvrel.catalogue.models import Item
from yuvrel.catalogue.obstacles import Obstacle, look_for
from yuvrel.catalogue.pictures import first_of
from yuvrel.core import credits as arithmetic
from yuvrel.core.credits import Wanted
from yuvrel.core.errors import NotFoundError
from yuvrel.core.money import ZERO, round_money
from yuvrel.core.working import Working
from yuvrel.documents.queries import time_line
from yuvrel.platform.faults import sheet_rows
from yuvrel.platform.paging import in_order, page

from .credits import can_pay_back, owed_for, rehearse, sold_lines
from .documents import RETURN
from .models import CreditNote, OrderLine, Return, ReturnLine, ReturnPart, SalesOrder
from .queries import get_order
from .return_schemas import ReturnLineOut, ReturnRow

SORTS = {"number": "id", "order": "order__number", "made": "made_at", "state": "state"}
_UNITS = DecimalField(max_digits=18, decimal_places=3)
_LEFT = F("lines__quantity") - F("lines__restocked") - F("lines__repair") - F("lines__written_off")


def returns(q: str, state: str, connection: int | None) -> QuerySet[Return]:
    """Returns under a filter; 'open' means that something is still to come, 'uncredited' that something came and nothing
    was given back for it."""
    rows = Return.objects.select_related("order__connection", "order__customer", "location")
    if state == "open":
        rows = rows.filter(state__in=Return.OPEN)
    elif state == "uncredited":
        rows = rows.filter(credits=None, pk__in=ReturnLine.objects.filter(parts__isnull=False).values("back_id"))
    elif state:
        rows = rows.filter(state=state)
    if connection:
        rows = rows.filter(order__connection_id=connection)
    for word in q.split()[:6]:
        lines = ReturnLine.objects.filter(
            Q(order_line__sku__iexact=word) | Q(order_line__title__icontains=word) | Q(reason__icontains=word)
        )
        rows = rows.filter(
            Q(number__icontains=word)
            | Q(order__number__icontains=word)
            | Q(order__customer__name__icontains=word)
            | Q(pk__in=lines.values("back_id"))
        )
    return rows


def sheet(q: str, state: str, connection: int | None, cursor: str, limit: int, sort: str = "") -> dict[str, Any]:
    """A page of returns, newest first, with their units added up for its rows alone."""
    found, order = in_order(returns(q, state, connection), sort, SORTS, ["-id"])
    rows, following = page(found, order, cursor, limit)
    ids = [row.pk for row in rows]
    sums = _units(ids)
    given = CreditNote.objects.filter(back_id__in=ids).values_list("back_id").annotate(total=Sum("total")).order_by()
    credited: dict[int, Decimal] = {pk: total for pk, total in given if pk is not None}
    reasons: dict[int, list[str]] = {}
    for pk, reason in ReturnLine.objects.filter(back_id__in=ids).order_by("pk").values_list("back_id", "reason"):
        if reason not in reasons.setdefault(pk, []):
            reasons[pk].append(reason)

    def shown(row: Return) -> dict[str, Any]:
        units, left = sums.get(row.pk, (ZERO, ZERO))
        return {
            **_known(row),
            "order_id": row.order_id,
            "order": row.order.number,
            "channel": row.order.connection.name,
            "customer": row.order.customer.name if row.order.customer else "",
            "location": row.location.name,
            "reasons": ", ".join(reasons.get(row.pk, [])),
            "units": units,
            "left": left,
            "credited": credited.get(row.pk, ZERO),
        }

    return {"rows": sheet_rows(ReturnRow, rows, shown, _known), "next": following}


def _units(ids: Iterable[int]) -> dict[int, tuple[Decimal, Decimal]]:
    """(units, of them still to come) by return."""
    zero = Value(ZERO, output_field=_UNITS)
    rows = Return.objects.filter(pk__in=list(ids)).annotate(
        n=Coalesce(Sum("lines__quantity"), zero), still=Coalesce(Sum(_LEFT, output_field=_UNITS), zero)
    )
    return {pk: (units, left) for pk, units, left in rows.order_by().values_list("pk", "n", "still")}


def _known(row: Return) -> dict[str, Any]:
    return {"id": row.pk, "number": row.number, "state": row.state, "made_at": row.made_at}


def return_page(return_id: int) -> dict[str, Any]:
    """A return with its lines. Raises NotFoundError."""
    row = returns("", "", None).filter(pk=return_id).first()
    if row is None:
        raise NotFoundError("There is no such return.")
    lines = list(row.lines.select_related("order_line").order_by("pk"))  # type: ignore[attr-defined]
    pictures = first_of(line.order_line.item_id for line in lines if line.order_line.item_id)
    worth = dict(ReturnPart.objects.filter(line__back=row).values_list("line_id").annotate(v=Sum("value")).order_by())

    def line_of(line: ReturnLine) -> dict[str, Any]:
        sold = line.order_line
        return {
            **{name: getattr(line, name) for name in ("id", "order_line_id", "reason", "quantity")},
            **{name: getattr(line, name) for name in ("restocked", "repair", "written_off", "left")},
            **{name: getattr(sold, name) for name in ("item_id", "sku", "title")},
            "picture": pictures.get(sold.item_id or 0),
            "value": worth.get(line.pk, ZERO),
        }

    return {
        **_known(row),
        "version": row.version,
        "order_id": row.order_id,
        "order": row.order.number,
        "channel": row.order.connection.name,
        "customer": row.order.customer.name if row.order.customer else "",
        "location": row.location.name,
        "note": row.note,
        "lines": sheet_rows(
            ReturnLineOut,
            lines,
            line_of,
            lambda line: {"id": line.pk, "title": line.order_line.title, "sku": line.order_line.sku},
        ),
        "value": sum(worth.values(), ZERO),
        "credits": credits_of(row.credits.order_by("pk")),  # type: ignore[attr-defined]
        "to_credit": any(line.order_line.credited < line.order_line.returned for line in lines),
        "entries": entries_of(row.ref),
        "history": [asdict(one) for one in time_line(RETURN, row)],
    }


def credits_of(rows: Iterable[CreditNote]) -> list[dict[str, Any]]:
    """Credit notes beside what they belong to, and how the ledger took each."""
    listed = list(rows)
    documents = LedgerDocument.objects.filter(number__in=[row.number for row in listed]).select_related("within")
    told = {row.number: (row.within or row).state for row in documents}
    return [
        {
            **{name: getattr(row, name) for name in ("id", "number", "issued_at", "note", "total", "fee", "refunded")},
            "way": way_of(row),
            "told": not row.tell_channel or row.told_channel_at is not None,
            "ledger_state": told.get(row.number, "none"),
        }
        for row in listed
    ]


def way_of(row: CreditNote) -> str:
    """How what is given back reaches the customer."""
    if not row.refunded:
        return "set off against what is owed"
    return "by the channel" if row.tell_channel or row.external_id else "paid back by hand"


def returns_of(order: SalesOrder) -> list[dict[str, Any]]:
    """An order's returns, the first one first."""
    rows = list(order.returns.order_by("pk"))  # type: ignore[attr-defined]
    sums = _units([row.pk for row in rows])
    return [{**_known(row), "units": sums[row.pk][0], "left": sums[row.pk][1]} for row in rows]


def creditable(order_id: int, back_id: int | None) -> dict[str, Any]:
    """What of an order can be credited; what a return names and is not credited yet is proposed. Raises NotFoundError."""
    order = get_order(order_id)
    back = order.returns.filter(pk=back_id).first() if back_id else None  # type: ignore[attr-defined]
    if back_id and back is None:
        raise NotFoundError("There is no such return of this order.")
    sold = sold_lines(order)
    worth = arithmetic.worth(sold, order.currency)
    lines = {line.pk: line for line in order.lines.select_related("item")}
    proposed = _proposed(back, lines) if back else {}
    pictures = first_of(line.item_id for line in lines.values() if line.item_id)

    def shown(line: arithmetic.Sold) -> dict[str, Any]:
        row = lines[line.id]
        return {
            "line_id": line.id,
            **{name: getattr(row, name) for name in ("kind", "item_id", "sku", "title")},
            "picture": pictures.get(row.item_id or 0),
            "units_left": max(line.shipped - line.credited, ZERO) if line.kind in arithmetic.GOODS else ZERO,
            "gross_left": sum(arithmetic.left(line, worth[line.id], order.currency), ZERO),
            "units": proposed.get(line.id, ZERO),
        }

    return {
        "order_id": order.pk,
        "order": order.number,
        "channel": order.connection.name,
        "customer": order.customer.name if order.customer else "",
        "back_id": back.pk if back else None,
        "back": back.number if back else "",
        "currency": order.currency,
        "owed": owed_for(order),
        "channel_pays": can_pay_back(order),
        "lines": [shown(line) for line in sold if line.kind != "discount"],
    }


def _proposed(back: Return, lines: Mapping[int, OrderLine]) -> dict[int, Decimal]:
    found = {}
    for row in back.lines.all():  # type: ignore[attr-defined]
        line = lines[row.order_line_id]
        found[line.pk] = max(min(row.quantity, line.returned - line.credited), ZERO)
    return found


def trial(order_id: int, wanted: Mapping[int, Wanted], fee: Decimal) -> dict[str, Any]:
    """What a credit note would say. Raises NotFoundError, BadInputError naming the field."""
    found = rehearse(get_order(order_id), wanted, fee)
    return {
        "lines": [{"line_id": part.line_id, "quantity": part.quantity, "gross": part.gross} for part in found.parts],
        "net": found.worth.net,
        "tax": found.worth.tax,
        "fee": fee,
        "total": found.worth.total,
        "owed": found.owed,
        "refunded": found.worth.total - found.owed,
    }


def credit_working(note_id: int) -> Working:
    """The sum behind a credit note. Raises NotFoundError."""
    note = CreditNote.objects.select_related("order").filter(pk=note_id).first()
    if note is None:
        raise NotFoundError("There is no such credit note.")
    lines = note.lines.select_related("order_line").order_by("pk")  # type: ignore[attr-defined]
    parts = [(row.order_line.title, row.quantity, row.gross) for row in lines]
    subject = f"{note.number} · order {note.order.number}"
    return arithmetic.credit_working(subject, parts, note.fee, round_money(note.total), note.order.currency)


def open_returns() -> tuple[int, int]:
    """(returns that are still to come, returns that came and were not credited)."""
    waiting = Return.objects.filter(state__in=Return.OPEN).count()
    return waiting, returns("", "uncredited", None).count()


@look_for
def return_obstacles(item_id: int) -> list[Obstacle]:
    """Returns that are to bring an item back."""
    rows = ReturnLine.objects.filter(order_line__item_id=item_id, back__state__in=Return.OPEN).select_related("back")
    found = rows.order_by("back_id")[:5]
    return [Obstacle(f"Return {row.back.number} is to bring it back.", f"/orders/returns/{row.back_id}") for row in found]


def can_return(line: OrderLine) -> Decimal:
    """Units of an order's line that can still come back: goods kept in stock that left and are on no return."""
    is_goods = line.kind == OrderLine.Kind.ITEM and line.item is not None and line.item.kind != Item.Kind.SERVICE
    return line.shipped - line.returned if is_goods else ZERO
