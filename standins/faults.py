"""The switchboard: faults a person or a test can switch on for one account."""

from __future__ import annotations

import random
import time
from typing import Any

from flask import Response, abort, g, jsonify, request

from .store import Store

FAULTS = {
    "slow": "answers after two seconds",
    "busy": "429 with Retry-After",
    "broken": "500 on every call",
    "dropped": "does the work, then drops the answer (502)",
    "webhook_lost": "webhooks are never sent",
    "webhook_twice": "webhooks are sent twice",
}


def active(store: Store, account: str) -> dict[str, float]:
    """Faults switched on: name to probability."""
    board = store.get(account, "switchboard", "board") or {}
    return {name: float(share) for name, share in board.get("on", {}).items() if name in FAULTS}


def struck(store: Store, account: str, fault: str) -> bool:
    """Whether a fault strikes this time; drawn from the board's seed, so that a run can be repeated."""
    share = active(store, account).get(fault, 0.0)
    if not share:
        return False
    board = store.get(account, "switchboard", "board") or {}
    draws = int(board.get("draws", 0)) + 1
    store.put(account, "switchboard", "board", {**board, "draws": draws})
    return random.Random(f"{board.get('seed', 1)}:{draws}").random() < share


def switch(store: Store, account: str, on: dict[str, float], seed: int = 1) -> dict[str, Any]:
    """Set the board. Unknown faults are refused."""
    unknown = set(on) - set(FAULTS)
    if unknown:
        abort(Response(f"unknown faults: {', '.join(sorted(unknown))}", 422))
    board = {"on": on, "seed": seed, "draws": 0}
    store.put(account, "switchboard", "board", board)
    return board


def before(store: Store, account: str) -> Response | None:
    """Faults that strike before the work."""
    with store.transaction():
        hits = {name for name in ("slow", "busy", "broken", "dropped") if struck(store, account, name)}
    g.dropped = "dropped" in hits and request.method in ("POST", "PUT")
    if "slow" in hits:
        time.sleep(2)
    if "busy" in hits:
        answer = jsonify(detail="Too many calls; wait a moment.")
        answer.status_code = 429
        answer.headers["Retry-After"] = "1"
        return answer
    if "broken" in hits:
        answer = jsonify(detail="Something broke here.")
        answer.status_code = 500
        return answer
    return None
