"""How rows refer to the document that caused them."""

from __future__ import annotations

from django.db import models

from .registry import Ref, address


class FromDocument(models.Model):
    """A row that a document caused: that one's number as it was then, its kind and its id."""

    document = models.CharField(max_length=60, blank=True, help_text="The number of the document that caused it")
    document_kind = models.CharField(max_length=20, blank=True)
    document_id = models.BigIntegerField(null=True)

    class Meta:
        abstract = True

    @property
    def link(self) -> str:
        """Where that document is looked at; empty where there is none."""
        return address(self.document_kind, self.document_id)


def from_document(ref: Ref | None) -> dict[str, object]:
    """The columns that name a document."""
    return {"document_kind": ref.kind, "document_id": ref.id} if ref else {}
