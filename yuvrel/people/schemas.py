"""Wire types of people and places."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from ninja import Schema
from pydantic import Field

from .roles import Ability, Role


class SignIn(Schema):
    """Who and with which password."""

    username: str = Field(max_length=150)
    password: str = Field(max_length=200)


class SignInPerson(Schema):
    """Somebody of the demo."""

    username: str
    name: str


class SignInOptions(Schema):
    """The demo's sign-ins; empty where real books are kept."""

    password: str
    people: list[SignInPerson]


class Me(Schema):
    """Who is signed in, and what they may do; `standins` is where the demo's simulated services are."""

    name: str
    role: Role
    may: list[Ability]
    company: str
    currency: str
    time_zone: str
    standins: str


class NewPassword(Schema):
    """The password there is, and the one there is to be."""

    old: str = Field(max_length=200)
    new: str = Field(max_length=200)


class OpenSessionOut(Schema):
    """Where somebody is signed in; `current` is the session that asks."""

    id: int
    address: str
    device: str
    begun_at: datetime
    seen_at: datetime
    current: bool


class TokenOut(Schema):
    """A token for a program; its text is kept nowhere. Without `abilities` it may do whatever its owner may."""

    id: int
    name: str
    created_at: datetime
    last_used_at: datetime | None
    expires_at: datetime | None
    abilities: list[Ability] | None


class NewToken(Schema):
    """What a token is for, for how many days, and what it may be used for beside reading."""

    name: str = Field(max_length=80)
    days: int = Field(90, ge=1, le=366)
    abilities: list[Ability] = Field(default_factory=list, max_length=40)


class TokenGiven(Schema):
    """A token as it is shown once."""

    id: int
    token: str


class LocationOut(Schema):
    """A place that holds stock."""

    id: int
    code: str
    name: str
    for_sale: bool


Name = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]{0,39}$")]


class ColumnSetting(Schema):
    """A column that is shown, and its width in pixels where somebody set one."""

    name: Name
    width: int | None = Field(None, ge=40, le=900)


class SheetSettings(Schema):
    """How a sheet is looked at: its columns from left to right (empty: those it comes with), its order, its filters, and the
    column whose values its rows stand under."""

    columns: list[ColumnSetting] = Field(default_factory=list, max_length=60)
    sort: str = Field("", max_length=40)
    filters: dict[Name, Annotated[str, Field(max_length=200)]] = Field(default_factory=dict, max_length=20)
    group: Name | None = None


class ViewOut(Schema):
    """A named view: one's own, or one that somebody shares."""

    id: int
    name: str
    owner: str
    mine: bool
    shared: bool
    version: int
    settings: SheetSettings


class SheetOut(Schema):
    """The views of a sheet, how the person last had it, and the view it opens with."""

    views: list[ViewOut]
    last: SheetSettings | None
    opens_with: int | None


class ViewIn(Schema):
    """A view as it is to be kept; `version` is that which was looked at, and is not needed for a new one."""

    name: str = Field(max_length=60)
    shared: bool = False
    settings: SheetSettings
    version: int = 0


class OpensWithIn(Schema):
    """The view a sheet is to open with; None for how it was last."""

    view: int | None = Field(gt=0, lt=2**63)
