"""All outgoing HTTP: checked addresses, timeouts, no redirects, capped retries, faults by name."""

from __future__ import annotations

import ipaddress
import json
import socket
import ssl
from dataclasses import dataclass
from functools import lru_cache
from typing import Any
from urllib.parse import urlsplit

import httpx
from tenacity import Retrying, retry_if_exception, stop_after_attempt, wait_random_exponential

TIMEOUT = httpx.Timeout(10.0, connect=4.0)
MOST_BYTES = 20_000_000


class ConnectorError(Exception):
    """The far end did not do what was asked."""

    passing = False

    def __init__(self, detail: str = "", *, status: int | None = None) -> None:
        super().__init__(detail or (self.__doc__ or "").strip())
        self.status = status


class UnreachableError(ConnectorError):
    """Nothing answers at this address."""

    passing = True


class BusyError(ConnectorError):
    """The far end asks us to wait, or is out of order for the moment."""

    passing = True


class AccessError(ConnectorError):
    """The far end does not accept the token."""


class AddressError(ConnectorError):
    """This address may not be called."""


class RefusedByFarEndError(ConnectorError):
    """The far end understood and refused."""


class NonsenseError(ConnectorError):
    """The answer cannot be read."""

    passing = True


@dataclass(frozen=True)
class Answer:
    """Status and body of an answer."""

    status: int
    body: bytes
    headers: httpx.Headers

    def json(self) -> Any:
        """The body as data. Raises NonsenseError."""
        try:
            return json.loads(self.body)
        except ValueError as error:
            raise NonsenseError("The answer is not JSON.", status=self.status) from error


@lru_cache(maxsize=1)
def _trust() -> ssl.SSLContext:
    """Loading the certificates takes longer than most calls; once is enough."""
    return ssl.create_default_context()


def check_address(address: str, allow_private: bool) -> None:
    """Raises AddressError unless `address` is http(s) and points outside private ranges.

    With `allow_private` loopback and private ranges pass (the demo's stand-ins live there).
    """
    parts = urlsplit(address)
    if parts.scheme not in ("http", "https") or not parts.hostname or parts.username:
        raise AddressError(f"{address!r} is not a web address (http or https).")
    if parts.scheme == "http" and not allow_private:
        raise AddressError("Use https: a token must not travel in the clear.")
    if allow_private:
        return
    try:
        found = socket.getaddrinfo(parts.hostname, parts.port or 443, proto=socket.IPPROTO_TCP)
    except OSError as error:
        raise UnreachableError(f"The name {parts.hostname} is not known.") from error
    for *_, target in found:
        if not ipaddress.ip_address(target[0]).is_global:
            raise AddressError(f"{parts.hostname} lies in a private range; it is not called.")


class Caller:
    """Calls one far end with its token."""

    def __init__(self, address: str, token: str, *, allow_private: bool, attempts: int = 3) -> None:
        self.address = address.rstrip("/")
        self._token = token
        self._allow_private = allow_private
        self._attempts = attempts

    def call(self, method: str, path: str, **options: Any) -> Answer:
        """One exchange; waits and tries again while the fault is a passing one.

        Every call is safe to repeat: reads, absolute quantities, or POSTs carrying a key.
        """
        check_address(self.address, self._allow_private)
        retrying = Retrying(
            stop=stop_after_attempt(self._attempts),
            wait=wait_random_exponential(multiplier=0.2, max=3),
            retry=retry_if_exception(lambda e: isinstance(e, ConnectorError) and e.passing),
            reraise=True,
        )
        for attempt in retrying:
            with attempt:
                return self._once(method, path, options)
        raise UnreachableError

    def _once(self, method: str, path: str, options: dict[str, Any]) -> Answer:
        headers = {"Authorization": f"Bearer {self._token}", **options.pop("headers", {})}
        kept = dict(options)
        try:
            with (
                httpx.Client(timeout=TIMEOUT, follow_redirects=False, trust_env=False, verify=_trust()) as client,
                client.stream(method, self.address + path, headers=headers, **kept) as response,
            ):
                body = b""
                for chunk in response.iter_bytes():
                    body += chunk
                    if len(body) > MOST_BYTES:
                        raise NonsenseError("The answer is larger than 20 MB.")
                answer = Answer(response.status_code, body, response.headers)
        except httpx.TimeoutException as error:
            raise UnreachableError(f"No answer from {self.address} in time.") from error
        except httpx.HTTPError as error:
            raise UnreachableError(f"No connection to {self.address}: {type(error).__name__}.") from error
        finally:
            options["headers"] = {k: v for k, v in headers.items() if k != "Authorization"}
        _raise_for(answer)
        return answer


def _raise_for(answer: Answer) -> None:
    status = answer.status
    if status < 300:
        return
    if status < 400:
        raise AddressError("The address redirects elsewhere; give the final one.", status=status)
    said = _said(answer)
    if status == 401:
        raise AccessError(said or "The token was not accepted.", status=status)
    if status == 403:
        raise AccessError(said or "The token lacks the right for this.", status=status)
    if status == 429 or status >= 500:
        raise BusyError(said or f"The far end answered {status}.", status=status)
    raise RefusedByFarEndError(said or f"The far end answered {status}.", status=status)


def _said(answer: Answer) -> str:
    try:
        data = json.loads(answer.body)
    except ValueError:
        return ""
    return str(data.get("detail", ""))[:300] if isinstance(data, dict) else ""
