"""The one place where exceptions become application/problem+json (RFC 9457)."""

from __future__ import annotations

import json
import logging

from django.db import IntegrityError
from django.db.utils import OperationalError
from django.http import Http404, HttpRequest, HttpResponse
from ninja import NinjaAPI
from ninja.errors import AuthenticationError, HttpError, ValidationError

from yuvrel.core.errors import YuvrelError

log = logging.getLogger("yuvrel.api")

TITLES = {
    400: "This request cannot be read",
    401: "Sign in first",
    403: "Not allowed",
    404: "Not found",
    409: "Changed in the meantime",
    422: "Cannot be done as asked",
    500: "Something went wrong here",
    503: "Not available just now",
}


def problem(status: int, detail: str, field: str = "", errors: list[dict[str, str]] | None = None) -> HttpResponse:
    """A problem document; `field` names what to mend."""
    body = {"type": "about:blank", "title": TITLES.get(status, "Problem"), "status": status, "detail": detail}
    if field:
        body["field"] = field
    if errors:
        body["errors"] = errors
    return HttpResponse(json.dumps(body), status=status, content_type="application/problem+json")


def install(api: NinjaAPI) -> None:
    """Map every exception a route can raise. The rejected input is never echoed back."""

    @api.exception_handler(YuvrelError)
    def _ours(request: HttpRequest, error: YuvrelError) -> HttpResponse:
        return problem(error.status, error.detail, error.field)

    @api.exception_handler(ValidationError)
    def _invalid(request: HttpRequest, error: ValidationError) -> HttpResponse:
        errors = [{"field": ".".join(str(p) for p in e["loc"][2:] or e["loc"][-1:]), "detail": e["msg"]} for e in error.errors]
        first = errors[0] if errors else {"field": "", "detail": "invalid"}
        return problem(422, f"{first['field']}: {first['detail']}", first["field"], errors)

    @api.exception_handler(AuthenticationError)
    def _signed_out(request: HttpRequest, error: AuthenticationError) -> HttpResponse:
        return problem(401, "Sign in, or send a valid API token.")

    @api.exception_handler(Http404)
    def _missing(request: HttpRequest, error: Http404) -> HttpResponse:
        return problem(404, "There is no such thing here.")

    @api.exception_handler(HttpError)
    def _http(request: HttpRequest, error: HttpError) -> HttpResponse:
        return problem(error.status_code, str(error))

    @api.exception_handler(IntegrityError)
    def _constraint(request: HttpRequest, error: IntegrityError) -> HttpResponse:
        log.warning("constraint refused a request: %s", error)
        diagnosis = getattr(error.__cause__, "diag", None)
        name = getattr(diagnosis, "constraint_name", None) or ""
        message = getattr(diagnosis, "message_primary", None) or "a rule of the database"
        return problem(422, f"The database refused it: {name or message}.")

    @api.exception_handler(OperationalError)
    def _database(request: HttpRequest, error: OperationalError) -> HttpResponse:
        log.error("database unavailable: %s", error)
        return problem(503, "The database did not answer. Try again in a moment.")

    @api.exception_handler(Exception)
    def _other(request: HttpRequest, error: Exception) -> HttpResponse:
        log.exception("unexpected error on %s %s", request.method, request.path)
        return problem(500, "Something went wrong here; it was logged. Nothing was changed.")
