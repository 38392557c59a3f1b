"""Wire types of the way back after a restore."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from ninja import Schema
from pydantic import Field

from yuvrel.platform.wire import words

from .models import FoundThere


class FoundOut(Schema):
    """Something that another end holds and that is not here."""

    id: int
    connection: str
    kind: Annotated[str, words(FoundThere.Kind)]
    title: str
    said: str
    state: Annotated[str, words(FoundThere.State)]
    fault: str
    why: str
    settled_by: str


class AnswerOut(Schema):
    """What a connection answered."""

    connection: str
    what: str


class SeriesOut(Schema):
    """A kind of document and its next number."""

    kind: str
    next: str


class RecoveryOut(Schema):
    """A restore that somebody has to agree to."""

    held: bool
    begun_at: datetime | None = None
    data_until: datetime | None = None
    epoch: int = 1
    asked_at: datetime | None = None
    asking: bool = False
    said: list[AnswerOut] = []
    silent: list[str] = []
    series: list[SeriesOut] = []
    found: list[FoundOut] = []


class LeaveIn(Schema):
    """Why something stays as it is."""

    why: str = Field(max_length=200)


class TakeAllIn(Schema):
    """Which kind."""

    kind: Annotated[str, words(FoundThere.Kind)]


class SendAgainIn(Schema):
    """`without`: those that do not answer are left out."""

    without: bool = False
