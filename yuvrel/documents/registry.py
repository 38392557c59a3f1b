"""The kinds of documents: each is declared once, by the room that owns it, and everything that documents have in common
follows from its declaration."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from django.db.models import Model

from yuvrel.core.errors import NotFoundError
from yuvrel.core.states import States


@dataclass(frozen=True)
class Series:
    """How a kind is numbered in each company: `PO-1001`, `PO-1002`, without gaps."""

    prefix: str
    first: int = 1001


@dataclass(frozen=True)
class Form:
    """A printed form: `template` is given what `facts` says of the document's id."""

    name: str
    template: str
    facts: Callable[[int], Mapping[str, Any]]


@dataclass(frozen=True)
class Ref:
    """Names a document wherever it is referred to: its kind and its id, never an address."""

    kind: str
    id: int


@dataclass(frozen=True)
class Moment:
    """Something that happened to a document: when, by whom (empty for the system), what, and what more there is to say."""

    at: datetime
    by: str
    what: str
    more: str = ""


# What a page of a document says of it beside its number and state: (label, value).
Facts = Callable[[Any], list[tuple[str, str]]]
# What happened to a document beside what was done to it here, which the audit knows.
Moments = Callable[[Any], list[Moment]]


@dataclass(frozen=True)
class DocumentKind:
    """One kind of document.

    `code`: what is kept in rows, and its subject in the audit; never changed. `station`: where people work with
    it. `at`: the field that says when it happened.
    `series`: how it is numbered, none where the number comes from elsewhere, as an order's from its channel. `page`: where
    it is looked at, with `{id}`; without one it has the page that every document has. `within`: the field that leads to the
    document it belongs to, and that one's kind. `narrows`: which rows of a model that several kinds share. `happened`: all
    that happened to it, where the audit's words and `moments` do not say it.
    """

    code: str
    name: str
    model: type[Model]
    station: str
    at: str
    series: Series | None = None
    states: States | None = None
    page: str = ""
    within: tuple[str, str] | None = None
    narrows: Mapping[str, str] = field(default_factory=dict)
    forms: Mapping[str, Form] = field(default_factory=dict)
    facts: Facts = lambda _row: []
    moments: Moments = lambda _row: []
    happened: Moments | None = None

    def rows(self) -> Any:
        """Its documents, as a query."""
        return self.model._default_manager.filter(**self.narrows)


KINDS: dict[str, DocumentKind] = {}
# What layers above know of documents of a kind, as what was told to whom.
MORE_MOMENTS: dict[str, list[Moments]] = {}


def add_moments(code: str, moments: Moments) -> None:
    """Make known something more that happens to documents of a kind."""
    MORE_MOMENTS.setdefault(code, []).append(moments)


def register(kind: DocumentKind) -> DocumentKind:
    """Make a kind known; a code is declared once."""
    if KINDS.setdefault(kind.code, kind) is not kind:
        raise ValueError(f"the document kind {kind.code} is declared twice")
    return kind


def kind_of(code: str) -> DocumentKind:
    """The kind. Raises NotFoundError."""
    found = KINDS.get(code)
    if found is None:
        raise NotFoundError(f"There is no kind of document called {code}.", field="kind")
    return found


def address(kind: str, document_id: int | None) -> str:
    """Where a document is looked at; empty for none. Asks the database nothing, so that any row can have it."""
    if document_id is None or kind not in KINDS:
        return ""
    found = KINDS[kind]
    page = found.page or f"/{found.station}/documents/{kind.replace(' ', '-')}/{{id}}"
    return page.format(id=document_id)
