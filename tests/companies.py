"""Tests that are about one company need not say which: where nobody has said, it is the only one there is.

What the product itself does has to say it: routes, jobs and commands are driven as they are, and where there are two
companies nothing is taken for granted here either.
"""

from __future__ import annotations

import threading
from typing import Any

import django_scopes.manager
from django_scopes.state import get_scope

import yuvrel.ownership
from yuvrel.people.models import Company

_only: list[Company] = []


def forget_company() -> None:
    """Another test, or another database, has another; and one that was changed is read anew."""
    _only.clear()


def scope_or_the_only() -> dict[str, Any]:
    """What was said; else the only company, or everything while there is none."""
    given = get_scope()
    # Inside a request or a job that names its company nothing is filled in, nor while a server sends its answer: there
    # the product has to say it.
    if given or "process_request" in threading.current_thread().name:
        return given
    if not _only:
        found = list(Company.objects.all()[:2])
        if not found:
            return {"_enabled": False}
        if len(found) > 1:
            return given
        _only.extend(found)
    return {"company": _only[0]}


def install() -> None:
    """For this process."""
    django_scopes.manager.get_scope = scope_or_the_only
    yuvrel.ownership.get_scope = scope_or_the_only
