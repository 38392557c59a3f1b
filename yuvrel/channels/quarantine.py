"""One bad message never stops the others: whatever goes wrong with one is caught here, logged, counted, and set aside
as a Snag with what came; the rest goes on in the same run."""

from __future__ import annotations

import logging
from collections.abc import Callable
from typing import Any, TypeVar

from django.db import InterfaceError, OperationalError, transaction
from psycopg.errors import DataError as RefusedValueError
from psycopg.errors import DeadlockDetected

from yuvrel.connectors.errors import ConnectorError, NonsenseError
from yuvrel.connectors.http import storable
from yuvrel.connectors.messages import Raw, Unreadable
from yuvrel.core.errors import YuvrelError

log = logging.getLogger("yuvrel.channels")
T = TypeVar("T")
# Beside a payload in which characters that no database text can hold stand as escapes: it is for looking at only.
ESCAPED = "characters replaced"
# Two transactions that block each other: one is told so, and simply goes again.
AGAIN = 3


class SetAsideError(YuvrelError):
    """Something went wrong with this one; it was logged. The others went on."""


def ends_the_run(error: BaseException) -> bool:
    """Whether nothing else can go on either: the database went away, the account as a whole does not answer, or the
    process is being stopped. The run resumes where it stood."""
    if isinstance(error, ConnectorError):
        return error.whole_connection
    return isinstance(error, (OperationalError, InterfaceError)) or not isinstance(error, Exception)


def in_one(work: Callable[[], T]) -> T:
    """Carry out as one transaction, again should another have blocked it while it blocked that one."""
    for left in range(AGAIN - 1, -1, -1):
        try:
            with transaction.atomic():
                return work()
        except OperationalError as error:
            if not left or not isinstance(error.__cause__, DeadlockDetected):
                raise
    raise AssertionError


def attempt(work: Callable[[], T], what: str) -> T:
    """Carry out what concerns one message, as one transaction.

    Raises YuvrelError or ConnectorError as they come; anything unforeseen is logged with its trace and raised as
    SetAsideError, unless it ends the run.
    """
    try:
        return in_one(work)
    except (YuvrelError, ConnectorError):
        raise
    except Exception as error:
        if ends_the_run(error):
            raise
        raise set_aside(error, what) from error


def set_aside(error: Exception, what: str) -> SetAsideError:
    """Log an unforeseen error with its trace; what to raise instead."""
    log.error("%s was set aside", what, exc_info=error, extra={"what": what, "error": type(error).__name__})
    return SetAsideError(_said(error))


def _said(error: Exception) -> str:
    if isinstance(error.__cause__, RefusedValueError):
        return "A value in it is larger than anything that can be kept. It was logged; the others went on."
    return f"{(SetAsideError.__doc__ or '').strip()} ({type(error).__name__})"


def read_row(reader: Callable[[Any], T], raw: Raw) -> T | Unreadable:
    """What a reader makes of one thing on a page, or what is known of a thing it cannot read."""
    if isinstance(raw.body, dict) and ESCAPED in raw.body:
        return unreadable(raw.body, "It holds characters that cannot be kept.")
    try:
        return reader(raw.body)
    except NonsenseError as error:
        detail, field = str(error), error.field
    except YuvrelError as error:
        detail, field = error.detail, error.field
    except Exception as error:
        if ends_the_run(error):
            raise
        log.exception("a thing on a page was set aside", extra={"error": type(error).__name__})
        detail, field = f"It is not built as it should be ({type(error).__name__}).", ""
    return unreadable(raw.body, detail, field)


def unreadable(body: Any, detail: str, field: str = "") -> Unreadable:
    """A thing that cannot be read, as it came."""
    came = body if isinstance(body, dict) else {"given": body}
    known = storable(came)
    if known != came:
        known[ESCAPED] = True
    shown = known.get("number") or known.get("title") or ""
    return Unreadable(
        external_id=_short(known.get("id"), 80),
        number=_short(shown, 60),
        detail=detail[:800],
        field=field[:60],
        body=known,
    )


def _short(value: Any, most: int) -> str:
    return str(value)[:most] if isinstance(value, (str, int)) else ""
