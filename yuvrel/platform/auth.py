"""Who calls: a signed-in person (with CSRF) or a program with a token."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from django.http import HttpRequest
from ninja.security import HttpBearer
from ninja.security.session import SessionAuth

from yuvrel.ownership import from_now_on
from yuvrel.people.queries import company_of
from yuvrel.people.roles import Ability, Actor, actor_of
from yuvrel.people.tokens import owner_of


def acts(request: HttpRequest, user: Any) -> Actor:
    """A person acts in this request, for the company that the person works for."""
    request.actor = actor_of(user)  # type: ignore[attr-defined]
    from_now_on(company_of(user))
    return request.actor  # type: ignore[attr-defined]


class Person(SessionAuth):
    """A session; unsafe methods need the CSRF token."""

    def authenticate(self, request: HttpRequest, key: str | None) -> Any:
        if request.user.is_authenticated and request.user.is_active:
            return acts(request, request.user)
        return None


class Token(HttpBearer):
    """A personal API token, kept as a digest."""

    def authenticate(self, request: HttpRequest, token: str) -> Any:
        found = owner_of(token)
        if found is None:
            return None
        user, only = found
        request.actor = replace(acts(request, user), only=only)  # type: ignore[attr-defined]
        return request.actor  # type: ignore[attr-defined]


AUTH = [Token(), Person(csrf=True)]


def actor(request: HttpRequest) -> Actor:
    """Who acts in this request; reading is allowed to every role."""
    found: Actor = request.actor  # type: ignore[attr-defined]
    found.need(Ability.READ)
    return found
