"""Routes of one's own account: password, where one is signed in, tokens for programs."""

from __future__ import annotations

from typing import Any

from django.http import HttpRequest
from django.utils import timezone
from ninja import Router, Status

from yuvrel.core.errors import RefusedError
from yuvrel.people import sessions, tokens
from yuvrel.people.models import ApiToken
from yuvrel.people.roles import Actor
from yuvrel.people.schemas import NewPassword, NewToken, OpenSessionOut, TokenGiven, TokenOut
from yuvrel.platform.auth import actor
from yuvrel.platform.wire import Said

router = Router(tags=["people"])


def _person(request: HttpRequest) -> Actor:
    """Somebody who is signed in. Raises RefusedError for a program: what it holds opens no further doors."""
    found = actor(request)
    if found.only is not None or not request.user.is_authenticated:
        raise RefusedError("Sign in for that; a token does not do.")
    return found


@router.put("/account/password", response=Said, operation_id="change_password")
def change_password(request: HttpRequest, body: NewPassword) -> Any:
    """Give oneself another password; every other session ends."""
    others = sessions.change_password(request, _person(request), body.old, body.new, timezone.now())
    ended = "" if not others else f" {others} other {'session was' if others == 1 else 'sessions were'} ended."
    return {"said": f"Your password was changed.{ended}"}


@router.get("/account/sessions", response=list[OpenSessionOut], operation_id="list_sessions")
def list_sessions(request: HttpRequest) -> Any:
    """Where one is signed in."""
    return sessions.open_sessions(actor(request), str(request.session.session_key))


@router.delete("/account/sessions/{int:session_id}", response={204: None}, operation_id="end_session")
def end_session(request: HttpRequest, session_id: int) -> Any:
    """End a session."""
    sessions.end(_person(request), session_id)
    return Status(204, None)


@router.get("/account/tokens", response=list[TokenOut], operation_id="list_tokens")
def list_tokens(request: HttpRequest) -> Any:
    """One's own tokens that are not revoked."""
    return list(ApiToken.objects.filter(user_id=actor(request).person, revoked_at=None).order_by("-pk"))


@router.post("/account/tokens", response=TokenGiven, operation_id="give_out_token")
def give_out(request: HttpRequest, body: NewToken) -> Any:
    """Give out a token; it is shown this once."""
    row, token = tokens.give_out(_person(request), body.name, body.days, body.abilities, timezone.now())
    return {"id": row.pk, "token": token}


@router.delete("/account/tokens/{int:token_id}", response={204: None}, operation_id="revoke_token")
def revoke(request: HttpRequest, token_id: int) -> Any:
    """Take a token back."""
    tokens.revoke(_person(request), token_id, timezone.now())
    return Status(204, None)
