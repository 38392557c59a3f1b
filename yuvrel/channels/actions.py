"""Connections: drafted, tested against the real account, set live, paused; their settings."""

from __future__ import annotations

import secrets
from contextlib import suppress
from datetime import date, datetime
from typing import Any

from django.conf import settings
from django.db import IntegrityError, transaction
from django.db.models import Q
from django.utils import timezone

from yuvrel.books.models import LedgerDocument
from yuvrel.catalogue.models import Category
from yuvrel.connectors.capabilities import Capability, Documents, Places, Publishing, TaxCodes, Webhooks
from yuvrel.connectors.deadline import A_PERSON, within
from yuvrel.connectors.http import AddressError, ConnectorError, check_address
from yuvrel.connectors.registry import KINDS
from yuvrel.core.bounds import check_happened
from yuvrel.core.errors import BadInputError, NotFoundError, RefusedError, StaleError
from yuvrel.core.rules import Level, Rung
from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.people.models import Location
from yuvrel.people.queries import start_of_day
from yuvrel.people.roles import Ability, Actor, audit
from yuvrel.pricing.models import PriceList
from yuvrel.rules.actions import change
from yuvrel.rules.models import SettingValue

from . import mapping
from .credentials import connector_for, keep_sign_in, kind_of, seal, secrets_of
from .models import Connection, Feed, GroupPrice, Listing, PriceOffer
from .places_there import NAME as PLACES_THERE
from .schedules import parts_of


def get_connection(connection_id: int) -> Connection:
    """The connection. Raises NotFoundError."""
    row = Connection.objects.filter(pk=connection_id).first()
    if row is None:
        raise NotFoundError("There is no such connection.")
    return row


@transaction.atomic
def add(actor: Actor, *, kind: str, name: str, address: str, sign_in: dict[str, str], copy_from: int | None = None) -> Connection:
    """A draft connection; nothing is called yet. Raises BadInputError naming what is wrong.

    `copy_from`: another connection of the kind, whose places, price list and rules it begins with; how that one signs
    in too, where it is the same address.
    """
    actor.need(Ability.CONNECT)
    if kind not in KINDS:
        raise BadInputError(f"Kind must be one of {', '.join(KINDS)}.", field="kind")
    if not name.strip():
        raise BadInputError("Give the connection a name.", field="name")
    _check_address(address)
    if Connection.objects.filter(name__iexact=name.strip()).exists():
        raise BadInputError(f"There is a connection called {name.strip()} already.", field="name")
    row = Connection(
        kind=kind,
        name=name.strip(),
        address=address.strip().rstrip("/"),
        hook_key=secrets.token_urlsafe(24),
        fulfils_from=Location.objects.first(),
    )
    other = _like(kind, copy_from) if copy_from else None
    known = {**other.account, **secrets_of(other)} if other and other.address == row.address else {}
    keep_sign_in(row, {**known, **{entry: text for entry, text in sign_in.items() if text.strip()}})
    row.save()
    row.feeds.set(other.feeds.all() if other else Location.objects.all()[:1])
    if Capability.DOCUMENTS in KINDS[kind].can:
        mapping.keep(row, mapping.usual())
    if other:
        _copy_rules(actor, other, row)
    after = {"kind": kind, "name": row.name, **({"like": other.name} if other else {})}
    audit(actor, "add connection", "connection", row.pk, after=after)
    return row


def _like(kind: str, connection_id: int) -> Connection:
    other = Connection.objects.filter(pk=connection_id, kind=kind).first()
    if other is None:
        raise BadInputError("There is no such connection of this kind to copy from.", field="copy_from")
    return other


# What of a connection is its own, and would be wrong at another.
OWN_RULES = ("order_prefix", PLACES_THERE)


def _copy_rules(actor: Actor, other: Connection, row: Connection) -> None:
    """Give a connection the places, the list and the rules of another, those of categories on it too."""
    row.fulfils_from, row.their_place, row.price_list = other.fulfils_from, other.their_place, other.price_list
    row.save()
    own = Q(level=Level.CONNECTION.value, subject=other.pk) | Q(level=Level.CATEGORY_ON_CONNECTION.value, within=other.pk)
    values: dict[tuple[str, int], dict[str, Any]] = {}
    for value in SettingValue.objects.filter(own).exclude(name__in=OWN_RULES):
        values.setdefault((value.level, value.subject), {})[value.name] = value.value
    for (level, subject), changes in values.items():
        if level == Level.CONNECTION.value:
            rung = Rung(Level.CONNECTION, row.name, row.pk)
        else:
            name = Category.objects.get(pk=subject).name
            rung = Rung(Level.CATEGORY_ON_CONNECTION, f"{name} on {row.name}", subject, row.pk)
        change(actor, rung, changes, timezone.now())


def _check_address(address: str) -> None:
    try:
        check_address(address.strip(), settings.ALLOW_PRIVATE_ADDRESSES)
    except AddressError as error:
        raise BadInputError(str(error), field="address") from error
    except ConnectorError as error:
        raise BadInputError(str(error), field="address") from error


def _asked(row: Connection, report: dict[str, Any]) -> list[dict[str, Any]] | None:
    """Ask an account who it is and what belongs to its set-up, into the report. Returns its categories, if it has any."""
    connector = connector_for(row, attempts=1)
    identity = connector.identify()
    report |= {"name": identity.name, "scopes": identity.scopes, "missing": identity.missing, "ok": not identity.missing}
    if identity.missing:
        report["fault"] = f"The token lacks {', '.join(identity.missing)}. Ask the account for it."
        return None
    if isinstance(connector, Documents):
        report["accounts"] = connector.accounts()
    if isinstance(connector, TaxCodes):
        report["tax_codes"] = [(one.code, str(one.percent), one.title) for one in connector.tax_codes()]
    if isinstance(connector, Places):
        report["places"] = [(one.key, one.title) for one in connector.places()]
    return [one.model_dump() for one in connector.categories()] if isinstance(connector, Publishing) else None


def test(actor: Actor, connection_id: int, at: datetime) -> Connection:
    """Talk to the account as this connection and keep what it said. Failing is an answer, not an error."""
    actor.need(Ability.CONNECT)
    row = get_connection(connection_id)
    if row.state == Connection.State.DISCONNECTED:
        raise RefusedError("It was disconnected: enter how to sign in first.", field="sign_in")
    categories: list[dict[str, Any]] | None = None
    report: dict[str, Any] = {"ok": False, "scopes": [], "missing": [], "name": "", "fault": ""}
    try:
        with within(A_PERSON):
            categories = _asked(row, report)
    except ConnectorError as error:
        report["ok"], report["fault"] = False, str(error)
    with transaction.atomic():
        row = Connection.objects.select_for_update().get(pk=connection_id)
        row.test_report, row.tested_at = report, at
        if categories is not None:
            row.categories = categories
        if row.state in (Connection.State.DRAFT, Connection.State.TESTED):
            row.state = Connection.State.TESTED if report["ok"] else Connection.State.DRAFT
        row.save()
        audit(actor, "test connection", "connection", row.pk, after={"ok": report["ok"], "fault": report["fault"]})
    return row


@transaction.atomic
def change_settings(actor: Actor, connection_id: int, version: int, changes: dict[str, Any]) -> Connection:
    """Change rules; every linked listing's offer is worked out anew.

    Raises StaleError on an old version, BadInputError naming the setting that cannot be.
    """
    actor.need(Ability.CONNECT)
    row = Connection.objects.select_for_update().filter(pk=connection_id).first()
    if row is None:
        raise NotFoundError("There is no such connection.")
    if row.version != version:
        raise StaleError
    before = {"name": row.name} if "name" in changes else {}
    check_settings(row, changes)
    row.name = changes.get("name", row.name)
    if "accounts" in changes:
        before["accounts"] = str(mapping.mapping_of(row))
        mapping.keep(row, changes["accounts"])
    if "fulfils_from" in changes:
        row.fulfils_from = Location.objects.get(pk=changes["fulfils_from"])
    if "their_place" in changes:
        row.their_place = Location.objects.filter(pk=changes["their_place"]).first()
    if "feeds" in changes:
        row.feeds.set(changes["feeds"])
    if "price_list" in changes:
        before["price_list"] = row.price_list.name if row.price_list else "none of its own"
        row.price_list = PriceList.objects.filter(pk=changes["price_list"]).first()
        changes = {**changes, "price_list": row.price_list.name if row.price_list else "none of its own"}
    _set_account(row, changes)
    row.version += 1
    try:
        with transaction.atomic():
            row.save()
    except IntegrityError as error:
        raise BadInputError("There is a connection of that name already.", field="name") from error
    record(Event.Kind.RULES, [row.pk], f"rules of {row.name}")
    audit(actor, "change connection", "connection", row.pk, before, {k: str(changes.get(k)) for k in before})
    return row


def _set_account(row: Connection, changes: dict[str, Any]) -> None:
    """A new address or another way in: the last test is no longer valid."""
    address = str(changes.get("address") or row.address).strip().rstrip("/")
    given = {name: value for name, value in (changes.get("sign_in") or {}).items() if value != row.account.get(name, "")}
    if address == row.address and not given:
        return
    if address != row.address:
        if row.state == Connection.State.LIVE:
            raise RefusedError("Pause it before you change its address.", field="address")
        _check_address(address)
        for entry in kind_of(row).sign_in.entries:
            if entry.secret and not given.get(entry.name):
                detail = f"Enter the {entry.label.lower()} of the new address; the old one is not sent to another host."
                raise BadInputError(detail, field=f"sign_in.{entry.name}")
    for entry in kind_of(row).sign_in.entries:
        if entry.fixed and given.get(entry.name) and row.has_history():
            detail = f"Its {entry.label.lower()} stays what it is: its history belongs to it. Add another connection."
            raise RefusedError(detail, field=f"sign_in.{entry.name}")
    keep_sign_in(row, given)
    row.address, row.state, row.tested_at, row.test_report = address, Connection.State.DRAFT, None, {}


@transaction.atomic
def remove(actor: Actor, connection_id: int) -> None:
    """Take a connection away that never exchanged anything. Raises RefusedError for any other: pause that."""
    actor.need(Ability.CONNECT)
    row = Connection.objects.select_for_update().filter(pk=connection_id).first()
    if row is None:
        raise NotFoundError("There is no such connection.")
    if row.has_history():
        raise RefusedError("It has a history here that stays. Disconnect it instead.", field="state")
    audit(actor, "remove connection", "connection", row.pk, before={"kind": row.kind, "name": row.name})
    SettingValue.objects.filter(Q(level=Level.CONNECTION.value, subject=row.pk) | Q(within=row.pk)).delete()
    row.delete()


def check_settings(row: Connection, changes: dict[str, Any]) -> None:
    """Raises BadInputError naming the setting that cannot be."""
    known = set(Location.objects.filter(for_sale=True).values_list("pk", flat=True))
    for name in ("feeds", "fulfils_from", "their_place"):
        given = changes.get(name) or []
        if not set(given if isinstance(given, list) else [given]) <= known:
            raise BadInputError("There is no such location that anything is sold from.", field=name)
    if changes.get("price_list") and not PriceList.objects.filter(pk=changes["price_list"]).exists():
        raise BadInputError("There is no such price list.", field="price_list")
    if "name" in changes and not str(changes["name"]).strip():
        raise BadInputError("Give the connection a name.", field="name")


def go_live(actor: Actor, connection_id: int, at: datetime, orders_from: date | None = None) -> Connection:
    """A tested connection starts to exchange. Asks for webhooks where the kind has them, and for a message that proves
    them. `orders_from`: open orders that changed since that day are taken in as well; without it, those from now on.
    Raises BadInputError for a connection that was live before: its orders are read again from a moment instead.
    """
    actor.need(Ability.CONNECT)
    row = get_connection(connection_id)
    if row.state not in (Connection.State.TESTED, Connection.State.PAUSED):
        raise RefusedError(f"A connection that is {row.state} cannot go live; test it first.", field="state")
    begin = at if orders_from is None else start_of_day(orders_from)
    check_happened(begin, "orders_from", at)
    if orders_from is not None and row.live_since is not None:
        raise BadInputError("It has been live before: read its orders again from a moment on instead.", field="orders_from")
    connector = connector_for(row)
    if isinstance(connector, Documents):
        mapping.check(row)
    secret = ""
    if isinstance(connector, Webhooks):
        try:
            secret = connector.register_webhook(f"{settings.PUBLIC_ADDRESS}/hooks/{row.hook_key}")
        except ConnectorError as error:
            raise RefusedError(f"The account would not take our webhook: {error}", field="address") from error
    with transaction.atomic():
        row = Connection.objects.select_for_update().get(pk=connection_id)
        row.state = Connection.State.LIVE
        row.live_since = row.live_since or at
        row.faults, row.pause_until, row.hook_proved_at = 0, None, None
        if secret:
            row.webhook_secret_sealed = seal(secret)
        row.save()
        if Capability.ORDERS in connector.can:
            Feed.objects.get_or_create(connection=row, part="orders", defaults={"watermark": begin.isoformat()})
        _start_flow(row)
        audit(actor, "go live", "connection", row.pk)
    if isinstance(connector, Webhooks):
        # A round trip: until it has come back, the page says so. A connection is live without it, by its schedule.
        with suppress(ConnectorError):
            connector.send_test()
    return row


def hook_proved(row: Connection, at: datetime) -> None:
    """A test message came through a connection's webhook."""
    Connection.objects.filter(pk=row.pk).update(hook_proved_at=at)


def _start_flow(row: Connection) -> None:
    """What waited for this connection goes out now."""
    kind = kind_of(row)
    if Capability.QUANTITIES in kind.can:
        # What the channel showed while it was paused is not known: every offer is sent anew.
        Listing.objects.filter(connection=row, offer_state=Listing.Offer.AGREED).update(offer_state=Listing.Offer.PENDING)
        for table in (PriceOffer, GroupPrice):
            shown = table.objects.filter(listing__connection=row, state=PriceOffer.State.AGREED)
            shown.update(state=PriceOffer.State.PENDING)
        record(Event.Kind.RULES, [row.pk], f"{row.name} went live")
    if Capability.DOCUMENTS in kind.can:
        told = (LedgerDocument.State.SENT, LedgerDocument.State.GATHERED)
        waiting = LedgerDocument.objects.exclude(state__in=told).values_list("pk", flat=True)
        record(Event.Kind.LEDGER, waiting, f"{row.name} went live")


def end_pause(row: Connection) -> None:
    """Somebody wants it tried now, whatever the pauses after its faults say."""
    Connection.objects.filter(pk=row.pk).update(pause_until=None)


@transaction.atomic
def ask_now(actor: Actor, connection_id: int, part: str = "", since: datetime | None = None) -> Connection:
    """Have a live connection asked for news at once, for one part or for all; the caller wakes the job.

    `since`: orders are read again from that moment on; what is here already is recognised. Raises RefusedError and
    BadInputError.
    """
    actor.need(Ability.RESOLVE)
    row = get_connection(connection_id)
    if row.state != Connection.State.LIVE:
        raise RefusedError(f"A connection that is {row.state} exchanges nothing.", field="state")
    if part and part not in {one.name for one in parts_of(row)}:
        raise BadInputError("That is nothing this connection can be asked for.", field="part")
    if since is not None:
        if part != "orders":
            raise BadInputError("Only orders can be read from a moment on.", field="since")
        check_happened(since, "since", timezone.now())
        Feed.objects.filter(connection=row, part="orders").update(watermark=since.isoformat(), resume={})
        audit(actor, "read orders again", "connection", row.pk, after={"since": since.isoformat()})
    end_pause(row)
    return row


@transaction.atomic
def pause(actor: Actor, connection_id: int) -> Connection:
    """Nothing goes out or comes in until it is live again; nothing is forgotten."""
    actor.need(Ability.CONNECT)
    row = Connection.objects.select_for_update().get(pk=get_connection(connection_id).pk)
    if row.state != Connection.State.LIVE:
        raise RefusedError(f"A connection that is {row.state} cannot be paused.", field="state")
    row.state = Connection.State.PAUSED
    row.save()
    audit(actor, "pause", "connection", row.pk)
    return row
