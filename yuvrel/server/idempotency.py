"""Idempotency-Key: the same POST is carried out once, and answered the same each time."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable

from django.db import IntegrityError, OperationalError, connection, transaction
from django.http import HttpRequest, HttpResponse
from ninja.utils import check_csrf
from psycopg.errors import LockNotAvailable

from yuvrel.people.models import IdempotencyKey
from yuvrel.platform.auth import Token

from .problems import problem

WAIT = "5s"
# These talk to an account, which must not happen inside a transaction. Each may be repeated without harm,
# so they need no key and take none.
CALLS_OUT = re.compile(r"/api/v1/connections/\d+/(test|live|listings)")
# Signing in takes no key: a refusal must count towards the lock, whatever becomes of the request.
SIGN_IN = "/api/v1/session"
# These say nothing about the request itself: the next try may be answered otherwise.
NOT_KEPT = (401, 403, 409)


class IdempotencyMiddleware:
    """Keeps the answer of a POST under its key for the person or token that sent it.

    The key, what the request does and the answer are committed together: a server that dies in the
    middle leaves none of them behind, and the next try does the work.
    """

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        key = request.headers.get("Idempotency-Key", "")
        keeps = request.path.startswith("/api/") and request.path != SIGN_IN and not CALLS_OUT.fullmatch(request.path)
        if request.method != "POST" or not key or not keeps:
            return self.get_response(request)
        if len(key) > 120:
            return problem(422, "An Idempotency-Key has at most 120 characters.", "Idempotency-Key")
        owner = _owner(request)
        if owner is None:
            # Whoever would be refused now is not given what was answered then either.
            return self.get_response(request)
        digest = hashlib.sha256(request.path.encode() + b"\0" + _sent(request)).hexdigest()
        with transaction.atomic():
            try:
                row = _claim(owner, key, digest)
            except OperationalError as error:
                if not isinstance(error.__cause__, LockNotAvailable):
                    raise
                transaction.set_rollback(True)
                return problem(409, "The first request with this Idempotency-Key is still running.")
            if row is None:
                return _kept(owner, key, digest)
            response = self.get_response(request)
            # A file is made anew each time: making it changes nothing.
            is_file = response.has_header("Content-Disposition")
            if is_file or connection.needs_rollback or response.status_code >= 500 or response.status_code in NOT_KEPT:
                transaction.set_rollback(True)
            else:
                row.status, row.body = response.status_code, response.content.decode(errors="replace")
                row.save(update_fields=["status", "body"])
        return response


def _sent(request: HttpRequest) -> bytes:
    """What tells one request from another: its body, or of a form, which may have been read already, its fields and files."""
    if request.content_type != "multipart/form-data":
        return request.body
    said = hashlib.sha256()
    for name in sorted(request.POST):
        for text in request.POST.getlist(name):
            said.update(f"{name}\0{text}\0".encode(errors="surrogatepass"))
    for name in sorted(request.FILES):
        for file in request.FILES.getlist(name):
            said.update(f"{name}\0{file.name}\0".encode(errors="surrogatepass"))
            for piece in file.chunks():
                said.update(piece)
            file.seek(0)
    return said.digest()


def _owner(request: HttpRequest) -> str | None:
    """The person or token that asks, when the routes would let them in now; else None."""
    given = request.headers.get("Authorization", "")
    if given:
        kind, _, token = given.partition(" ")
        if kind.lower() != "bearer" or Token().authenticate(request, token.strip()) is None:
            return None
        return "token:" + hashlib.sha256(given.encode()).hexdigest()[:60]
    if not (request.user.is_authenticated and request.user.is_active) or check_csrf(request) is not None:
        return None
    return f"user:{request.user.pk}"


def _claim(owner: str, key: str, digest: str) -> IdempotencyKey | None:
    """The new row of this key; None when it was used before. Waits a moment for one that is being used."""
    try:
        with transaction.atomic(), connection.cursor() as cursor:
            cursor.execute("SELECT set_config('lock_timeout', %s, true)", [WAIT])
            row = IdempotencyKey.objects.create(owner=owner, key=key, digest=digest)
            cursor.execute("SELECT set_config('lock_timeout', '0', true)")
            return row
    except IntegrityError:
        return None


def _kept(owner: str, key: str, digest: str) -> HttpResponse:
    """The answer that was given under this key."""
    row = IdempotencyKey.objects.get(owner=owner, key=key)
    if row.digest != digest:
        return problem(422, "This Idempotency-Key was used for a different request.", "Idempotency-Key")
    sort = "application/json" if (row.status or 200) < 400 else "application/problem+json"
    answer = HttpResponse(row.body, status=row.status, content_type=sort)
    answer["Idempotency-Replayed"] = "true"
    return answer
