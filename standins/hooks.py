"""Outgoing webhooks, signed by the Standard Webhooks scheme, sent after the shop has committed."""

from __future__ import annotations

import base64
import json
import queue
import secrets
import threading
import time
from datetime import UTC, datetime

import httpx
from standardwebhooks import Webhook

from . import faults
from .store import Doc, Store

_queue: queue.Queue[tuple[str, str, str, str]] = queue.Queue()
PAUSES = (0.0, 1.0, 5.0)


def new_secret() -> str:
    """A signing secret in the scheme's form."""
    return "whsec_" + base64.b64encode(secrets.token_bytes(24)).decode()


def tell(store: Store, account: str, event: str, data: Doc) -> None:
    """Queue an event for the account's webhook, if it has one."""
    hook = store.get(account, "webhook", "only")
    if hook is None or faults.struck(store, account, "webhook_lost"):
        return
    body = json.dumps({"type": event, "timestamp": data["updated_at"], "data": data})
    times = 2 if faults.struck(store, account, "webhook_twice") else 1
    for _ in range(times):
        _queue.put((hook["url"], hook["secret"], "msg_" + secrets.token_hex(8), body))


def _send(url: str, secret: str, message: str, body: str) -> None:
    for pause in PAUSES:
        time.sleep(pause)
        at = datetime.now(UTC)
        headers = {
            "Content-Type": "application/json",
            "webhook-id": message,
            "webhook-timestamp": str(int(at.timestamp())),
            "webhook-signature": Webhook(secret).sign(message, at, body),
        }
        try:
            if httpx.post(url, content=body, headers=headers, timeout=5, trust_env=False).status_code < 300:
                return
        except httpx.HTTPError:
            continue


def _work() -> None:
    while True:
        job = _queue.get()
        try:
            # The request that caused the event commits within moments; the receiver may look back.
            time.sleep(0.05)
            _send(*job)
        finally:
            _queue.task_done()


def start() -> None:
    """Start the one sender thread of this process."""
    threading.Thread(target=_work, name="webhooks", daemon=True).start()
