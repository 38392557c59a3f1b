"""Checking the books against each other, and keeping what does not agree."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass
from datetime import datetime, timedelta
from decimal import Decimal
from typing import Any, NamedTuple, cast

from django.db import transaction
from django.db.models import F, Q, QuerySet, Sum
from django.db.models.functions import Coalesce
from django.utils import timezone

from yuvrel.books.actions import NOTHING
from yuvrel.books.models import JournalEntry, JournalLine, LedgerDocument
from yuvrel.catalogue.models import Item
from yuvrel.channels import inbound, offers, price_intake, prices
from yuvrel.channels.credentials import connector_as, kind_of
from yuvrel.channels.jobs import relay_now
from yuvrel.channels.mapping import mapping_of
from yuvrel.channels.models import Connection, InboundMessage, Listing, PriceOffer
from yuvrel.channels.runs import raise_snag, run_of, settle_snags
from yuvrel.channels.sql import Read, judge, note_shown
from yuvrel.connectors.base import pages
from yuvrel.connectors.capabilities import Capability, Documents, Orders, Quantities
from yuvrel.connectors.http import ConnectorError
from yuvrel.connectors.messages import RemoteOrder, RemotePrice, RemoteQuantity
from yuvrel.core.agreement import Code, Comparison, compare, compare_text
from yuvrel.core.errors import NotFoundError, RefusedError
from yuvrel.core.money import ZERO
from yuvrel.core.postings import Role, their_account
from yuvrel.core.working import plain
from yuvrel.events.actions import wake
from yuvrel.people.models import Location
from yuvrel.people.roles import Ability, Actor
from yuvrel.sales.models import Reservation, SalesOrder
from yuvrel.sales.rules import order_rules
from yuvrel.stock.models import DocumentReservation, ItemCost, LotBalance, StockBalance, StockMove

from . import order_checks
from .keeping import Finding, keep
from .models import Drift
from .price_checks import OF_GROUP, can_take, check_prices

IN_MOTION = (Listing.Offer.PENDING, Listing.Offer.HELD)
GRACE = timedelta(seconds=20)
LOOK_BACK = timedelta(days=30)
# So many listings are asked for by their ids; of more, all of the connection are read.
FEW = 500


def check_all() -> int:
    """Check everything, one after the other; returns how many drifts stand."""
    check_own()
    for connection in live_connections():
        check_connection(connection)
    return Drift.objects.filter(healed_at=None).count()


def ask_check(actor: Actor) -> None:
    """Have everything checked now, in the background: accounts answer in their own time."""
    actor.need(Ability.RESOLVE)
    wake("agreement.check", "agreement.check")


def live_connections() -> QuerySet[Connection]:
    """Those that are checked."""
    return Connection.objects.filter(state=Connection.State.LIVE)


def check_own() -> None:
    """What needs no account: the shelf in itself, and its value against the books."""
    check_shelf()
    check_value()


def check_connection(connection: Connection) -> None:
    """Everything one account holds against what we do; a fault of the account becomes a snag."""
    can = kind_of(connection).can
    try:
        if Capability.ORDERS in can:
            check_orders(connection)
        if Capability.QUANTITIES in can:
            check_quantities(connection)
        if Capability.PRICES in can:
            check_prices(connection)
        if Capability.DOCUMENTS in can:
            check_ledger(connection)
    except ConnectorError as error:
        raise_snag(connection, "check", f"{connection.name} could not be checked", str(error))
    else:
        settle_snags("check", "it works again", connection=connection)


def check_quantities(connection: Connection) -> None:
    """A1: what the channel shows against what is offered. An offer still on its way is not a drift.

    A channel takes its own stock down the moment it sells, before we hear of the order. So what
    differs at first is read a second time, after its orders have been taken in.
    """
    with run_of(connection, "check quantities") as run:
        settled = _compare_shown(connection, _at_rest(connection))
        suspects = [row for row in settled if not row.agrees]
        if suspects:
            inbound.poll(connection)
            while relay_now():
                continue
            again = _compare_shown(connection, _at_rest(connection, [row.pk for row in suspects]))
            doubted = {row.pk for row in suspects}
            settled = [row for row in settled if row.pk not in doubted] + again
        run.done = run.total = len(settled)
    # Most agree and did before: what would be written as it stands is left alone.
    judge([row for row in settled if row.agrees != row.agreed])
    # What was compared is what is said: the offer may have moved on since.
    differing = {row.pk: row for row in settled if not row.agrees}
    findings = []
    for listing in Listing.objects.filter(pk__in=differing).order_by("pk"):
        expected, shown = _apart(differing[listing.pk])
        refs = {"listing": listing.pk, "item": listing.item_id or 0}
        findings.append(Finding(f"listing:{listing.pk}", listing.title, expected, shown, listing.offer_cause, refs))
    left = sum((row.shown.quantity for row in settled if row.shown), ZERO)
    right = sum((row.offer for row in settled), ZERO)
    keep(Code.A1, connection, left, right, len(settled), findings)


def _apart(row: Compared) -> tuple[str, str]:
    """What was expected and what is shown, in words: how many, or how they are sold where only that differs."""
    if row.shown is None:
        return plain(row.offer), "not there"
    if row.shown.quantity != row.offer:
        return plain(row.offer), plain(row.shown.quantity)
    there = row.shown.terms.kept()
    names = sorted(name for name in {*row.terms, *there} if row.terms.get(name) != there.get(name))

    def said(terms: dict[str, Any]) -> str:
        return ", ".join(f"{name.replace('_', ' ')}: {_in_words(terms.get(name, 'as usual'))}" for name in names)[:80]

    return said(row.terms), said(there)


def _in_words(value: Any) -> str:
    return " and ".join(f"{name} {part}" for name, part in sorted(value.items())) if isinstance(value, dict) else str(value)


@dataclass(frozen=True)
class Compared(Read):
    """What was offered and what is shown; `agreed`: whether it agreed when it was last looked at."""

    agreed: bool


class Resting(NamedTuple):
    """A linked listing whose offer is at rest, as far as a check needs it: what is offered since when, what was
    shown when it was last read, and whether that agreed."""

    pk: int
    external_id: str
    offer: Decimal
    terms: dict[str, Any]
    stamp: datetime | None
    shown: tuple[Decimal | None, dict[str, Any]]
    agreed: bool

    def read(self, there: RemoteQuantity | None, now: datetime) -> Compared:
        """With what is shown now."""
        return Compared(self.pk, self.offer, self.terms, self.stamp or now, there, self.agreed)


def _at_rest(connection: Connection, ids: list[int] | None = None) -> list[Resting]:
    rows = Listing.objects.filter(connection=connection, link=Listing.Link.LINKED, offered__isnull=False)
    if ids is not None:
        rows = rows.filter(pk__in=ids)
    rows = rows.exclude(offer_state__in=IN_MOTION).order_by("pk")
    fields = ("pk", "external_id", "offered", "terms", "offered_at", "shown", "terms_shown", "offer_state")
    return [
        Resting(pk, external_id, offer or ZERO, terms, stamp, (shown, terms_shown), state == Listing.Offer.AGREED)
        for pk, external_id, offer, terms, stamp, shown, terms_shown, state in rows.values_list(*fields)
    ]


def _compare_shown(connection: Connection, rows: list[Resting]) -> list[Compared]:
    """What the channel shows for each listing whose offer has not moved while we were reading."""
    if not rows:
        return []
    asked = timezone.now()
    shown = connector_as(connection, Quantities).read_shown([row.external_id for row in rows])

    def known(there: RemoteQuantity | None) -> tuple[Decimal | None, dict[str, Any]]:
        return (there.quantity, there.terms.kept()) if there else (None, {})

    found = {row.pk: shown.get(row.external_id) for row in rows}
    note_shown({row.pk: found[row.pk] for row in rows if known(found[row.pk]) != row.shown}, asked)
    Connection.objects.filter(pk=connection.pk).update(read_at=asked)
    still = {(row.pk, row.stamp) for row in _at_rest(connection, None if len(rows) > FEW else [row.pk for row in rows])}
    return [row.read(found[row.pk], asked) for row in rows if (row.pk, row.stamp) in still]


def check_orders(connection: Connection) -> None:
    """A3: orders there and here: presence, total, what was paid back of it, cancelled or not. Takes in what is new first."""
    inbound.poll(connection)
    since = max(connection.live_since or connection.created_at, timezone.now() - LOOK_BACK)
    theirs: dict[str, RemoteOrder] = {}
    takes_back: list[RemoteOrder] = []
    connector = connector_as(connection, Orders)
    # The account's clock may be off: what it changed lately may carry a time before the one we ask for.
    asked = (since - inbound.OVERLAP).isoformat()
    now = timezone.now()
    for page in pages(lambda cursor: connector.orders(asked, cursor)):
        for order in (inbound.read_order(connector, raw, now) for raw in page.rows):
            if isinstance(order, RemoteOrder) and order.refund_of:
                takes_back.append(order)
            elif isinstance(order, RemoteOrder) and order.placed_at >= since:
                theirs[order.external_id] = order
    ours = {row.external_id: row for row in SalesOrder.objects.filter(connection=connection, history=False, placed_at__gte=since)}
    waiting = {inbound.order_of(m.key) for m in InboundMessage.objects.filter(connection=connection, state="new")}
    waiting |= {order.refund_of for order in takes_back if order.external_id in waiting}
    back_there, back_here = order_checks.paid_back_there(theirs, takes_back), order_checks.paid_back_here(connection, since)
    rules = order_rules(connection)
    means = {k: inbound.meaning(connection, order.status, rules) for k, order in theirs.items()}
    wanted = {k for k in theirs if means[k] in (inbound.TAKEN, inbound.HELD) or k in ours} - waiting
    stands = order_checks.stands
    state_here = {k: stands(row.told_total, row.state == "cancelled", back_here.get(k)) for k, row in ours.items()}
    state_there = {k: stands(theirs[k].total, means[k] == inbound.CANCELLED, back_there.get(k)) for k in wanted}
    findings = []
    for key, here, there in compare_text(state_here, state_there):
        number = ours[key].number if key in ours else theirs[key].number
        refs = {"order": ours[key].pk} if key in ours else {}
        findings.append(Finding(f"order:{key}", f"Order {number}", here, there, "the channel's order", refs))
    left = sum((theirs[k].total - back_there.get(k, ZERO) for k in wanted), ZERO)
    right = sum((row.told_total - back_here.get(k, ZERO) for k, row in ours.items()), ZERO)
    keep(Code.A3, connection, left, right, len(wanted | set(ours)), findings)


def check_shelf() -> None:
    """A4: balances against moves, committed against reservations, lots against their moves, nothing below zero."""
    places = dict(Location.objects.values_list("pk", "name"))
    titles = dict(Item.objects.values_list("pk", "title"))
    balances = {(row.item_id, row.location_id): row for row in StockBalance.objects.all()}
    moved = {
        (i, p): q for i, p, q in StockMove.objects.values_list("item_id", "location_id").annotate(q=Sum("quantity")).order_by()
    }
    held: dict[tuple[int, int], Decimal] = defaultdict(Decimal)
    for rows in (Reservation.objects.filter(state="open"), DocumentReservation.objects.all()):
        for item, place, units in rows.values_list("item_id", "location_id").annotate(q=Sum("quantity")).order_by():
            held[item, place] += units
    lots = {(i, p): q for i, p, q in LotBalance.objects.values_list("lot_id", "location_id", "on_hand")}
    lot_moves = {
        (i, p): q
        for i, p, q in StockMove.objects.exclude(lot=None)
        .values_list("lot_id", "location_id")
        .annotate(q=Sum("quantity"))
        .order_by()
    }
    on_hand = compare(moved, {k: row.on_hand for k, row in balances.items()})
    committed = compare(held, {k: row.committed for k, row in balances.items()})
    by_lot = compare(lot_moves, lots)
    findings = []
    for what, outcome in (("on hand", on_hand), ("committed", committed)):
        findings += [_shelf_finding(what, d.key, d.expected, d.found, titles, places) for d in outcome.differences]
    findings += [
        Finding(f"lot:{d.key}", "A lot's balance", plain(d.expected or ZERO), plain(d.found or ZERO)) for d in by_lot.differences
    ]
    for key, row in balances.items():
        if row.on_hand < 0:
            findings.append(_shelf_finding("below zero", key, ZERO, row.on_hand, titles, places))
    compared = on_hand.compared + committed.compared + by_lot.compared
    keep(Code.A4, None, on_hand.left, on_hand.right, compared, findings)


def _shelf_finding(
    what: str, key: Any, expected: Decimal | None, found: Decimal | None, titles: dict[int, str], places: dict[int, str]
) -> Finding:
    item, place = key
    cause = "sold at a till before it was received, or never counted" if what == "below zero" else "moves and balance differ"
    return Finding(
        f"{what}:{item}:{place}",
        f"{titles.get(item, '?')} at {places.get(place, '?')}, {what}",
        plain(expected or ZERO),
        plain(found or ZERO),
        cause,
        {"item": item},
    )


def compare_value() -> Comparison:
    """Value of stock by item against the inventory account by item."""
    worth = dict(ItemCost.objects.values_list("item_id", "value"))
    booked = dict(
        JournalLine.objects.filter(account__role=Role.INVENTORY, item__isnull=False)
        .values_list("item_id")
        .annotate(total=Sum("amount"))
        .order_by()
    )
    unnamed = JournalLine.objects.filter(account__role=Role.INVENTORY, item=None).aggregate(t=Sum("amount"))["t"]
    if unnamed:
        booked[0] = unnamed
    return compare(worth, booked)


def check_value() -> None:
    """A5: value of stock by item and the inventory account; units behind the cost and units on the shelf."""
    outcome = compare_value()
    titles = dict(Item.objects.values_list("pk", "title"))
    findings = [
        Finding(
            f"value:{d.key}",
            f"{titles.get(int(str(d.key)), 'No item')}, value",
            f"{d.expected or ZERO:.2f}",
            f"{d.found or ZERO:.2f}",
            "an entry without its move, or the reverse",
            {"item": int(str(d.key))},
        )
        for d in outcome.differences
    ]
    units = compare(
        dict(ItemCost.objects.values_list("item_id", "quantity")),
        dict(StockBalance.objects.values_list("item_id").annotate(q=Sum("on_hand")).order_by()),
    )
    findings += [
        Finding(
            f"units:{d.key}",
            f"{titles.get(int(str(d.key)), '?')}, units behind its cost",
            plain(d.expected or ZERO),
            plain(d.found or ZERO),
            "",
            {"item": int(str(d.key))},
        )
        for d in units.differences
    ]
    keep(Code.A5, None, outcome.left, outcome.right, outcome.compared, findings)


def check_ledger(connection: Connection) -> None:
    """A6: documents there and here, and the movement of each account in each period.

    A document posted within the last moments and still on its way is left out. What differs while
    something was being sent is looked at again, so that motion is not taken for disagreement.
    """
    with run_of(connection, "check ledger"):
        for _ in range(3):
            before = _books_state()
            outcome = _compare_ledger(connection)
            if not outcome.findings or _books_state() == before:
                break
    keep(Code.A6, connection, outcome.left, outcome.right, outcome.compared, outcome.findings)


def _books_state() -> tuple[int, int]:
    newest = JournalEntry.objects.order_by("-pk").values_list("pk", flat=True).first() or 0
    return newest, LedgerDocument.objects.filter(state=LedgerDocument.State.SENT).count()


@dataclass
class _LedgerOutcome:
    left: Decimal
    right: Decimal
    compared: int
    findings: list[Finding]


def _compare_ledger(connection: Connection) -> _LedgerOutcome:
    told = ("sent", "gathered")
    young = LedgerDocument.objects.filter(made_at__gte=timezone.now() - GRACE).exclude(state__in=told)
    # What a day gathers is told when it is over, and nothing of a day that comes to nothing.
    untold = Q(state="gathered", within=None) | Q(within__external_id=NOTHING)
    gathered = LedgerDocument.objects.filter(Q(within__in=young) | untold)
    lines = JournalLine.objects.exclude(entry__ledger_document__in=young).exclude(entry__ledger_document__in=gathered)
    mapped = mapping_of(connection)
    ours = _debits_by_document(lines, mapped)
    by_account = _movement(lines, mapped)
    connector = connector_as(connection, Documents)
    documents = compare(ours, connector.document_totals())
    balances = connector.balances()
    movement = compare(by_account, balances)
    findings = [
        Finding(
            f"document:{d.key}",
            f"Document {d.key}",
            _amount(d.expected),
            _amount(d.found),
            "not yet in the ledger" if d.found is None else "booked in the ledger only" if d.expected is None else "",
        )
        for d in documents.differences
    ]
    for difference in movement.differences:
        period, code = cast("tuple[str, str]", difference.key)
        findings.append(
            Finding(
                f"account:{period}:{code}",
                f"Account {code} in {period}",
                _amount(difference.expected),
                _amount(difference.found),
                "see the documents of that month",
            )
        )
    findings += order_checks.compare_orders(connection, connector)
    inventory = mapped.get(Role.INVENTORY, "")
    left = sum((v for (_, code), v in by_account.items() if code == inventory), ZERO)
    right = sum((v for (_, code), v in balances.items() if code == inventory), ZERO)
    return _LedgerOutcome(left, right, documents.compared + movement.compared, findings)


def _movement(lines: QuerySet[JournalLine], accounts: dict[str, str]) -> dict[tuple[str, str], Decimal]:
    """Movement by period and the ledger's own account."""
    sums: dict[tuple[str, str], Decimal] = {}
    rows = lines.values_list("entry__date__year", "entry__date__month", "account__role").annotate(t=Sum("amount")).order_by()
    for year, month, role, total in rows:
        key = (f"{year:04d}-{month:02d}", their_account(accounts, role) or "unmapped")
        sums[key] = sums.get(key, ZERO) + total
    return sums


def _debits_by_document(lines: QuerySet[JournalLine], accounts: dict[str, str]) -> dict[str, Decimal]:
    """Sum of debits of each document as the ledger sees it: netted by its own accounts."""
    netted: dict[tuple[str, str], Decimal] = {}
    number_of = Coalesce("entry__ledger_document__within__number", "entry__ledger_document__number")
    rows = lines.annotate(told_in=number_of).values_list("told_in", "account__role").annotate(t=Sum("amount")).order_by()
    for number, role, total in rows:
        key = (number, their_account(accounts, role) or "unmapped")
        netted[key] = netted.get(key, ZERO) + total
    debits: dict[str, Decimal] = {}
    for (number, _), total in netted.items():
        debits[number] = debits.get(number, ZERO) + max(ZERO, total)
    return debits


def _amount(value: Decimal | None) -> str:
    return "missing" if value is None else f"{value:.2f}"


def _open_drift(drift_id: int) -> Drift:
    drift = Drift.objects.select_related("listing__connection").filter(pk=drift_id, healed_at=None).first()
    if drift is None or drift.listing is None:
        raise NotFoundError("There is no such drift with a listing.")
    return drift


@transaction.atomic
def push_again(actor: Actor, drift_id: int) -> tuple[Code, set[int]]:
    """Send our quantity or our price once more. Returns which, and the connections to push on."""
    actor.need(Ability.RESOLVE)
    drift = _open_drift(drift_id)
    assert drift.listing is not None  # noqa: S101  _open_drift has seen it
    send = prices.push_again if drift.code == Code.A2 else offers.push_again
    return Code(drift.code), send(drift.listing)


def take_theirs(actor: Actor, drift_id: int, at: datetime) -> str:
    """Take the price that a channel shows into the list it is shown from; the others follow. Returns what was done.

    Raises RefusedError for a drift of anything but a price, or when nothing is shown there.
    """
    actor.need(Ability.RESOLVE)
    actor.need(Ability.PRICE)
    drift = _open_drift(drift_id)
    listing = drift.listing
    assert listing is not None  # noqa: S101  _open_drift has seen it
    if drift.code != Code.A2:
        raise RefusedError("Only a price can be taken from there; quantities are counted here.", field="code")
    if listing.price is None:
        raise RefusedError("It is not there, so there is no price to take.", field="price")
    if not can_take(drift):
        raise RefusedError("Only what everybody is shown can be taken from there; push ours instead.", field="key")
    theirs = RemotePrice(external_id=listing.external_id, price=listing.price)
    if not price_intake.take(listing.connection, [theirs], at, actor):
        raise RefusedError("Our list says the same already; push ours instead.", field="price")
    return f"{price_intake.list_shown(listing.connection).name} says {listing.price:.2f} now, as {listing.connection.name} does."


def heal_pushed(now: datetime) -> int:
    """Drifts of quantities and prices whose listing has agreed since need not wait for the next check."""
    standing = Drift.objects.filter(healed_at=None)
    quantities = Q(code=Code.A1, listing__offer_state=Listing.Offer.AGREED, listing__agreed_at__gt=F("seen_at"))
    priced = Q(
        code=Code.A2, listing__price_offer__state=PriceOffer.State.AGREED, listing__price_offer__agreed_at__gt=F("seen_at")
    )
    priced &= ~Q(key__contains=OF_GROUP)
    return standing.filter(pk__in=standing.filter(quantities | priced).values("pk")).update(healed_at=now)
