"""Which company something belongs to, and for which company work is done.

Every request and every job works for one company. Tables that belong to a company are read through `owned` managers,
which show the rows of that one alone, and whose new rows are its own; where nobody has said for which company,
they refuse, so that nothing can be forgotten.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from typing import Any, TypeVar

from django.db import models
from django_scopes import ScopedManager, get_scope, scope
from django_scopes.exceptions import ScopeError
from django_scopes.state import state

Row = TypeVar("Row")


class NoCompanyError(ScopeError):
    """Nobody has said for which company this is done."""


def in_hand() -> Any:
    """The company that is worked for. Raises NoCompanyError where nobody has said which."""
    found = get_scope().get("company")
    if found is None:
        raise NoCompanyError(NoCompanyError.__doc__)
    return found


def company_id() -> int:
    """The id of the company that is worked for. Raises NoCompanyError where nobody has said which."""
    return int(in_hand().pk)


@contextmanager
def working_for(company: Any) -> Iterator[None]:
    """Work for a company: reading shows what is its own, and what is written is its own."""
    with scope(company=company):
        yield


def from_now_on(company: Any) -> None:
    """Work for a company until what is asked just now is done with (`for_somebody`)."""
    state.set({"_enabled": True, "company": company})


@contextmanager
def for_somebody() -> Iterator[None]:
    """What is done in here is for a company that comes out on the way; afterwards for whom it was before."""
    with scope():
        yield


class OwnRows(models.QuerySet[Any]):
    """Rows of one company. What tells whose they are stands beside them, often in another table: a lock is on the
    rows themselves and on nothing beside them."""

    def select_for_update(
        self, nowait: bool = False, skip_locked: bool = False, of: Any = ("self",), no_key: bool = False
    ) -> OwnRows:
        return super().select_for_update(nowait=nowait, skip_locked=skip_locked, of=of, no_key=no_key)


def owned(path: str = "company") -> Any:
    """The manager of a table that belongs to companies; `path` leads from a row to its company."""
    manager = ScopedManager(models.Manager.from_queryset(OwnRows), company=path)
    # To who checks types it is the manager that the models say it is; they cannot follow classes made in a function.
    made = type(manager)
    made.__module__, made.__qualname__ = models.Manager.__module__, models.Manager.__qualname__
    made.get_queryset = _from_known(made.get_queryset)
    manager.company_path = path
    return manager


# So many companies a process holds beginnings of queries for, each for every table.
MOST_KNOWN = 64


def _from_known(afresh: Callable[[Any], models.QuerySet[Any]]) -> Callable[[Any], models.QuerySet[Any]]:
    """A manager's `get_queryset` that narrows a table to a company once and begins from a copy of that each further
    time: Django takes several times as long to work such a filter out as to copy it, and every query begins with it."""
    known: dict[tuple[Any, str | None, int], models.QuerySet[Any]] = {}

    def get_queryset(manager: Any) -> models.QuerySet[Any]:
        said = get_scope()
        company = said.get("company")
        if company is None or not said.get("_enabled", True) or hasattr(manager, "_override_scope"):
            return afresh(manager)
        key = (manager.model, manager._db, company.pk)
        found = known.get(key)
        if found is None:
            if len(known) >= MOST_KNOWN:
                known.clear()
            found = known[key] = afresh(manager)
        return found.all()

    return get_queryset


def own_of(way: str) -> models.FilteredRelation:
    """Of what is shared, the one row that the company has of its own (a cost, a price); `way` leads there."""
    return models.FilteredRelation(way, condition=models.Q(**{f"{way}__company": company_id()}))


def owner() -> Any:
    """The column that says whose a row is."""
    return models.ForeignKey("people.Company", on_delete=models.PROTECT, default=company_id, related_name="+")


def company_or_none() -> int | None:
    """The id of the company that is worked for, if any."""
    found = get_scope().get("company")
    return None if found is None else int(found.pk)


def steadily(rows: Iterable[Row]) -> Iterator[Row]:
    """Rows that are read while an answer is under way, when the request itself is over: each for the company that is
    worked for now."""
    return _read_for(in_hand(), iter(rows))


def _read_for(company: Any, left: Iterator[Row]) -> Iterator[Row]:
    while True:
        with working_for(company):
            row = next(left, None)
        if row is None:
            return
        yield row
