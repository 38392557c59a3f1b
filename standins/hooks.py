"""Outgoing webhooks, signed by the Standard Webhooks scheme, sent after the shop has committed."""

from __future__ import annotations

import base64
import functools
import heapq
import json
import secrets
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

import httpx
from standardwebhooks import Webhook

from . import faults
from .store import Doc, Store

PAUSES = (1.0, 5.0)
# The request that caused an event commits within moments; the receiver may look back.
AFTER_COMMIT = 0.05
SWAPPED = 1.5


@dataclass(order=True)
class Call:
    """One webhook on its way, in the order in which it is due."""

    due: float
    message: str
    url: str = field(compare=False)
    secret: str = field(compare=False)
    body: str = field(compare=False)
    clock_off: timedelta = field(compare=False)
    tries: int = field(default=0, compare=False)


_waiting: list[Call] = []
_bell = threading.Condition()


def new_secret() -> str:
    """A signing secret in the scheme's form."""
    return "whsec_" + base64.b64encode(secrets.token_bytes(24)).decode()


def tell(store: Store, account: str, event: str, data: Doc) -> None:
    """Queue an event for the account's webhook, if it has one."""
    hook = store.get(account, "webhook", "only")
    if hook is None or faults.struck(store, account, "webhook_lost"):
        return
    body = json.dumps({"type": event, "timestamp": data["updated_at"], "data": data})
    secret = new_secret() if faults.struck(store, account, "webhook_unsigned") else hook["secret"]
    delay = AFTER_COMMIT
    if faults.struck(store, account, "webhook_swapped"):
        delay = SWAPPED
    if faults.struck(store, account, "webhook_late"):
        delay = float(faults.board(store, account).get("late", faults.LATE))
    times = 2 if faults.struck(store, account, "webhook_twice") else 1
    off = faults.clock(store, account) - datetime.now(UTC)
    with _bell:
        for _ in range(times):
            heapq.heappush(
                _waiting, Call(time.monotonic() + delay, "msg_" + secrets.token_hex(8), hook["url"], secret, body, off)
            )
        _bell.notify()


@functools.cache
def _client() -> httpx.Client:
    """One for all calls, each on a connection of its own: making one reads whom to trust, which takes longer than a call."""
    return httpx.Client(timeout=5, trust_env=False, limits=httpx.Limits(max_keepalive_connections=0))


def post(url: str, body: str, headers: dict[str, str]) -> int:
    """The status with which a receiver answers; 0 when it does not."""
    try:
        return _client().post(url, content=body, headers=headers).status_code
    except httpx.HTTPError:
        return 0


def send(call: Call, post: Callable[[str, str, dict[str, str]], int] = post) -> bool:
    """One try; whether it was taken."""
    at = datetime.now(UTC) + call.clock_off
    headers = {
        "Content-Type": "application/json",
        "webhook-id": call.message,
        "webhook-timestamp": str(int(at.timestamp())),
        "webhook-signature": Webhook(call.secret).sign(call.message, at, call.body),
    }
    return 200 <= post(call.url, call.body, headers) < 300


def _next() -> Call:
    """Wait for the next call that is due."""
    with _bell:
        while not _waiting or _waiting[0].due > time.monotonic():
            _bell.wait(_waiting[0].due - time.monotonic() if _waiting else None)
        return heapq.heappop(_waiting)


def _work() -> None:
    while True:
        call = _next()
        if not send(call) and call.tries < len(PAUSES):
            call.due = time.monotonic() + PAUSES[call.tries]
            call.tries += 1
            with _bell:
                heapq.heappush(_waiting, call)


def start() -> None:
    """Start the sender threads of this process."""
    for n in range(2):
        threading.Thread(target=_work, name=f"webhooks-{n}", daemon=True).start()
