"""How one signs in to an account: what a person enters, and how calls carry it."""

from __future__ import annotations

import base64
import hashlib
import secrets
import threading
import time
from collections.abc import Callable, Generator, Mapping
from dataclasses import dataclass

import httpx
from http_message_signatures import HTTPMessageSigner, HTTPSignatureKeyResolver, algorithms

from .errors import AccessError, BusyError, NonsenseError

Values = Mapping[str, str]
# A token that was granted is asked for anew so many seconds before it runs out.
EARLY = 20.0
LONGEST_GRANT = 86_400.0


@dataclass(frozen=True)
class Entry:
    """One thing to enter; a secret is sealed and never shown again. What is `fixed` says which account is meant and stays
    once anything was exchanged; an `optional` one may be left empty."""

    name: str
    label: str
    help: str
    secret: bool = True
    fixed: bool = False
    optional: bool = False


@dataclass(frozen=True)
class SignIn:
    """The entries of a way to sign in, and what signs the calls with them."""

    entries: tuple[Entry, ...]
    signer: Callable[[str, Values], httpx.Auth]

    def with_entries(self, *entries: Entry) -> SignIn:
        """The same way with more that says which part of the account is meant."""
        return SignIn((*self.entries, *entries), self.signer)


class _Token(httpx.Auth):
    """A token that stays as it is (RFC 6750, 2.1)."""

    def __init__(self, token: str) -> None:
        self._token = token

    def auth_flow(self, request: httpx.Request) -> Generator[httpx.Request, httpx.Response]:
        request.headers["Authorization"] = f"Bearer {self._token}"
        yield request


class _Granted(httpx.Auth):
    """A token that the account grants to a client for a while (RFC 6749, 4.4), and anew when it has run out."""

    requires_response_body = True

    def __init__(self, address: str, client: str, secret: str) -> None:
        self._address, self._client, self._secret = address, client, secret
        # Under another secret nothing has been granted: a mistyped one is not carried by the token of the right one.
        self._key = hashlib.sha256("\n".join((address, client, secret)).encode()).hexdigest()

    def auth_flow(self, request: httpx.Request) -> Generator[httpx.Request, httpx.Response]:
        token = _grants.known(self._key)
        fresh = token is None
        if token is None:
            token = self._read((yield self._ask(request)))
        request.headers["Authorization"] = f"Bearer {token}"
        answer = yield request
        if answer.status_code == 401 and not fresh:
            # It ran out earlier than the account had said.
            token = self._read((yield self._ask(request)))
            request.headers["Authorization"] = f"Bearer {token}"
            yield request

    def _ask(self, request: httpx.Request) -> httpx.Request:
        basic = base64.b64encode(f"{self._client}:{self._secret}".encode()).decode()
        return httpx.Request(
            "POST",
            f"{self._address}/token",
            headers={"Authorization": f"Basic {basic}"},
            data={"grant_type": "client_credentials"},
            extensions=request.extensions,
        )

    def _read(self, answer: httpx.Response) -> str:
        if answer.status_code in (400, 401, 403):
            raise AccessError("The account does not know this client id with this secret.", status=answer.status_code)
        if answer.status_code != 200:
            raise BusyError(f"The account grants no token now: it answered {answer.status_code}.", status=answer.status_code)
        try:
            told = answer.json()
            token, seconds = str(told["access_token"]), float(told.get("expires_in", 0))
        except (ValueError, KeyError, TypeError, AttributeError) as error:
            raise NonsenseError("What the account granted cannot be read.", status=200) from error
        _grants.keep(self._key, token, min(LONGEST_GRANT, seconds))
        return token


class _Signed(httpx.Auth):
    """Each call signed with a secret that never travels (RFC 9421, hmac-sha256): what is asked, of whom, and the body by
    its digest (RFC 9530), each signature once."""

    requires_request_body = True

    def __init__(self, key: str, secret: str) -> None:
        self._key = key
        self._signer = HTTPMessageSigner(signature_algorithm=algorithms.HMAC_SHA256, key_resolver=_Secret(secret))

    def auth_flow(self, request: httpx.Request) -> Generator[httpx.Request, httpx.Response]:
        self._signer.sign(
            _Call(request.method, str(request.url), request.headers),
            key_id=self._key,
            nonce=secrets.token_urlsafe(16),
            label="yuvrel",
            covered_component_ids=("@method", "@target-uri"),
            body=request.content,
        )
        yield request


@dataclass
class _Call:
    """A request as the signer reads it, and writes its headers."""

    method: str
    url: str
    headers: httpx.Headers


class _Secret(HTTPSignatureKeyResolver):
    """One secret, shared by both sides, whatever the key is called."""

    def __init__(self, secret: str) -> None:
        self._secret = secret.encode()

    def resolve_private_key(self, key_id: str) -> bytes:
        return self._secret

    def resolve_public_key(self, key_id: str) -> bytes:
        return self._secret


class _Grants:
    """Tokens granted to this process, until shortly before they run out."""

    def __init__(self) -> None:
        self._guard = threading.Lock()
        self._held: dict[str, tuple[str, float]] = {}

    def known(self, key: str) -> str | None:
        """The token, while it is good."""
        with self._guard:
            token, until = self._held.get(key, ("", 0.0))
            return token if time.monotonic() < until else None

    def keep(self, key: str, token: str, seconds: float) -> None:
        """Keep a token for as long as it is good."""
        with self._guard:
            self._held[key] = token, time.monotonic() + max(0.0, seconds - EARLY)


_grants = _Grants()


TOKEN = SignIn((Entry("token", "Token", "The account issues it."),), lambda address, values: _Token(values.get("token", "")))
GRANTED = SignIn(
    (
        Entry("client", "Client id", "The account issues it for each program that may call.", secret=False),
        Entry("secret", "Client secret", "It comes with the client id. Yuvrel has a token granted with it, again and again."),
    ),
    lambda address, values: _Granted(address, values.get("client", ""), values.get("secret", "")),
)
SIGNED = SignIn(
    (
        Entry("key", "Key id", "The account issues it with the secret that belongs to it.", secret=False),
        Entry("secret", "Secret", "Yuvrel signs each call with it; the secret itself is never sent."),
    ),
    lambda address, values: _Signed(values.get("key", ""), values.get("secret", "")),
)
