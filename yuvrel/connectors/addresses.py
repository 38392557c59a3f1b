"""Which addresses may be called: names are looked up once, checked, and what was checked is what is connected to."""

from __future__ import annotations

import ipaddress
import socket
from collections.abc import Sequence
from urllib.parse import urlsplit

import httpx

from .errors import AddressError, UnreachableError

IP = ipaddress.IPv4Address | ipaddress.IPv6Address
# Public by their numbers, yet a way into something else (IANA special-purpose address registries, RFC 6890):
# translation between IPv4 and IPv6, relays to it, and addresses that a protocol keeps for itself.
NOT_PUBLIC = [
    ipaddress.ip_network(text)
    for text in ("64:ff9b::/96", "64:ff9b:1::/48", "2002::/16", "2001::/23", "192.0.0.0/24", "192.88.99.0/24", "100::/64")
]
LONGEST_NAME, LONGEST_LABEL = 253, 63


def is_public(address: IP) -> bool:
    """Whether an address is one of the open internet, also when it is written inside another."""
    inner = getattr(address, "ipv4_mapped", None)
    if inner is not None:
        return is_public(inner)
    if any(address in network for network in NOT_PUBLIC if network.version == address.version):
        return False
    return address.is_global and not address.is_multicast and not address.is_reserved


def split(address: str) -> tuple[str, str, int]:
    """(scheme, host, port) of a web address. Raises AddressError for anything that is none."""
    wrong = AddressError("That is not a web address like https://shop.example.")
    if any(ord(character) < 33 or character == "\\" for character in address):
        raise wrong
    try:
        parts = urlsplit(address)
        host, port = parts.hostname or "", parts.port
        httpx.URL(address)
    except (ValueError, UnicodeError, httpx.InvalidURL) as error:
        raise wrong from error
    if parts.scheme not in ("http", "https") or not host or port == 0:
        raise wrong
    if "@" in parts.netloc:
        raise AddressError("Remove the user name and password from the address; the token is stored separately.")
    try:
        host = host if ":" in host else host.encode("idna").decode()
    except UnicodeError as error:
        raise wrong from error
    if len(host) > LONGEST_NAME or any(not 0 < len(label) <= LONGEST_LABEL for label in host.rstrip(".").split(".")):
        raise wrong
    return parts.scheme, host, port or (443 if parts.scheme == "https" else 80)


def look_up(host: str, port: int) -> list[IP]:
    """The addresses of a name. Raises UnreachableError when it has none."""
    try:
        found = socket.getaddrinfo(host, port, proto=socket.IPPROTO_TCP)
    except (OSError, UnicodeError) as error:
        raise UnreachableError(f"The name {host} is not known.") from error
    return [ipaddress.ip_address(str(target[0]).partition("%")[0]) for *_, target in found]


def allowed(host: str, port: int, allow_private: bool) -> IP:
    """The address to connect to. Raises AddressError where any address of the name lies inside, UnreachableError
    where it has none."""
    found: Sequence[IP] = look_up(host, port)
    if not allow_private:
        for address in found:
            if not is_public(address):
                raise AddressError(f"{host} is a private address and cannot be used.")
    if not found:
        raise UnreachableError(f"The name {host} is not known.")
    return found[0]


def check_address(address: str, allow_private: bool) -> None:
    """Raises AddressError unless `address` is http(s) and points outside private ranges.

    With `allow_private` loopback and private ranges pass (the demo's stand-ins live there).
    """
    scheme, host, port = split(address)
    if allow_private:
        return
    if scheme == "http":
        raise AddressError("Use https: a token must not travel in the clear.")
    allowed(host, port, allow_private)


class CheckedTransport(httpx.HTTPTransport):
    """Connects to the very address that was checked, whatever the name says a moment later. The name stays in the
    Host header, and in the certificate that is asked for."""

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        """Look the name up, check it, connect to what was found."""
        host = request.url.raw_host.decode("ascii")
        port = request.url.port or (443 if request.url.scheme == "https" else 80)
        target = allowed(host.strip("[]"), port, bool(request.extensions.get("allow_private")))
        request.extensions = {**request.extensions, "sni_hostname": host}
        request.url = request.url.copy_with(host=str(target))
        return super().handle_request(request)
