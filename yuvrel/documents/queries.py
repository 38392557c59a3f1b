"""Reading documents of any kind."""

from __future__ import annotations

from typing import Any

from yuvrel.core.errors import NotFoundError
from yuvrel.people.models import AuditRow

from .registry import MORE_MOMENTS, DocumentKind, Moment, Ref, address, kind_of


def get_document(kind: DocumentKind, document_id: int) -> Any:
    """The document. Raises NotFoundError."""
    row = kind.rows().filter(pk=document_id).first()
    if row is None:
        raise NotFoundError(f"There is no such {kind.name.lower()}.")
    return row


# What somebody did, as it is said afterwards.
DEEDS = {
    "draft": "drafted",
    "change": "changed",
    "send": "sent",
    "receive": "received",
    "receive goods": "received",
    "cancel": "cancelled",
    "give up": "written off",
    "add line": "line added",
    "take in": "taken in",
    "expect": "expected",
    "look at": "looked at",
    "reserve the goods": "goods reserved",
    "release the goods": "goods released",
}


def done_to(kind: DocumentKind, document_id: int) -> list[Moment]:
    """What was done to a document here, from the audit."""
    rows = AuditRow.objects.filter(subject=kind.code, subject_id=document_id).order_by("pk")
    words = f" {kind.name.lower()}"
    return [
        Moment(row.at, row.actor if row.user_id else "", _done(row.action.removesuffix(words)), _more(row.after)) for row in rows
    ]


def _done(deed: str) -> str:
    return DEEDS.get(deed, deed)


def _more(after: dict[str, Any]) -> str:
    """What an audit row says that is worth reading beside the deed: its reason, the document that came of it, the goods."""
    units = after.get("units")
    said = ", ".join(map(str, units)) if isinstance(units, list) else ""
    return str(after.get("why") or after.get("receipt") or after.get("item") or said)


def time_line(kind: DocumentKind, row: Any) -> list[Moment]:
    """All that happened to a document, the oldest first."""
    own = kind.happened(row) if kind.happened is not None else [*done_to(kind, row.pk), *kind.moments(row)]
    more = [moment for tell in MORE_MOMENTS.get(kind.code, ()) for moment in tell(row)]
    return sorted([*own, *more], key=lambda one: one.at)


def belongs_to(kind: DocumentKind, row: Any) -> tuple[str, str]:
    """(number, address) of the document that one belongs to; empty where it stands for itself."""
    if kind.within is None:
        return "", ""
    field, code = kind.within
    whole = getattr(row, field)
    return whole.number, address(code, whole.pk)


def ref_of(path: str, document_id: int) -> tuple[DocumentKind, Ref]:
    """The kind and reference that a part of an address means. Raises NotFoundError."""
    kind = kind_of(path.replace("-", " "))
    return kind, Ref(kind.code, document_id)
