"""For which company a request is answered."""

from __future__ import annotations

from collections.abc import Callable

from django.http import HttpRequest, HttpResponseBase

from yuvrel.ownership import for_somebody


class CompanyMiddleware:
    """Whom a request is for comes out when it is known who asks (platform.auth); what is asked next begins anew."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponseBase]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        with for_somebody():
            return self.get_response(request)
