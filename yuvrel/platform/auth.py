"""Who calls: a signed-in person (with CSRF) or a program with a token."""

from __future__ import annotations

import hashlib
from typing import Any

from django.http import HttpRequest
from django.utils import timezone
from ninja.security import HttpBearer
from ninja.security.session import SessionAuth

from yuvrel.people.models import ApiToken
from yuvrel.people.roles import Ability, Actor, actor_of


class Person(SessionAuth):
    """A session; unsafe methods need the CSRF token."""

    def authenticate(self, request: HttpRequest, key: str | None) -> Any:
        if request.user.is_authenticated and request.user.is_active:
            request.actor = actor_of(request.user)  # type: ignore[attr-defined]
            return request.actor  # type: ignore[attr-defined]
        return None


class Token(HttpBearer):
    """A personal API token, kept as a digest."""

    def authenticate(self, request: HttpRequest, token: str) -> Any:
        digest = hashlib.sha256(token.encode()).hexdigest()
        row = ApiToken.objects.select_related("user").filter(digest=digest, revoked_at=None).first()
        if row is None or not row.user.is_active:
            return None
        ApiToken.objects.filter(pk=row.pk).update(last_used_at=timezone.now())
        request.actor = actor_of(row.user)  # type: ignore[attr-defined]
        return request.actor  # type: ignore[attr-defined]


AUTH = [Token(), Person(csrf=True)]


def actor(request: HttpRequest) -> Actor:
    """Who acts in this request; reading is allowed to every role."""
    found: Actor = request.actor  # type: ignore[attr-defined]
    found.need(Ability.READ)
    return found
