"""What every document goes through: it gets its number, is loaded under a lock, and passes from state to state."""

from __future__ import annotations

from typing import Any, TypeVar, cast

from django.db.models import Model

from yuvrel.core.errors import NotFoundError, StaleError
from yuvrel.ownership import in_hand

from .models import NumberSeries
from .registry import DocumentKind

Row = TypeVar("Row", bound=Model)


def next_number(kind: DocumentKind) -> str:
    """The next number of a kind's series in the company; the caller is in the transaction that writes the document.

    Whoever numbers another of the kind waits until that one is committed, so that none is given twice and none is left
    out. Raises ValueError for a kind without a series.
    """
    if kind.series is None:
        raise ValueError(f"a {kind.name} has no numbers of its own")
    owner = in_hand()
    found = NumberSeries.objects.select_for_update().filter(company=owner, kind=kind.code)
    row = found.first()
    if row is None:
        # Two that start a series at once both find none; one of them makes it.
        NumberSeries.objects.bulk_create(
            [NumberSeries(company=owner, kind=kind.code, last=kind.series.first - 1)], ignore_conflicts=True
        )
        row = found.get()
    row.last += 1
    row.save(update_fields=["last"])
    return f"{kind.series.prefix}-{row.last}"


def lock(kind: DocumentKind, model: type[Row], document_id: int, version: int | None = None) -> Row:
    """The document under a lock. Raises NotFoundError, and StaleError when it is no longer the version that was seen."""
    row = kind.rows().select_for_update().filter(pk=document_id).first()
    if row is None:
        raise NotFoundError(f"There is no such {kind.name.lower()}.")
    if version is not None and row.version != version:
        raise StaleError
    return cast(Row, row)


def pass_on(kind: DocumentKind, row: Any, to: str) -> None:
    """Give a document its next state; the caller holds its lock and saves it. Raises RefusedError for a step that its
    kind does not know."""
    if kind.states is not None:
        kind.states.check(row.number, row.state, to)
    row.state = to
