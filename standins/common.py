"""What every stand-in needs: its account, its tokens, its transaction."""

from __future__ import annotations

import functools
import secrets
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from decimal import Decimal, InvalidOperation
from typing import Any

from flask import Response, abort, current_app, g, jsonify, make_response, request
from http_message_signatures import (
    HTTPMessageSignaturesException,
    HTTPMessageVerifier,
    HTTPSignatureKeyResolver,
    algorithms,
)

from . import faults
from .store import Doc, Store


def store() -> Store:
    """The store of this process."""
    return current_app.config["STORE"]


def account_of(name: str, sort: str) -> dict[str, Any]:
    """The account's document; 404 when there is none of this sort."""
    body = store().get(name, "account", name)
    if body is None or body["sort"] != sort:
        abort(refusal(404, f"There is no {sort} called {name} here."))
    return body


def refusal(status: int, detail: str) -> Response:
    """An error as data."""
    return make_response(jsonify(detail=detail), status)


def scoped(sort: str, scope: str) -> Callable[..., Any]:
    """A route for token holders: checks the token and the scope, runs in one transaction."""

    def wrap(route: Callable[..., Any]) -> Callable[..., Any]:
        @functools.wraps(route)
        def run(account: str, **values: Any) -> Any:
            struck = faults.before(store(), account)
            if struck is not None:
                return struck
            with store().transaction():
                g.account = account_of(account, sort)
                if "keys" in g.account:
                    scopes, key = _signed_by(account), "key"
                else:
                    scopes, key = _scopes_of(account, request.headers.get("Authorization", "").removeprefix("Bearer ")), "token"
                if scopes is None:
                    return refusal(
                        401, "This token is not known here." if key == "token" else "This call is not signed by a key of ours."
                    )
                if scope and scope not in scopes:
                    return refusal(403, f"This {key} lacks the scope {scope}.")
                g.scopes = scopes
                answer = make_response(route(account, **values))
            return faults.broken_off() if g.get("dropped") else answer

        return run

    return wrap


def _scopes_of(account: str, token: str) -> list[str] | None:
    """What a token may do: one of the account's own, or one that was granted and has not run out."""
    own = next((s for t, s in g.account.get("tokens", {}).items() if secrets.compare_digest(t, token)), None)
    granted = store().get(account, "token", token) if own is None else None
    return granted["scopes"] if granted and granted["until"] > datetime.now(UTC).isoformat() else own


class _Keys(HTTPSignatureKeyResolver):
    """The secrets of an account's keys."""

    def resolve_public_key(self, key_id: str) -> bytes:
        return str(g.account["keys"][key_id]["secret"]).encode()


# How old a signature may be; for so long what was signed is remembered, so that nobody sends it again.
GOOD_FOR = timedelta(minutes=5)


def _signed_by(account: str) -> list[str] | None:
    """What the key may do that signed this call (RFC 9421); None where none did, or where the call came before."""
    verifier = HTTPMessageVerifier(signature_algorithm=algorithms.HMAC_SHA256, key_resolver=_Keys())
    try:
        (found,) = verifier.verify(
            request, max_age=GOOD_FOR, require_components=("@method", "@target-uri"), body=request.get_data()
        )
        nonce, key = str(found.parameters["nonce"]), str(found.parameters["keyid"])
    except (HTTPMessageSignaturesException, KeyError, ValueError):
        return None
    now = datetime.now(UTC)
    seen = store().get(account, "nonces", "seen") or {}
    if nonce in seen:
        return None
    still = {one: until for one, until in seen.items() if until > now.isoformat()}
    store().put(account, "nonces", "seen", {**still, nonce: (now + GOOD_FOR).isoformat()})
    scopes: list[str] = g.account["keys"][key]["scopes"]
    return scopes


def money(text: Any, what: str) -> Decimal:
    """A decimal from a request; 422 when it is none."""
    try:
        value = Decimal(str(text))
    except InvalidOperation:
        abort(refusal(422, f"{what} is not a number."))
    if not value.is_finite():
        abort(refusal(422, f"{what} is not a number."))
    return value


def paged(account: str, kind: str, cursor: str, limit: int, since: str = "") -> tuple[list[Doc], str | None]:
    """(documents, the next cursor or None) in writing order, with the faults that pages can have."""
    place, _, marked = cursor.partition("e")
    after = int(place or 0)
    if not marked and faults.struck(store(), account, "page_empty"):
        return [], f"{after}e"
    if after and not marked and faults.struck(store(), account, "page_twice"):
        return [body for _, body in store().before(account, kind, after, limit, since)], str(after)
    rows = store().rows(account, kind, after, limit, since)
    return [body for _, body in rows], str(rows[-1][0]) if len(rows) == limit else None


def refused_line(account: str) -> bool:
    """Whether the next line of a batch is refused."""
    return faults.struck(store(), account, "line_refused")


def board_of(account: str) -> dict[str, Any]:
    """What the page of an account shows of its switchboard."""
    return {"faults": faults.FAULTS, "on": faults.active(store(), account), "seed": faults.board(store(), account)["seed"]}
