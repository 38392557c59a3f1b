"""What is said of every document."""

from __future__ import annotations

from datetime import datetime

from ninja import Schema


class MomentOut(Schema):
    """Something that happened to a document; `by` is empty for the system."""

    at: datetime
    by: str
    what: str
    more: str
