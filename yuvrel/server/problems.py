"""The one place where exceptions become application/problem+json (RFC 9457)."""

from __future__ import annotations

import json
import logging
import re
from collections.abc import Callable, Iterator
from urllib.parse import unquote

from django.conf import settings
from django.core.exceptions import BadRequest, RequestDataTooBig, SuspiciousOperation
from django.db import DataError, IntegrityError, OperationalError
from django.http import Http404, HttpRequest, HttpResponse, UnreadablePostError
from django.http.multipartparser import MultiPartParserError
from ninja import NinjaAPI
from ninja.errors import AuthenticationError, HttpError, ValidationError
from psycopg.errors import DeadlockDetected, LockNotAvailable

from yuvrel.core import bounds
from yuvrel.core.errors import BadInputError, YuvrelError
from yuvrel.platform.faults import record_faults

log = logging.getLogger("yuvrel.api")

TITLES = {
    400: "This request cannot be read",
    401: "Sign in first",
    403: "Not allowed",
    404: "Not found",
    405: "Not possible here",
    409: "Changed in the meantime",
    413: "Too large",
    422: "Cannot be done as asked",
    429: "Too often",
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
    _install_database(api)

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

    @api.exception_handler(BadRequest)
    @api.exception_handler(SuspiciousOperation)
    @api.exception_handler(MultiPartParserError)
    @api.exception_handler(UnreadablePostError)
    def _garbled(request: HttpRequest, error: Exception) -> HttpResponse:
        too_large = isinstance(error, RequestDataTooBig)
        return problem(413 if too_large else 400, SAID[413 if too_large else 400])

    @api.exception_handler(HttpError)
    def _http(request: HttpRequest, error: HttpError) -> HttpResponse:
        return problem(error.status_code, str(error))

    @api.exception_handler(Exception)
    def _other(request: HttpRequest, error: Exception) -> HttpResponse:
        log.exception("unexpected error on %s %s", request.method, request.path)
        return problem(500, "Something went wrong here; it was logged. Nothing was changed.")


def _install_database(api: NinjaAPI) -> None:
    """What the database says no to."""

    @api.exception_handler(IntegrityError)
    def _constraint(request: HttpRequest, error: IntegrityError) -> HttpResponse:
        log.warning("constraint refused a request: %s", error)
        diagnosis = getattr(error.__cause__, "diag", None)
        name = getattr(diagnosis, "constraint_name", None) or ""
        message = getattr(diagnosis, "message_primary", None) or "a rule of the database"
        return problem(422, f"The database refused it: {name or message}.")

    @api.exception_handler(DataError)
    @api.exception_handler(OverflowError)
    def _too_large(request: HttpRequest, error: Exception) -> HttpResponse:
        log.warning("a value was refused by the database: %s", type(error.__cause__ or error).__name__)
        return problem(422, "A value is larger or longer than what can be kept. Nothing was changed.")

    @api.exception_handler(OperationalError)
    def _database(request: HttpRequest, error: OperationalError) -> HttpResponse:
        if isinstance(error.__cause__, (DeadlockDetected, LockNotAvailable)):
            log.warning("two requests waited for each other on %s", request.path)
            return problem(503, "Somebody is changing the same thing just now. Nothing was changed; try again.")
        log.error("database unavailable: %s", error)
        return problem(503, "The database did not answer. Try again in a moment.")


SAID = {
    400: "The request is not built as it should be. Nothing was changed.",
    404: "There is nothing at this address.",
    405: "This address does not answer to that method.",
    413: "The request is larger than what is taken in.",
}


class AnswerMiddleware:
    """Every answer of the API that is not a success is a problem document, also where no route was reached;
    and none of its answers is kept by a browser or a proxy but what never changes."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        answer = self.get_response(request)
        if request.path.startswith("/api/"):
            if not settings.READ_ONLY:
                record_faults()
            if answer.status_code >= 400 and not answer.headers.get("Content-Type", "").startswith("application/problem"):
                answer = problem(answer.status_code, SAID.get(answer.status_code, "It cannot be done."))
            # Only what never changes says by itself that it may be kept: a picture's bytes.
            if answer.status_code >= 400 or "immutable" not in answer.get("Cache-Control", ""):
                answer["Cache-Control"] = "no-store"
        return answer


# How a character that no text can hold may stand in JSON: as an escape, or as it is.
_ESCAPED = re.compile(rb"\\u(00(0[0-8bcef]|1[0-9a-f]|7f)|d[89a-f][0-9a-f]{2}|fff[ef])", re.IGNORECASE)


class TextMiddleware:
    """Texts hold characters of texts only, wherever they stand: what neither the database nor a document can carry is
    refused at the door."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        if request.path.startswith("/api/"):
            try:
                for text in _texts_of(request):
                    bounds.check_text(text, "", len(text))
            except YuvrelError as error:
                return problem(400, error.detail)
            except RequestDataTooBig:
                return problem(413, SAID[413])
            except (ValueError, RecursionError):
                return problem(400, SAID[400])
        return self.get_response(request)


FORMS = ("multipart/form-data", "application/x-www-form-urlencoded")


def _texts_of(request: HttpRequest) -> Iterator[str]:
    """The texts of a request: its address, what it asks, and its body: a form, or else JSON whatever it calls itself, as the
    routes read it so. Raises BadInputError where that is nested deeper than anything we take."""
    yield request.path
    yield unquote(request.META.get("QUERY_STRING", ""))
    if request.content_type in FORMS:
        for name, texts in request.POST.lists():
            yield name
            yield from texts
        yield from (file.name or "" for _, files in request.FILES.lists() for file in files)
    elif request.method not in ("GET", "HEAD") and request.body:
        text = request.body.decode()
        if bounds.is_deep(text):
            raise BadInputError(f"The request is nested deeper than {bounds.DEPTH} levels.")
        if _ESCAPED.search(request.body) or bounds.NOT_A_CHARACTER.search(text):
            yield from bounds.texts(json.loads(text, strict=False))
