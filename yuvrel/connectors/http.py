"""All outgoing HTTP: checked addresses, timeouts, no redirects, capped retries, faults by name."""

from __future__ import annotations

import json
import re
import ssl
import threading
import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextvars import ContextVar, copy_context
from dataclasses import dataclass
from functools import lru_cache
from http.cookiejar import DefaultCookiePolicy
from typing import Any

import httpx
from tenacity import RetryCallState, Retrying, retry_if_exception, wait_random_exponential
from tenacity.wait import wait_base

from yuvrel.core import bounds

from .addresses import CheckedTransport, check_address
from .deadline import ONE_CALL, left, within
from .errors import (
    AccessError,
    AddressError,
    BusyError,
    ConnectorError,
    HeldError,
    NonsenseError,
    RefusedThereError,
    UnreachableError,
)

__all__ = [
    "AccessError",
    "AddressError",
    "BusyError",
    "Caller",
    "ConnectorError",
    "NonsenseError",
    "RefusedThereError",
    "UnreachableError",
    "check_address",
    "read_json",
    "storable",
]

TIMEOUT = httpx.Timeout(10.0, connect=4.0)
MOST_BYTES = 20_000_000
MOST_WAIT = 10.0
IN_FLIGHT = 4


@dataclass(frozen=True)
class Record:
    """One call as it went, without what it signed in with: texts as they were sent and answered, None without an answer."""

    method: str
    path: str
    sent: str
    status: int | None
    received: bytes
    milliseconds: int
    fault: str


# Who wants to know of every call that is made from here on.
listener: ContextVar[Callable[[Record], None] | None] = ContextVar("listener", default=None)


class _Obstacle:
    """Why nothing may be sent just now, if so; whoever knows says it."""

    why: Callable[[], str] = staticmethod(lambda: "")


obstacle = _Obstacle()


@dataclass(frozen=True)
class Answer:
    """Status and body of an answer."""

    status: int
    body: bytes
    headers: httpx.Headers


# What stands in place of a part that is nested beyond measure.
TOO_DEEP = "… nested too deeply …"


def read_json(body: bytes) -> Any:
    """Data from JSON (RFC 8259). Numbers with a fraction or an exponent, and those longer than any count, stay the
    texts they are: nothing is rounded, and nothing becomes infinite. A part that is nested deeper than bounds.DEPTH
    is replaced by TOO_DEEP, which no field takes.

    Raises ValueError for what is not JSON: NaN and Infinity are not.
    """

    def refuse(name: str) -> None:
        raise ValueError(f"{name} is not JSON")

    def whole(text: str) -> int | str:
        return int(text) if len(text) < 30 else text

    text = body.decode("utf-8", "replace")
    if bounds.is_deep(text):
        text = _without_depths(text)
    return json.loads(text, parse_constant=refuse, parse_float=str, parse_int=whole)


def read_file(body: bytes) -> bytes:
    """A file as it is. Raises ValueError for what is a page or a message in its place, or nothing."""
    if body.lstrip()[:1] in (b"", b"<", b"{"):
        raise ValueError("no file")
    return body


def _without_depths(text: str) -> str:
    """The text with every part nested deeper than bounds.DEPTH cut out."""
    kept: list[str] = []
    at = depth = begun = 0
    for token in bounds.JSON_TOKEN.finditer(text):
        mark = token[0]
        if mark in "[{":
            depth += 1
            if depth == bounds.DEPTH + 1:
                kept += [text[at : token.start()], json.dumps(TOO_DEEP)]
                begun = depth
        elif mark in "]}":
            if begun and depth == begun:
                at, begun = token.end(), 0
            depth -= 1
    return text if not kept else "".join(kept) + ("" if begun else text[at:])


def storable(value: Any) -> Any:
    """Data as the database can hold it, for keeping what cannot be read: U+0000 and halves of surrogate pairs, which
    no text can hold, as the escapes that JSON writes for them."""
    if isinstance(value, str):
        return _UNSTORABLE.sub(lambda found: f"\\u{ord(found[0]):04x}", value)
    if isinstance(value, list):
        return [storable(entry) for entry in value]
    if isinstance(value, dict):
        return {storable(key): storable(entry) for key, entry in value.items()}
    return value


_UNSTORABLE = re.compile("[\x00\ud800-\udfff]")


@lru_cache(maxsize=1)
def _trust() -> ssl.SSLContext:
    """Loading the certificates takes longer than most calls; once is enough."""
    return ssl.create_default_context()


@lru_cache(maxsize=256)
def _client(origin: str) -> httpx.Client:
    """One client for each origin and process: connections are kept open between calls and never shared between two
    names that lie at one address; cookies are not kept at all."""
    client = httpx.Client(timeout=TIMEOUT, follow_redirects=False, trust_env=False, transport=CheckedTransport(_trust()))
    client.cookies.jar.set_policy(DefaultCookiePolicy(allowed_domains=[]))
    return client


class Pace:
    """Keeps to a number of calls a second, shared by all who call one address in this process."""

    def __init__(self) -> None:
        self._guard = threading.Lock()
        self._next: dict[str, float] = {}

    def wait(self, address: str, per_second: float) -> None:
        """Return when the next call may go out."""
        with self._guard:
            now = time.monotonic()
            turn = max(now, self._next.get(address, 0.0))
            self._next[address] = turn + 1 / per_second
        time.sleep(turn - now)


_pace = Pace()


class _Patience(wait_base):
    """As long as the account asks, else growing pauses with chance in them."""

    def __call__(self, retry_state: RetryCallState) -> float:
        error = retry_state.outcome.exception() if retry_state.outcome else None
        asked = error.wait if isinstance(error, ConnectorError) else 0.0
        return max(asked, wait_random_exponential(multiplier=0.2, max=3)(retry_state))


def _worth_another(error: BaseException) -> bool:
    """A passing fault; but who asks for a long wait is left alone until the next run."""
    return isinstance(error, ConnectorError) and error.passing and error.wait <= MOST_WAIT


class Caller:
    """Calls one account, signed in, not more often than it allows."""

    def __init__(
        self, address: str, auth: httpx.Auth, *, allow_private: bool, attempts: int = 3, per_second: float = 20.0
    ) -> None:
        self.address = address.rstrip("/")
        self._origin = "/".join(self.address.split("/", 3)[:3])
        self._auth = auth
        self._allow_private = allow_private
        self._attempts = attempts
        self._per_second = per_second

    def fetch(self, path: str) -> bytes:
        """What lies there as it is, a picture for one; waits and tries again as `call` does. Raises ConnectorError."""
        return bytes(self.call("GET", path, reader=read_file))

    def call(
        self,
        method: str,
        path: str,
        *,
        headers: dict[str, str] | None = None,
        reader: Callable[[bytes], Any] = read_json,
        **options: Any,
    ) -> Any:
        """The data of one exchange; waits and tries again while the fault is a passing one.

        An answer that is not JSON is such a fault too: a page in front of the account, gone the next moment.

        Every call is safe to repeat: reads, absolute quantities, or POSTs carrying a key.
        Raises ConnectorError.
        """
        with within(ONE_CALL):
            check_address(self.address, self._allow_private)
            retrying = Retrying(stop=self._enough, wait=_Patience(), retry=retry_if_exception(_worth_another), reraise=True)
            return retrying(self._once, method, path, {**options, "headers": headers or {}}, reader)

    def _enough(self, state: RetryCallState) -> bool:
        """So many tries, or no time left for another."""
        return state.attempt_number >= self._attempts or state.upcoming_sleep >= left()

    def read_many(self, path: str, params: Sequence[dict[str, Any]]) -> list[Any]:
        """The data of many reads of one path, in their order, a few of them in flight at a time.

        One after the other, an account that answers in 200 ms would be asked five times a second, whatever it
        allows. Raises ConnectorError for the first that fails; those not yet begun are not begun then.
        """
        if len(params) < 2:
            return [self.call("GET", path, params=one) for one in params]
        with ThreadPoolExecutor(IN_FLIGHT) as pool:
            jobs = [pool.submit(copy_context().run, self.call, "GET", path, params=one) for one in params]
            try:
                return [job.result() for job in jobs]
            except BaseException:
                pool.shutdown(wait=False, cancel_futures=True)
                raise

    def _once(self, method: str, path: str, options: dict[str, Any], reader: Callable[[bytes], Any]) -> Any:
        # Everything but a question changes something there.
        why = "" if method == "GET" else obstacle.why()
        if why:
            raise HeldError(why)
        _pace.wait(self.address, self._per_second)
        begun, answer, fault = time.monotonic(), None, ""
        try:
            answer = self._send(method, path, options)
            _raise_for(answer)
            return reader(answer.body)
        except ConnectorError as error:
            fault = str(error)
            raise
        except ValueError as error:
            fault = "The answer is not JSON." if reader is read_json else "The answer is no file."
            raise NonsenseError(fault, status=answer.status if answer else 0) from error
        finally:
            hear = listener.get()
            if hear is not None:
                took = int((time.monotonic() - begun) * 1000)
                status, body = (answer.status, answer.body) if answer else (None, b"")
                if reader is read_file and not fault:
                    body = f"{len(body):,} bytes".encode()
                hear(Record(method, _asked(path, options), _sent(options), status, body, took, fault))

    def _send(self, method: str, path: str, options: dict[str, Any]) -> Answer:
        try:
            allow = {"allow_private": self._allow_private}
            with _client(self._origin).stream(
                method, self.address + path, extensions=allow, auth=self._auth, **options
            ) as response:
                body = bytearray()
                for chunk in response.iter_bytes():
                    body += chunk
                    if len(body) > MOST_BYTES:
                        raise NonsenseError("The answer is larger than 20 MB.")
                return Answer(response.status_code, bytes(body), response.headers)
        except httpx.TimeoutException as error:
            raise UnreachableError(f"No answer from {self.address} in time.") from error
        except httpx.ConnectError as error:
            raise UnreachableError(f"No connection to {self.address}.") from error
        except httpx.HTTPError as error:
            raise UnreachableError(f"The connection to {self.address} broke off: {type(error).__name__}.") from error


def _asked(path: str, options: dict[str, Any]) -> str:
    return f"{path}?{httpx.QueryParams(options['params'])}" if options.get("params") else path


def _sent(options: dict[str, Any]) -> str:
    if options.get("json") is not None:
        return json.dumps(options["json"], ensure_ascii=False)
    content = options.get("content") or b""
    return content.decode("utf-8", "replace") if isinstance(content, bytes) else str(content)


def _raise_for(answer: Answer) -> None:
    status = answer.status
    if status < 300:
        return
    if status < 400:
        raise AddressError("The address redirects; enter the final address.", status=status)
    said = _said(answer)
    if status == 401:
        raise AccessError(said or "The token was not accepted.", status=status)
    if status == 403:
        raise AccessError(said or "The token lacks the right for this.", status=status)
    if status == 429 or status >= 500:
        raise BusyError(said or f"The account answered {status}.", status=status, wait=_asked_wait(answer))
    raise RefusedThereError(said or f"The account answered {status}.", status=status)


def _asked_wait(answer: Answer) -> float:
    """Seconds of a Retry-After header (RFC 9110, 10.2.3); 0 without one or when it is a date."""
    text = answer.headers.get("Retry-After", "")
    return float(text) if text.isdigit() else 0.0


def _said(answer: Answer) -> str:
    try:
        data = json.loads(answer.body)
    except ValueError:
        return ""
    return str(data.get("detail", ""))[:300] if isinstance(data, dict) else ""
