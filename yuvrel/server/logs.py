"""Logs that can be followed: every line carries the id of the request or the job it belongs to."""

from __future__ import annotations

import logging
import re
import time
import uuid
from collections.abc import Callable
from contextvars import ContextVar
from typing import Any

from django.db import close_old_connections
from django.http import HttpRequest, HttpResponse

log = logging.getLogger("yuvrel.requests")
_trace: ContextVar[str] = ContextVar("trace", default="-")
_SOUND = re.compile(r"[A-Za-z0-9._-]{1,64}")


class TraceFilter(logging.Filter):
    """Adds `trace` to every record."""

    def filter(self, record: logging.LogRecord) -> bool:
        """Lets everything through."""
        record.trace = _trace.get()
        return True


class RequestIdMiddleware:
    """Takes over the id a proxy gave the request, or makes one; answers with it and logs how it went.

    Neither query strings nor bodies are logged: they may hold what is nobody's business.
    """

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        given = request.headers.get("X-Request-ID", "")
        name = given if _SOUND.fullmatch(given) else uuid.uuid4().hex[:16]
        mark = _trace.set(name)
        start = time.monotonic()
        try:
            response = self.get_response(request)
            response["X-Request-ID"] = name
            facts = {
                "method": request.method,
                "path": hide(request.path),
                "status": response.status_code,
                "ms": round((time.monotonic() - start) * 1000),
            }
            log.info("%(method)s %(path)s %(status)s %(ms)s ms", facts, extra=facts)
            return response
        finally:
            _trace.reset(mark)


def hide(path: str) -> str:
    """The key in a webhook's address is a secret of a kind; it is not logged."""
    return "/hooks/…" if path.startswith("/hooks/") else path


def trace_job(call_next: Callable[[], Any], context: Any, worker: Any) -> Any:
    """A worker's middleware: what a job logs carries its name and number.

    As around a request, connections to the database are given back after each job, so that one
    which broke does not stay with its thread for ever.
    """
    mark = _trace.set(f"{context.job.task_name}#{context.job.id}")
    close_old_connections()
    try:
        return call_next()
    finally:
        close_old_connections()
        _trace.reset(mark)
