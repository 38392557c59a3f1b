"""A purchase order as PDF, in the product's own type."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from django.conf import settings
from django.template.loader import render_to_string

from yuvrel.people.queries import company

from .queries import order_page

FONTS = Path(settings.BASE_DIR) / "web" / "node_modules" / "@fontsource-variable"
FACES = {
    "Literata": FONTS / "literata" / "files" / "literata-latin-wght-normal.woff2",
    "Source Sans 3": FONTS / "source-sans-3" / "files" / "source-sans-3-latin-wght-normal.woff2",
}


def purchase_pdf(order_id: int) -> bytes:
    """The PDF of a purchase order."""
    # Its native libraries take over a second to load; only who prints waits for them.
    from weasyprint import HTML
    from weasyprint.text.fonts import FontConfiguration

    data: dict[str, Any] = order_page(order_id)
    faces = [(name, path.as_uri()) for name, path in FACES.items() if path.exists()]
    html = render_to_string("purchase_order.html", {"order": data, "company": company(), "faces": faces})
    pdf: bytes = HTML(string=html).write_pdf(font_config=FontConfiguration())
    return pdf
