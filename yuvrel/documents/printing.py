"""Printed forms of documents as PDF, in the product's own type."""

from __future__ import annotations

from pathlib import Path

from django.conf import settings
from django.template.loader import render_to_string

from yuvrel.core.errors import NotFoundError
from yuvrel.people.queries import company

from .registry import DocumentKind

FONTS = Path(settings.BASE_DIR) / "web" / "node_modules" / "@fontsource-variable"
FACES = {
    "Literata": FONTS / "literata" / "files" / "literata-latin-wght-normal.woff2",
    "Source Sans 3": FONTS / "source-sans-3" / "files" / "source-sans-3-latin-wght-normal.woff2",
}


def printed(kind: DocumentKind, form: str, document_id: int) -> bytes:
    """The PDF of one form of a document. Raises NotFoundError for a form that the kind does not have."""
    found = kind.forms.get(form)
    if found is None:
        raise NotFoundError(f"A {kind.name.lower()} is not printed as {form}.", field="form")
    facts = found.facts(document_id)
    # Its native libraries take over a second to load; only who prints waits for them.
    from weasyprint import HTML
    from weasyprint.text.fonts import FontConfiguration

    faces = [(name, path.as_uri()) for name, path in FACES.items() if path.exists()]
    html = render_to_string(found.template, {**facts, "company": company(), "faces": faces})
    pdf: bytes = HTML(string=html).write_pdf(font_config=FontConfiguration())
    return pdf
