"""A row that cannot be worked out is shown so in its place; what was wrong is noted here, logged, and becomes a Snag.

Reading must not write: notes are kept until the request or the job is over, and recorded then.
"""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterable, Mapping, Sequence
from contextvars import ContextVar
from dataclasses import dataclass
from decimal import Decimal
from functools import cache, partial
from operator import attrgetter
from typing import Annotated, Any, TypeVar
from zlib import crc32

from django.db import InterfaceError, OperationalError
from pydantic import TypeAdapter

from yuvrel.core.errors import YuvrelError
from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.ownership import in_hand, working_for
from yuvrel.platform.columns import Many
from yuvrel.platform.paging import asked_fields, is_asked
from yuvrel.platform.wire import SheetRow

log = logging.getLogger("yuvrel.rows")
R = TypeVar("R")
M = TypeVar("M")
S = TypeVar("S", bound=SheetRow)
SAID = "cannot be worked out"
# By the subject: for which company, and what is said.
_notes: ContextVar[dict[int, tuple[Any, str]] | None] = ContextVar("faults", default=None)


def row_or(make: Callable[[], R], broken: Callable[[str], R], subject: str, subject_id: int) -> R:
    """The row, or what is shown in its place when making it fails: `broken` is given a sentence for the person.

    A database that went away is no fault of the row and is raised.
    """
    try:
        return make()
    except (OperationalError, InterfaceError):
        raise
    except Exception as error:
        log.exception("%s %s", subject, SAID, extra={"subject": subject, "error": type(error).__name__})
        because = error.detail.rstrip(".") if isinstance(error, YuvrelError) else type(error).__name__
        said = f"{subject} {SAID} ({because})."
        notes = _notes.get()
        if notes is None:
            notes = {}
            _notes.set(notes)
        notes[crc32(f"{subject} {subject_id}".encode())] = in_hand(), said
        return broken(said)


def sheet_rows(
    row_type: type[S], found: Iterable[M], make: Callable[[M], Mapping[str, Any]], known: Callable[[M], Mapping[str, Any]]
) -> list[S]:
    """The rows of a sheet, each made and checked for itself: one that cannot be is shown with what is `known` of it.

    The first value known is its id, the second its name.
    """
    rows = list(found)
    try:
        return _checker(row_type).validate_python([make(row) for row in rows])
    except Exception:  # one of them cannot be made: each by itself says which
        return [_sheet_row(row_type, row, make, known(row)) for row in rows]


@dataclass(frozen=True)
class Columns:
    """Rows of a sheet by column, of those fields alone that are looked at."""

    of: Mapping[str, Sequence[Any]]


# What gives the values of a field for all rows.
Column = Callable[[], Sequence[Any]]
# The fields of some rows.
Build = Callable[[Sequence[M]], Mapping[str, Column]]
# What is said beside rows as they are kept: how it is read for many ids, and what a row is told that is not among them.
Beside = Mapping[str, tuple[Callable[[Many], Mapping[int, Any]], Any]]


def rows_by_column(
    row_type: type[S], found: Sequence[M], build: Build[M], known: Callable[[M], Mapping[str, Any]]
) -> list[S] | Columns:
    """`sheet_rows` of a sheet that may be long: its fields are worked out and checked a column at a time. For a file the
    columns stay columns, and those that it has not are not worked out."""
    asked = asked_fields()
    try:
        columns = build(found)
        if asked is not None:
            usual = {name: [row_type.model_fields[name].default] * len(found) for name in asked - columns.keys()}
            worked = {name: _checker(row_type, name).validate_python(columns[name]()) for name in asked & columns.keys()}
            return Columns({**worked, **usual})
        names, values = columns.keys(), zip(*(column() for column in columns.values()), strict=True)
        return _checker(row_type).validate_python([dict(zip(names, row, strict=True)) for row in values])  # type: ignore[no-any-return]
    except Exception:  # one of them cannot be made: each by itself says which
        return sheet_rows(row_type, found, lambda row: {name: column()[0] for name, column in build([row]).items()}, known)


def beside_of(beside: Beside, ids: Many) -> Callable[[Sequence[Any]], dict[str, Column]]:
    """Reads, once, what is said beside rows with such ids and is looked at; gives the columns of some of them."""
    read_once = {name: read(ids) for name, (read, _) in beside.items() if is_asked(name)}

    def told(rows: Sequence[Any], name: str, nothing: Any) -> list[Any]:
        return [read_once[name].get(row.pk, nothing) for row in rows]

    return lambda rows: {name: partial(told, rows, name, nothing) for name, (_, nothing) in beside.items()}


def kept_of(rows: Sequence[Any], name: str) -> list[Any]:
    """A column that is told as it is kept."""
    return list(map(attrgetter(name), rows))


@cache
def _checker(row_type: type[S], field: str = "") -> TypeAdapter[Any]:
    """For rows of a type, or for the values of one of its fields."""
    if not field:
        return TypeAdapter(list[row_type])  # type: ignore[valid-type]
    declared = row_type.model_fields[field]
    one = Annotated[(declared.annotation, *declared.metadata)] if declared.metadata else declared.annotation  # type: ignore[valid-type]
    return TypeAdapter(list[one])  # type: ignore[valid-type]


def _sheet_row(row_type: type[S], row: M, make: Callable[[M], Mapping[str, Any]], known: Mapping[str, Any]) -> S:
    subject_id, name = list(known.values())[:2]
    return row_or(
        lambda: row_type.model_validate(make(row)),
        partial(row_type.broken, known),
        str(name),
        subject_id if isinstance(subject_id, int) else 0,
    )


def figure_or(make: Callable[[], Decimal | None], subject: str) -> Decimal | None:
    """A total, or None where it cannot be worked out or comes to no number."""

    def finite() -> Decimal | None:
        value = make()
        if value is not None and not value.is_finite():
            raise ArithmeticError("no number")
        return value

    return row_or(finite, lambda said: None, subject, 0)


def record_faults() -> None:
    """Make events of what was noted since; called when a request or a job is over."""
    notes = _notes.get()
    if not notes:
        return
    _notes.set(None)
    for subject_id, (company, said) in notes.items():
        with working_for(company):
            record(Event.Kind.FAULT, [subject_id], said)
