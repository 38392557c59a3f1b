"""For whom a request is answered: somebody who is still there, and which company."""

from __future__ import annotations

from collections.abc import Callable

from django.conf import settings
from django.contrib.auth import logout
from django.http import HttpRequest, HttpResponseBase
from django.utils import timezone

from yuvrel.ownership import for_somebody
from yuvrel.people.sessions import ended, is_idle

from .problems import problem

IDLE = "You were signed out, as nothing was done for {} minutes. Sign in again."


class IdleMiddleware:
    """A session in which nobody did anything for too long ends. A page that keeps itself up to date does nothing: it says in
    X-Active whether somebody touched it since it last asked."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponseBase]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        if settings.READ_ONLY and request.path.startswith("/api/") and request.method != "GET":
            return problem(503, "This is a standby: it can be read, and changes nothing.")
        if not request.path.startswith("/api/") or settings.SESSION_COOKIE_NAME not in request.COOKIES:
            return self.get_response(request)
        if request.user.is_authenticated:
            doing = request.method != "GET" or request.headers.get("X-Active") == "1"
            if not settings.READ_ONLY and is_idle(request, timezone.now(), settings.IDLE, doing):
                ended(str(request.session.session_key))
                logout(request)
                return problem(401, IDLE.format(int(settings.IDLE.total_seconds() // 60)))
        return self.get_response(request)


class CompanyMiddleware:
    """Whom a request is for comes out when it is known who asks (platform.auth); what is asked next begins anew."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponseBase]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        with for_somebody():
            return self.get_response(request)
