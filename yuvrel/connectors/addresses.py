"""Which addresses may be called: names are looked up once, checked, and what was checked is what is connected to."""

from __future__ import annotations

import ipaddress
import socket
import ssl
from collections.abc import Sequence
from functools import partial
from urllib.parse import unquote, urlsplit

import httpcore
import httpx

from .deadline import Backend, looked_up
from .errors import AddressError, UnreachableError

IP = ipaddress.IPv4Address | ipaddress.IPv6Address
# The special-purpose address registries that RFC 6890 began, with what later documents added to them; and addresses that
# reach several machines at once (RFC 5771, RFC 4291). Nothing in them is anybody's shop: they lie inside, lead into
# something else, or belong to a protocol or to documentation. From memory of the registries; add what they add.
SPECIAL = tuple(
    ipaddress.ip_network(text)
    for text in (
        "0.0.0.0/8",  # this host on this network, RFC 791
        "10.0.0.0/8",  # private, RFC 1918
        "100.64.0.0/10",  # shared by carriers, RFC 6598
        "127.0.0.0/8",  # loopback, RFC 1122
        "169.254.0.0/16",  # link-local, RFC 3927
        "172.16.0.0/12",  # private, RFC 1918
        "192.0.0.0/24",  # protocols, RFC 6890
        "192.0.2.0/24",  # documentation, RFC 5737
        "192.31.196.0/24",  # AS112, RFC 7535
        "192.52.193.0/24",  # AMT, RFC 7450
        "192.88.99.0/24",  # relays, RFC 7526
        "192.168.0.0/16",  # private, RFC 1918
        "192.175.48.0/24",  # AS112, RFC 7534
        "198.18.0.0/15",  # benchmarks, RFC 2544
        "198.51.100.0/24",  # documentation, RFC 5737
        "203.0.113.0/24",  # documentation, RFC 5737
        "224.0.0.0/4",  # multicast, RFC 5771
        "240.0.0.0/4",  # reserved, RFC 1112, and broadcast
        "::/96",  # unspecified, loopback, and IPv4 written inside, RFC 4291
        "64:ff9b::/96",  # translation, RFC 6052
        "64:ff9b:1::/48",  # translation, RFC 8215
        "100::/64",  # discard, RFC 6666
        "100:0:0:1::/64",  # dummy prefix, RFC 9780
        "2001::/23",  # protocols, RFC 2928; Teredo, ORCHID and others within
        "2001:db8::/32",  # documentation, RFC 3849
        "2002::/16",  # 6to4, RFC 3056
        "2620:4f:8000::/48",  # AS112, RFC 7534
        "3fff::/20",  # documentation, RFC 9637
        "5f00::/16",  # segment routing, RFC 9602
        "fc00::/7",  # unique local, RFC 4193
        "fe80::/10",  # link-local, RFC 4291
        "fec0::/10",  # site-local as it was, RFC 3879
        "ff00::/8",  # multicast, RFC 4291
    )
)
# All that is given out as global unicast so far, RFC 4291, 2.4.
GLOBAL_IPV6 = ipaddress.ip_network("2000::/3")
LONGEST_NAME, LONGEST_LABEL = 253, 63


def is_public(address: IP) -> bool:
    """Whether an address is one of the open internet, also when it is written inside another."""
    inner = getattr(address, "ipv4_mapped", None)
    if inner is not None:
        return is_public(inner)
    if any(address in network for network in SPECIAL if network.version == address.version):
        return False
    if address.version == 6 and address not in GLOBAL_IPV6:
        return False
    # What the language knows of these registries counts too: it may know something newer.
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
    if "#" in address or "?" in address:
        raise AddressError("Leave out what stands behind # or ? in the address.")
    if any(step in (".", "..") for step in unquote(unquote(parts.path)).split("/")):
        raise AddressError("Write the address without . and .. between its strokes.")
    if "@" in unquote(parts.netloc):
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
        found = looked_up(partial(socket.getaddrinfo, host, port, proto=socket.IPPROTO_TCP))
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
    Host header, and in the certificate that is asked for. Every step keeps to the deadline of the call as a whole."""

    def __init__(self, trust: ssl.SSLContext) -> None:
        super().__init__(verify=trust, trust_env=False)
        self._pool.close()
        self._pool = httpcore.ConnectionPool(
            ssl_context=trust, max_connections=100, max_keepalive_connections=20, keepalive_expiry=5.0, network_backend=Backend()
        )

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        """Look the name up, check it, connect to what was found."""
        host = request.url.raw_host.decode("ascii")
        port = request.url.port or (443 if request.url.scheme == "https" else 80)
        target = allowed(host.strip("[]"), port, bool(request.extensions.get("allow_private")))
        request.extensions = {**request.extensions, "sni_hostname": host}
        request.url = request.url.copy_with(host=str(target))
        return super().handle_request(request)
