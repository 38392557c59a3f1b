"""A row that cannot be worked out is shown so in its place; what was wrong is noted here, logged, and becomes a Snag.

Reading must not write: notes are kept until the request or the job is over, and recorded then.
"""

from __future__ import annotations

import logging
from collections.abc import Callable
from contextvars import ContextVar
from typing import TypeVar

from django.db import InterfaceError, OperationalError

from .actions import record
from .models import Event

log = logging.getLogger("yuvrel.rows")
R = TypeVar("R")
SAID = "cannot be worked out"
_notes: ContextVar[dict[int, str] | None] = ContextVar("faults", default=None)


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
        said = f"{subject} {SAID} ({type(error).__name__})."
        notes = _notes.get()
        if notes is None:
            notes = {}
            _notes.set(notes)
        notes[subject_id] = said
        return broken(said)


def record_faults() -> None:
    """Make events of what was noted since; called when a request or a job is over."""
    notes = _notes.get()
    if not notes:
        return
    _notes.set(None)
    for subject_id, said in notes.items():
        record(Event.Kind.FAULT, [subject_id], said)
