"""Idempotency-Key: the same POST is carried out once, and answered the same each time."""

from __future__ import annotations

import hashlib
from collections.abc import Callable

from django.db import IntegrityError, transaction
from django.http import HttpRequest, HttpResponse

from yuvrel.people.models import IdempotencyKey

from .problems import problem


class IdempotencyMiddleware:
    """Keeps the answer of a POST under its key for the person or token that sent it."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        key = request.headers.get("Idempotency-Key", "")
        if request.method != "POST" or not key or not request.path.startswith("/api/"):
            return self.get_response(request)
        if len(key) > 120:
            return problem(422, "An Idempotency-Key has at most 120 characters.", "Idempotency-Key")
        owner = _owner(request)
        digest = hashlib.sha256(request.path.encode() + b"\0" + request.body).hexdigest()
        row, kept = _claim(owner, key, digest)
        if kept is not None:
            return kept
        response = self.get_response(request)
        if response.status_code >= 500 or response.status_code in (401, 403, 409):
            row.delete()
        else:
            row.status, row.body = response.status_code, response.content.decode(errors="replace")
            row.save(update_fields=["status", "body"])
        return response


def _owner(request: HttpRequest) -> str:
    token = request.headers.get("Authorization", "")
    if token:
        return "token:" + hashlib.sha256(token.encode()).hexdigest()[:60]
    return f"user:{request.user.pk}"


def _claim(owner: str, key: str, digest: str) -> tuple[IdempotencyKey, HttpResponse | None]:
    """The row of this key, and the answer already given, if there is one."""
    try:
        with transaction.atomic():
            return IdempotencyKey.objects.create(owner=owner, key=key, digest=digest), None
    except IntegrityError:
        row = IdempotencyKey.objects.get(owner=owner, key=key)
    if row.digest != digest:
        answer = problem(422, "This Idempotency-Key was used for a different request.", "Idempotency-Key")
    elif row.status is None:
        answer = problem(409, "The first request with this Idempotency-Key is still running.", "")
    else:
        answer = HttpResponse(row.body, status=row.status, content_type="application/json")
        answer["Idempotency-Replayed"] = "true"
    return row, answer
