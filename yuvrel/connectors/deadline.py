"""A deadline for a call as a whole: a far end that sends a byte now and then, which no time-out between two bytes ever
notices, is broken off by it like any other."""

from __future__ import annotations

import ssl
import time
from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from concurrent.futures import TimeoutError as LateError
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Any

import httpcore

# When what is called for now must be over, by the clock that never goes back.
_until: ContextVar[float | None] = ContextVar("until", default=None)
# Seconds for one call with all its tries, and for all calls together that a person waits for.
ONE_CALL, A_PERSON = 60.0, 20.0
_names = ThreadPoolExecutor(8, thread_name_prefix="names")


@contextmanager
def within(seconds: float) -> Iterator[None]:
    """All calls made inside are over after so many seconds, or at the deadline around it where that is earlier."""
    around, mine = _until.get(), time.monotonic() + seconds
    token = _until.set(mine if around is None else min(around, mine))
    try:
        yield
    finally:
        _until.reset(token)


def left() -> float:
    """Seconds until the deadline; never below zero."""
    until = _until.get()
    return float("inf") if until is None else max(0.0, until - time.monotonic())


def looked_up(look: Any, *given: Any) -> Any:
    """What a look-up of a name gives, within the deadline: the system's own waits as long as its servers keep silent.

    Raises TimeoutError.
    """
    rest = left()
    if rest == float("inf"):
        return look(*given)
    try:
        return _names.submit(look, *given).result(rest)
    except LateError as error:
        raise TimeoutError from error


def _at_most(timeout: float | None, late: type[Exception]) -> float | None:
    rest = left()
    if rest <= 0:
        raise late("the deadline has passed")
    return timeout if rest == float("inf") else rest if timeout is None else min(timeout, rest)


class _Stream(httpcore.NetworkStream):
    """A connection whose every step keeps to what is left."""

    def __init__(self, inner: httpcore.NetworkStream) -> None:
        self._inner = inner

    def read(self, max_bytes: int, timeout: float | None = None) -> bytes:
        """Bytes as they come."""
        return self._inner.read(max_bytes, _at_most(timeout, httpcore.ReadTimeout))

    def write(self, buffer: bytes, timeout: float | None = None) -> None:
        """Bytes as they are taken."""
        self._inner.write(buffer, _at_most(timeout, httpcore.WriteTimeout))

    def close(self) -> None:
        """Close it."""
        self._inner.close()

    def start_tls(
        self, ssl_context: ssl.SSLContext, server_hostname: str | None = None, timeout: float | None = None
    ) -> httpcore.NetworkStream:
        """The same, encrypted."""
        rest = _at_most(timeout, httpcore.ConnectTimeout)
        return _Stream(self._inner.start_tls(ssl_context, server_hostname, rest))

    def get_extra_info(self, info: str) -> Any:
        """What lies below."""
        return self._inner.get_extra_info(info)


class Backend(httpcore.SyncBackend):
    """The library's own, whose connections keep to the deadline."""

    def connect_tcp(
        self,
        host: str,
        port: int,
        timeout: float | None = None,
        local_address: str | None = None,
        socket_options: Iterable[Any] | None = None,
    ) -> httpcore.NetworkStream:
        """A connection."""
        rest = _at_most(timeout, httpcore.ConnectTimeout)
        return _Stream(super().connect_tcp(host, port, rest, local_address, socket_options))
