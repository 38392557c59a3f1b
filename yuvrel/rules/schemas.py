"""Wire types of settings."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from ninja import Schema
from pydantic import Field

from yuvrel.core.rules import Level
from yuvrel.people.roles import Ability
from yuvrel.platform.wire import Quantity, words

Given = str | int | bool | None


class ChoiceOut(Schema):
    """A value that may be chosen."""

    value: str
    label: str


class RungOut(Schema):
    """A level of one setting: what is set there, and what would count there without it."""

    level: Annotated[str, words(Level)]
    title: str
    is_set: bool
    value: Given
    said: str
    inherited: str
    inherited_value: Given


class SettingOut(Schema):
    """A setting as it counts for a subject: value, where it comes from, and what its declaration says."""

    name: str
    label: str
    help: str
    type: str
    unit: str
    group: str
    limitless: bool
    no_limit: str
    ability: Ability
    needs: str
    rehearsal: str
    words: str
    low: Quantity
    high: Quantity
    places: int
    choices: list[ChoiceOut]
    only_with: list[str]
    value: Given
    said: str
    level: Annotated[str, words(Level)]
    source: str
    rungs: list[RungOut]


class LevelOut(Schema):
    """A level on the way, with its version; `elsewhere`: its values are kept elsewhere and cannot be set here."""

    level: Annotated[str, words(Level)]
    title: str
    version: int
    elsewhere: bool


class SettingsOut(Schema):
    """Everything that can be set for a subject."""

    title: str
    rungs: list[LevelOut]
    settings: list[SettingOut]


class SettingsChangeIn(Schema):
    """What to set at a level, and what to let inherit again; `version` as it was seen."""

    level: str = Field(max_length=30)
    values: dict[str, Given] = Field(default_factory=dict, max_length=60)
    inherit: list[str] = Field(default_factory=list, max_length=60)
    version: int | None = None


class SettingChangeOut(Schema):
    """A change: who, when, from what to what; inherited where nothing was set."""

    id: int
    label: str
    level: Annotated[str, words(Level)]
    title: str
    before: str
    after: str
    by: str
    at: datetime
