"""Which tables an answer was read from, and which were written to since: a page reads anew just what changed, whoever
changed it, and nobody has to declare what it hangs on."""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import cache, lru_cache
from typing import Any

from django.apps import apps
from django.db import connection
from django.http import HttpRequest, HttpResponse

from yuvrel.events.writes import tell_writes, writes

# What changes with every visit or job and is shown to nobody.
UNSEEN = re.compile(r"django_|procrastinate_|people_opensession$|people_signintry$|outbox_event$")
HEADER = "X-Reads"


@cache
def tables() -> frozenset[str]:
    """The tables whose rows somebody can see."""
    every = {model._meta.db_table for model in apps.get_models(include_auto_created=True)}
    return frozenset(name for name in every if not UNSEEN.match(name))


@lru_cache(maxsize=512)
def named_in(statement: str) -> frozenset[str]:
    """The tables that a statement names."""
    return tables().intersection(re.findall(r"\w+", statement))


def written() -> dict[str, int]:
    """How often each table that somebody can see has been written to."""
    return {name: count for name, count in writes().items() if name in tables()}


class ReadsMiddleware:
    """An answer of the API says which tables it was read from; what a request wrote is counted before it is answered."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        if not request.path.startswith("/api/"):
            return self.get_response(request)
        if request.method != "GET":
            answer = self.get_response(request)
            tell_writes()
            return answer
        found: set[str] = set()

        def note(execute: Callable[..., Any], statement: str, params: Any, many: bool, context: Any) -> Any:
            found.update(named_in(statement))
            return execute(statement, params, many, context)

        with connection.execute_wrapper(note):
            answer = self.get_response(request)
        answer[HEADER] = " ".join(sorted(found))
        return answer
