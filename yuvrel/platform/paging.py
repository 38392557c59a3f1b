"""Cursor pages: the cursor holds the last row's sort values, so that a page stays put while rows come."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from decimal import Decimal
from typing import Any, TypeVar

from django.core import signing
from django.db.models import Model, Q, QuerySet
from django.db.models.expressions import Combinable

from yuvrel.core.errors import BadInputError

MOST = 200
_most = ContextVar("_most", default=MOST)
_asked: ContextVar[frozenset[str] | None] = ContextVar("_asked", default=None)
M = TypeVar("M", bound=Model)
SORTED = "sorted_value"


@contextmanager
def long_pages(most: int, fields: Iterable[str]) -> Iterator[None]:
    """Inside, a page may have so many rows, and of each only these fields are looked at: for files, where nobody waits
    for the first of them."""
    before, asked = _most.set(most), _asked.set(frozenset(fields))
    try:
        yield
    finally:
        _most.reset(before)
        _asked.reset(asked)


def asked_fields() -> frozenset[str] | None:
    """The fields of the rows that are looked at; None where all of them are."""
    return _asked.get()


def is_asked(field: str) -> bool:
    """Whether a field of the rows is looked at. What costs much may stay empty where it is not."""
    asked = asked_fields()
    return asked is None or field in asked


def in_order(
    rows: QuerySet[M], sort: str, allowed: Mapping[str, str | Combinable], default: Sequence[str]
) -> tuple[QuerySet[M], list[str]]:
    """(rows, fields to order by) for a `sort` parameter: a name, or '-name' for falling; empty is the default.

    `allowed` maps names to fields or expressions, none of which may be empty in a row. Raises BadInputError.
    """
    if not sort:
        return rows, list(default)
    name = sort.removeprefix("-")
    if name not in allowed:
        raise BadInputError(f"Sort by one of {', '.join(allowed)}; put - in front to reverse the order.", field="sort")
    by = allowed[name]
    if not isinstance(by, str):
        rows = rows.annotate(**{SORTED: by})
        by = SORTED
    sign = "-" if sort.startswith("-") else ""
    return rows, [sign + by, sign + "id"]


def page(rows: QuerySet[Any], order: Sequence[str], cursor: str, limit: int) -> tuple[list[Any], str]:
    """(rows, next cursor). `order` names fields, '-' for falling, and must end in a unique one.

    Raises BadInputError for a cursor that is not one of ours and a limit outside 1 to MOST.
    """
    if not 1 <= limit <= _most.get():
        raise BadInputError(f"A page has 1 to {_most.get()} rows.", field="limit")
    if cursor:
        rows = rows.filter(_after(order, _open(cursor, order)))
    found, more = _read(rows.order_by(*order), order, limit)
    return found, _close(found[-1], order) if more and found else ""


def page_of_values(
    rows: QuerySet[Any], order: Sequence[str], cursor: str, limit: int, fields: Sequence[str]
) -> tuple[list[Any], str]:
    """`page` for long sheets: of each row only these fields, as a named tuple, which costs a third of a record with all
    that belongs to it. Raises as `page` does."""
    names = tuple(dict.fromkeys(["pk", *fields, *(name.lstrip("-") for name in order)]))
    return page(rows.values_list(*names, named=True), order, cursor, limit)


def _read(rows: QuerySet[M], order: Sequence[str], limit: int) -> tuple[list[M], bool]:
    """(the first rows, whether there are more). In an order that no index of their table has, all of them are sorted
    first: then only their ids are, and what belongs to a row is joined to those of the page alone; of a long page it is
    joined to most of them anyway."""
    if limit > MOST or (order[0].lstrip("-") != SORTED and "__" not in order[0]):
        found = list(rows[: limit + 1])
        return found[:limit], len(found) > limit
    ids = list(rows.values_list("pk", flat=True)[: limit + 1])
    by_id = {row.pk: row for row in rows.order_by().filter(pk__any_of=ids[:limit])}
    # One that the filter no longer finds by now is left out.
    return [by_id[pk] for pk in ids[:limit] if pk in by_id], len(ids) > limit


def _after(order: Sequence[str], values: Sequence[Any]) -> Q:
    condition = Q()
    equal = Q()
    for name, value in zip(order, values, strict=True):
        field = name.lstrip("-")
        step = {f"{field}__{'lt' if name.startswith('-') else 'gt'}": value}
        condition |= equal & Q(**step)
        equal &= Q(**{field: value})
    # Says nothing new, but names a range that an index on the first field can begin at.
    first = order[0].lstrip("-")
    return Q(**{f"{first}__{'lte' if order[0].startswith('-') else 'gte'}": values[0]}) & condition


def _close(row: Any, order: Sequence[str]) -> str:
    values = []
    for name in order:
        value = row
        for part in [name.lstrip("-")] if isinstance(row, tuple) else name.lstrip("-").split("__"):
            value = getattr(value, part)
        values.append(value.isoformat() if hasattr(value, "isoformat") else str(value) if isinstance(value, Decimal) else value)
    return signing.dumps(values, salt=_salt(order))


def _salt(order: Sequence[str]) -> str:
    """A cursor is good for the order it was made in, and nobody else makes one."""
    return f"cursor {','.join(order)}"


def _open(cursor: str, order: Sequence[str]) -> list[Any]:
    try:
        values = signing.loads(cursor, salt=_salt(order))
    except (signing.BadSignature, ValueError, UnicodeError) as error:
        raise BadInputError("This page link is not valid. Open the sheet again.", field="cursor") from error
    found: list[Any] = values
    return found
