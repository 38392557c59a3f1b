"""Who may try to sign in, and how often: a try counts before its password is looked at, so that none slip through beside
one another; by the name, by where it comes from, and by both."""

from __future__ import annotations

import ipaddress
from collections.abc import Sequence
from datetime import datetime, timedelta

from django.conf import settings
from django.db import connection, transaction
from django.http import HttpRequest

from yuvrel.core.errors import YuvrelError

from .models import SignInTry

WITHIN = timedelta(minutes=15)
# Of one name from one address; from one address with whatever names; of one name from wherever, which leaves a person
# whom somebody wants to shut out the address the person works at (OWASP ASVS 4.0.3, 2.2.1: at most 100 in an hour).
MOST_OF_BOTH, MOST_FROM, MOST_OF_NAME = 8, 30, 25
KEPT = timedelta(days=2)


class TooManyTriesError(YuvrelError):
    """Too many tries. Wait a quarter of an hour, then try again."""

    status = 429


def address_of(request: HttpRequest) -> str:
    """Where a request comes from: the nearest address that is no proxy of ours. A proxy is believed only where it is named
    in YUVREL_TRUSTED_PROXIES; what stands before one that is not could have been written by anybody."""
    found = str(request.META.get("REMOTE_ADDR") or "")
    hops = [hop.strip() for hop in request.headers.get("X-Forwarded-For", "").split(",") if hop.strip()]
    while hops and _is_ours(found, settings.TRUSTED_PROXIES):
        found = hops.pop()
    return found[:45]


def _is_ours(text: str, proxies: Sequence[ipaddress.IPv4Network | ipaddress.IPv6Network]) -> bool:
    try:
        address = ipaddress.ip_address(text)
    except ValueError:
        return False
    return any(address in network for network in proxies if network.version == address.version)


@transaction.atomic
def knock(name: str, address: str, at: datetime) -> SignInTry:
    """Count a try, before it is known how it goes. Raises TooManyTriesError; what is refused is not counted again."""
    key = name.strip().casefold()[:150]
    with connection.cursor() as cursor:
        # Tries of one name, and those from one address, take turns.
        for lock in sorted((f"name {key}", f"from {address}")):
            cursor.execute("SELECT pg_advisory_xact_lock(hashtextextended(%s, 7))", [f"sign in {lock}"])
    failed = SignInTry.objects.filter(at__gt=at - WITHIN, passed=False)
    if failed.filter(name=key, address=address).count() >= MOST_OF_BOTH or failed.filter(address=address).count() >= MOST_FROM:
        raise TooManyTriesError(field="password")
    if failed.filter(name=key).count() >= MOST_OF_NAME and not _knows(key, address):
        raise TooManyTriesError(field="password")
    SignInTry.objects.filter(at__lt=at - KEPT).delete()
    return SignInTry.objects.create(name=key, address=address, at=at)


def _knows(name: str, address: str) -> bool:
    """Whether somebody of that name has come in from there of late."""
    return SignInTry.objects.filter(name=name, address=address, passed=True).exists()


def passed(knocked: SignInTry) -> None:
    """It was the right password: what went wrong before from there under that name is forgiven."""
    SignInTry.objects.filter(pk=knocked.pk).update(passed=True)
    SignInTry.objects.filter(name=knocked.name, address=knocked.address, passed=False).delete()
