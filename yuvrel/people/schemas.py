"""Wire types of people and places."""

from __future__ import annotations

from ninja import Schema
from pydantic import Field


class SignIn(Schema):
    """Who and with which password."""

    username: str = Field(max_length=150)
    password: str = Field(max_length=200)


class DoorPerson(Schema):
    """Somebody of the demo."""

    username: str
    name: str


class DoorOut(Schema):
    """The demo's sign-ins; empty where real books are kept."""

    password: str
    people: list[DoorPerson]


class Me(Schema):
    """Who is signed in, and what they may do; `far_ends` is where the demo's simulated services are."""

    name: str
    role: str
    may: list[str]
    company: str
    currency: str
    time_zone: str
    far_ends: str


class LocationOut(Schema):
    """A place that holds stock."""

    id: int
    code: str
    name: str
