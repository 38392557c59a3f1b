"""The switchboard: faults a person or a test can switch on for one account, drawn from a seed."""

from __future__ import annotations

import random
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from flask import Response, abort, g, jsonify, request

from .store import Doc, Store

FAULTS = {
    "slow": "answers after two seconds",
    "busy": "answers 429 with Retry-After",
    "broken": "answers 500",
    "dropped": "does the work, then the connection breaks off",
    "expired": "the token counts as expired (401)",
    "nonsense": "answers something that is not JSON",
    "page_twice": "gives a page it gave before",
    "page_empty": "gives an empty page that is not the last",
    "line_refused": "refuses one line of a batch",
    "clock_slow": "its clock is two minutes slow",
    "clock_fast": "its clock is two minutes fast",
    "webhook_lost": "webhooks are never sent",
    "webhook_twice": "webhooks are sent twice",
    "webhook_swapped": "webhooks arrive out of order",
    "webhook_late": "webhooks arrive an hour late",
    "webhook_unsigned": "webhooks carry a wrong signature",
}
BEFORE = ("slow", "busy", "broken", "dropped", "expired", "nonsense")
CLOCK_OFF = timedelta(minutes=2)
LATE = 3600.0
# Seconds that a slow answer takes, and that a busy account asks to wait.
SLOW = 2.0
WAIT = 1


def board(store: Store, account: str) -> Doc:
    """The account's switchboard: what is on, the seed, how many draws were made."""
    return store.get(account, "switchboard", "board") or {"on": {}, "seed": 1, "draws": 0}


def active(store: Store, account: str) -> dict[str, float]:
    """Faults switched on: name to probability."""
    return {name: float(share) for name, share in board(store, account)["on"].items() if name in FAULTS}


def struck(store: Store, account: str, fault: str) -> bool:
    """Whether a fault strikes this time; drawn from the board's seed, so that a run can be repeated."""
    found = board(store, account)
    share = float(found["on"].get(fault, 0.0))
    if not share:
        return False
    draws = int(found["draws"]) + 1
    store.put(account, "switchboard", "board", {**found, "draws": draws})
    return random.Random(f"{found['seed']}:{draws}").random() < share


def switch(store: Store, account: str, on: dict[str, float], seed: int = 1, late: float = LATE) -> dict[str, Any]:
    """Set the board. Unknown faults and shares outside 0 to 1 are refused. `late` is the hour of webhook_late, in seconds."""
    unknown = set(on) - set(FAULTS)
    if unknown:
        abort(Response(f"unknown faults: {', '.join(sorted(unknown))}", 422))
    if not all(0 <= float(share) <= 1 for share in on.values()):
        abort(Response("a fault's share lies between 0 and 1", 422))
    found = {"on": {k: v for k, v in on.items() if v}, "seed": seed, "draws": 0, "late": late}
    store.put(account, "switchboard", "board", found)
    return found


def clock(store: Store, account: str) -> datetime:
    """The time as this account's clock shows it."""
    on = active(store, account)
    off = CLOCK_OFF if on.get("clock_fast") else -CLOCK_OFF if on.get("clock_slow") else timedelta()
    return datetime.now(UTC) + off


def stamp(store: Store, account: str) -> str:
    """That time as ISO 8601 in UTC."""
    return clock(store, account).isoformat(timespec="microseconds")


def before(store: Store, account: str) -> Response | None:
    """Faults that strike before the work, and the account's limit of calls a second."""
    if _too_fast(store, account):
        return _busy("Too many calls.")
    with store.transaction():
        hits = {name for name in BEFORE if struck(store, account, name)}
    g.dropped = "dropped" in hits and request.method in ("POST", "PUT")
    if "slow" in hits:
        time.sleep(SLOW)
    if "busy" in hits:
        return _busy("Too many calls; wait a moment.")
    if "expired" in hits:
        return _said(401, "This token has expired.")
    if "broken" in hits:
        return _said(500, "Something broke here.")
    if "nonsense" in hits:
        return Response("<!doctype html><title>Back soon</title>", mimetype="text/html")
    return None


def _said(status: int, detail: str) -> Response:
    answer = jsonify(detail=detail)
    answer.status_code = status
    return answer


def _busy(detail: str) -> Response:
    answer = _said(429, detail)
    answer.headers["Retry-After"] = str(WAIT)
    return answer


def broken_off() -> Response:
    """An answer that ends before it should: the caller sees its connection break."""
    # What was sent and not read the server would wait to read to its end, while the caller waits for the answer's.
    request.get_data()

    def nothing() -> Iterator[bytes]:
        yield b"{"

    return Response(nothing(), headers={"Content-Length": "4096", "Connection": "close"}, mimetype="application/json")


@dataclass
class _Bucket:
    """Calls allowed now; refilled at the account's rate, never above one second's or one hour's worth."""

    left: float
    at: float


_buckets: dict[tuple[int, str], _Bucket] = {}
_guard = threading.Lock()


def _too_fast(store: Store, account: str) -> bool:
    """Counts this call against what the account allows a second, or an hour, where it says so."""
    known = store.get(account, "account", account) or {}
    per_hour = float(known.get("per_hour", 0))
    rate = float(known.get("per_second", 0)) or per_hour / 3600
    if not rate:
        return False
    most = per_hour or rate
    now = time.monotonic()
    with _guard:
        bucket = _buckets.setdefault((id(store), account), _Bucket(most, now))
        bucket.left = min(most, bucket.left + (now - bucket.at) * rate)
        bucket.at = now
        if bucket.left < 1:
            return True
        bucket.left -= 1
        return False
