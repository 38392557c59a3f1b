"""What every document goes through: it gets its number, is loaded under a lock, and passes from state to state."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, TypeVar, cast

from django.db.models import Model

from yuvrel.core.errors import NotFoundError, StaleError
from yuvrel.ownership import in_hand

from .models import NumberSeries
from .registry import KINDS, DocumentKind

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


# After a restore a series goes on at the next thousand but one: that many may have been given out since the backup.
APART = 1000


def move_on(found: Mapping[str, int] | None = None) -> None:
    """Move every series of the company past what may have been given out after a backup; or those of `found` (kind to a
    number that turned up) past that number, where they are not."""
    owner = in_hand()
    numbered = {code: kind.series for code, kind in KINDS.items() if kind.series and (found is None or code in found)}
    fresh = [NumberSeries(company=owner, kind=code, last=one.first - 1) for code, one in numbered.items()]
    NumberSeries.objects.bulk_create(fresh, ignore_conflicts=True)
    for row in NumberSeries.objects.select_for_update().filter(company=owner, kind__in=numbered):
        least = row.last + APART if found is None else found[row.kind]
        if found is None or row.last < least:
            row.last = -(-least // APART) * APART
            row.save(update_fields=["last"])


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
