"""Wire types of sheets that are sent in."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, get_args

from ninja import Schema

from yuvrel.core.intake import Outcome
from yuvrel.people.roles import Ability
from yuvrel.platform.wire import words

from .models import Intake
from .registry import KINDS


class IntakeColumn(Schema):
    """A column of a sheet."""

    name: str
    words: str
    example: str
    needed: bool
    tells: bool
    many: bool


class IntakeKind(Schema):
    """A kind of sheet."""

    name: Annotated[str, words(KINDS)]
    title: str
    words: str
    ability: Ability
    columns: list[IntakeColumn]


class IntakeLine(Schema):
    """A row: what it would change, from what to what, or what is wrong with it."""

    line: int
    key: str
    outcome: Annotated[str, words(get_args(Outcome))]
    changes: list[list[str]]
    faults: list[list[str]]


class IntakeOut(Schema):
    """A file that was sent in, and how far it has come."""

    id: int
    kind: Annotated[str, words(KINDS)]
    name: str
    state: Annotated[str, words(Intake.State)]
    counts: dict[str, int]
    unknown: list[str]
    shown: list[IntakeLine]
    total: int
    done: int
    said: str
    by: str
    made_at: datetime
    ended_at: datetime | None
    undo_rows: int
    undone: bool

    @staticmethod
    def resolve_undone(row: Any) -> bool:
        """Whether a file that undoes it is there."""
        return hasattr(row, "undone_by")


class ConfirmIn(Schema):
    """Whether nothing is taken in while a row is wrong."""

    whole: bool = False
