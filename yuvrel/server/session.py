"""Routes of sign-in, the signed-in person and the company's places."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.contrib.auth import authenticate, login, logout
from django.http import HttpRequest
from django.middleware.csrf import get_token
from django.utils import timezone
from ninja import Router, Status
from ninja.utils import check_csrf

from yuvrel.core.errors import YuvrelError
from yuvrel.people.door import address_of, knock, passed
from yuvrel.people.models import Location, User
from yuvrel.people.queries import company
from yuvrel.people.roles import ALLOWED, Actor
from yuvrel.people.schemas import LocationOut, Me, SignIn, SignInOptions
from yuvrel.people.sessions import begun, ended
from yuvrel.platform.auth import actor, acts

router = Router(tags=["people"])


class NotSignedInError(YuvrelError):
    """Name or password is wrong."""

    status = 401


def _me(who: Actor) -> dict[str, Any]:
    firm = company()
    return {
        "name": who.name,
        "role": who.role.value,
        "may": sorted(a.value for a in ALLOWED[who.role]),
        "company": firm.name,
        "currency": firm.base_currency,
        "time_zone": firm.time_zone,
        "standins": settings.DEMO_STANDINS,
    }


@router.post("/session", response=Me, auth=None, operation_id="sign_in")
def sign_in(request: HttpRequest, body: SignIn) -> Any:
    """Sign in; needs the CSRF token that the page was served with."""
    _need_csrf(request)
    at = timezone.now()
    knocked = knock(body.username, address_of(request), at)
    user = authenticate(request, username=body.username, password=body.password)
    if not isinstance(user, User):
        raise NotSignedInError("Name or password is wrong.", field="password")
    passed(knocked)
    login(request, user)
    begun(request, user, at)
    return _me(acts(request, user))


def _need_csrf(request: HttpRequest) -> None:
    """Signing in has no session yet, so ninja's own check does not run; a forged sign-in is refused here."""
    if check_csrf(request) is not None:
        raise NotSignedInError("Load the page again, then sign in.")


@router.get("/sign-in-options", response=SignInOptions, auth=None, operation_id="sign_in_options")
def door(request: HttpRequest) -> Any:
    """What the sign-in page says: in the demo, who may sign in; elsewhere nothing."""
    get_token(request)
    if not settings.DEMO_STANDINS:
        return {"password": "", "people": []}
    from yuvrel.demo.company import PASSWORD, PEOPLE  # only now: where real books are kept the demo is not loaded

    people = [{"username": role.value, "name": f"{first} {last}"} for role, first, last in PEOPLE]
    return {"password": PASSWORD, "people": people}


@router.delete("/session", response={204: None}, operation_id="sign_out")
def sign_out(request: HttpRequest) -> Any:
    """Sign out."""
    ended(str(request.session.session_key))
    logout(request)
    return Status(204, None)


@router.get("/session", response=Me, operation_id="who_am_i")
def who_am_i(request: HttpRequest) -> Any:
    """Who is signed in."""
    get_token(request)
    return _me(actor(request))


@router.get("/locations", response=list[LocationOut], operation_id="list_locations")
def list_locations(request: HttpRequest) -> Any:
    """Places that hold stock."""
    actor(request)
    return list(Location.objects.all())
