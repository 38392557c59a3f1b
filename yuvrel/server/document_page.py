"""The page that every document has: what it is, what it moved, what it posted, what happened to it, how it is printed."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated, Any

from ninja import Schema

from yuvrel.books.queries import entries_of
from yuvrel.books.schemas import EntryOut
from yuvrel.documents.queries import belongs_to, get_document, ref_of, time_line
from yuvrel.documents.registry import KINDS, address
from yuvrel.documents.schemas import MomentOut
from yuvrel.platform.wire import words
from yuvrel.stock.queries import moves_of
from yuvrel.stock.schemas import MoveRow


class FactOut(Schema):
    """One thing there is to say of a document."""

    label: str
    value: str


class FormOut(Schema):
    """A printed form, and where its PDF is."""

    name: str
    path: str


class DocumentOut(Schema):
    """A document of any kind. `link` is its own page where its kind has one; `within` is the one it belongs to,
    `moved` how many moves it made, of which the first are here."""

    kind: Annotated[str, words(KINDS)]
    name: str
    id: int
    number: str
    state: str
    at: str
    link: str
    within: str
    within_link: str
    facts: list[FactOut]
    forms: list[FormOut]
    moves: list[MoveRow]
    moved: int
    entries: list[EntryOut]
    history: list[MomentOut]


def document_page(path: str, document_id: int) -> dict[str, Any]:
    """A document with everything that names it. `path`: its kind as it stands in an address. Raises NotFoundError."""
    kind, ref = ref_of(path, document_id)
    row = get_document(kind, document_id)
    within, within_link = belongs_to(kind, row)
    moves, moved = moves_of(ref)
    return {
        "kind": kind.code,
        "name": kind.name,
        "id": row.pk,
        "number": row.number,
        "state": getattr(row, "state", ""),
        "at": getattr(row, kind.at).isoformat(),
        "link": address(kind.code, row.pk),
        "within": within,
        "within_link": within_link,
        "facts": [{"label": label, "value": value} for label, value in kind.facts(row) if value],
        "forms": [
            {"name": form.name, "path": f"/api/v1/documents/{path}/{row.pk}/forms/{code}"} for code, form in kind.forms.items()
        ],
        "moves": moves,
        "moved": moved,
        "entries": entries_of(ref),
        "history": [asdict(one) for one in time_line(kind, row)],
    }
