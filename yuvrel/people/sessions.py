"""Where a person is signed in, and how that ends: by the person, by the clock, or by a new password."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from django.contrib.auth import update_session_auth_hash
from django.contrib.auth.password_validation import validate_password
from django.contrib.sessions.models import Session
from django.core.exceptions import ValidationError
from django.db import transaction
from django.http import HttpRequest

from yuvrel.core.errors import BadInputError, NotFoundError

from .door import address_of, knock, passed
from .models import OpenSession, User
from .roles import Actor, audit

SEEN = "seen"
# How exactly it is known when somebody last did something; each time it is written down costs a write.
EXACTLY = timedelta(minutes=1)
BROWSERS = {"Edg": "Edge", "OPR": "Opera", "Firefox": "Firefox", "Chrome": "Chromium", "Safari": "Safari"}
SYSTEMS = {"Android": "Android", "iPhone": "iPhone", "iPad": "iPad", "Windows": "Windows", "Mac OS X": "Mac", "Linux": "Linux"}


def begun(request: HttpRequest, user: User, at: datetime) -> None:
    """Somebody has just signed in."""
    OpenSession.objects.filter(user=user).exclude(key__in=Session.objects.values("session_key")).delete()
    request.session[SEEN] = at.timestamp()
    request.session.save()
    OpenSession.objects.create(
        user=user,
        key=str(request.session.session_key),
        address=address_of(request),
        device=device(request.headers.get("User-Agent", "")),
        begun_at=at,
        seen_at=at,
    )


def device(agent: str) -> str:
    """A browser and a system, as far as they say."""
    browser = next((name for mark, name in BROWSERS.items() if mark in agent), "A program")
    system = next((name for mark, name in SYSTEMS.items() if mark in agent), "")
    return f"{browser} on {system}" if system else browser


def is_idle(request: HttpRequest, at: datetime, idle: timedelta, doing: bool) -> bool:
    """Whether nothing was done in a session for too long; what is done now is noted, `doing` says whether somebody did it or
    a page only keeps itself up to date."""
    seen = request.session.get(SEEN)
    last = datetime.fromtimestamp(float(seen), at.tzinfo) if seen is not None else None
    if last is not None and at - last > idle:
        return True
    if doing and (last is None or at - last > EXACTLY):
        request.session[SEEN] = at.timestamp()
        OpenSession.objects.filter(key=str(request.session.session_key)).update(seen_at=at)
    return False


def open_sessions(actor: Actor, current: str) -> list[dict[str, Any]]:
    """Where a person is signed in, the newest first."""
    rows = OpenSession.objects.filter(user_id=actor.person, key__in=Session.objects.values("session_key")).order_by("-pk")
    names = ("address", "device", "begun_at", "seen_at")
    return [{"id": row.pk, "current": row.key == current, **{name: getattr(row, name) for name in names}} for row in rows]


@transaction.atomic
def end(actor: Actor, session_id: int) -> None:
    """End one of a person's own sessions. Raises NotFoundError."""
    row = OpenSession.objects.filter(user_id=actor.person, pk=session_id).first()
    if row is None:
        raise NotFoundError("You are not signed in there.")
    _end([row.key])
    audit(actor, "ended a session", "person", actor.user_id, before={"from": row.address, "on": row.device})


def ended(key: str) -> None:
    """Somebody has signed out."""
    OpenSession.objects.filter(key=key).delete()


def _end(keys: list[str]) -> None:
    Session.objects.filter(session_key__in=keys).delete()
    OpenSession.objects.filter(key__in=keys).delete()


def change_password(request: HttpRequest, actor: Actor, old: str, new: str, at: datetime) -> int:
    """Give oneself another password; every other session ends. Returns how many those were.

    Raises BadInputError where the old one is wrong or the new one too weak, TooManyTriesError after too many guesses.
    """
    user = User.objects.get(pk=actor.person)
    knocked = knock(user.username, address_of(request), at)
    if not user.check_password(old):
        raise BadInputError("That is not your password.", field="old")
    passed(knocked)
    try:
        validate_password(new, user)
    except ValidationError as error:
        raise BadInputError(" ".join(error.messages), field="new") from error
    with transaction.atomic():
        user.set_password(new)
        user.save(update_fields=["password"])
        others = list(
            OpenSession.objects.filter(user=user).exclude(key=request.session.session_key).values_list("key", flat=True)
        )
        _end(others)
        audit(actor, "changed the password", "person", user.pk)
    before = str(request.session.session_key)
    update_session_auth_hash(request, user)
    request.session.save()
    OpenSession.objects.filter(key=before).update(key=str(request.session.session_key))
    return len(others)
