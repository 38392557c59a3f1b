"""Inbound: every message is kept, then applied once, however often and in whatever order it comes."""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator
from dataclasses import replace
from datetime import datetime, timedelta
from hashlib import sha256
from typing import Any

from django.db import IntegrityError, transaction
from django.db.models import Q
from django.utils import timezone
from django.utils.dateparse import parse_datetime

from yuvrel.catalogue.models import FormerCode, Item
from yuvrel.catalogue.products import items_of
from yuvrel.connectors.base import Page, order_states, pages, read
from yuvrel.connectors.capabilities import Capability, Listings, Orders, Webhooks
from yuvrel.connectors.http import ConnectorError, NonsenseError, RefusedThereError
from yuvrel.connectors.messages import Raw, RemoteLine, RemoteOrder, RemotePayment, RemoteRefund, Unreadable
from yuvrel.core.bounds import EARLIEST, check_happened
from yuvrel.core.errors import BadInputError, RefusedError, YuvrelError
from yuvrel.core.gtin import normal_sku
from yuvrel.core.rules import MOST_WORD, MOST_WORDS
from yuvrel.people.queries import company_day
from yuvrel.people.roles import SYSTEM
from yuvrel.rules.queries import by_level
from yuvrel.sales.actions import Taken, take_order, take_till_sale
from yuvrel.sales.credits import RefundLine, TakenRefund, take_refund, take_refunds
from yuvrel.sales.incoming import IncomingLine, IncomingOrder, IncomingPayment
from yuvrel.sales.models import SalesOrder
from yuvrel.sales.rules import OrderRules, order_rules

from . import linking
from .credentials import connector_as, kind_of
from .models import ChannelGroup, Connection, Feed, HeardWord, InboundMessage, Listing
from .places_there import NAME as PLACES
from .places_there import location_for
from .quarantine import attempt, read_row, unreadable
from .runs import StoppedError, raise_snag, run_of, settle_snags
from .schedules import feed_of, read_whole
from .selling import allowances

OVERLAP = timedelta(minutes=5)
UNREADABLE = "unreadable"
STATE_SNAG = "order_state"
IS_HELD = " is held"
WORDS = HeardWord.Sort
DONE_WITH = (InboundMessage.State.APPLIED, InboundMessage.State.REPEATED, InboundMessage.State.SKIPPED)
# What an order's state may mean here.
TAKEN, HELD, LEFT, CANCELLED = "taken", "held", "left", "cancelled"


def keep(connection: Connection, order: RemoteOrder | Unreadable, via: str) -> InboundMessage | None:
    """Store one version of an order; None when that version was stored before.

    What cannot be read is stored as it came, with a snag that names the field.
    """
    if isinstance(order, Unreadable):
        return _keep_unreadable(connection, order, via)
    body = order.model_dump(mode="json")
    try:
        with transaction.atomic():
            return InboundMessage.objects.create(connection=connection, key=key_of(order), kind="order", via=via, body=body)
    except IntegrityError:
        return None


def key_of(order: RemoteOrder) -> str:
    """The same for the same version of the same order."""
    return f"order:{order.external_id}:{order.version}"


def order_of(key: str) -> str:
    """The order's id in such a key."""
    return key.removeprefix("order:").rpartition(":")[0]


def _keep_unreadable(connection: Connection, found: Unreadable, via: str) -> InboundMessage | None:
    digest = sha256(json.dumps(found.body, sort_keys=True, default=str).encode()).hexdigest()[:24]
    with transaction.atomic():
        message, created = InboundMessage.objects.get_or_create(
            connection=connection,
            key=f"{UNREADABLE}:{found.external_id}:{digest}"[:160],
            defaults={"kind": UNREADABLE, "via": via, "body": found.body, "state": InboundMessage.State.SNAGGED},
        )
        if not created:
            return None
        title = f"Order {found.number or found.external_id or 'without a number'} cannot be read"
        detail = f"{found.detail} Have it corrected at {connection.name}, then try again; what came is kept."
        raise_snag(connection, "order", title, detail, inbound=message, field=found.field)
    return message


def read_order(connector: Orders, raw: Raw, now: datetime) -> RemoteOrder | Unreadable:
    """An order as it came, read under quarantine. One that was placed in a time to come is not taken in."""
    found = read_row(connector.read_order, raw)
    if isinstance(found, Unreadable):
        return found
    try:
        check_happened(found.placed_at, "placed_at", now)
    except BadInputError as error:
        return unreadable(raw.body, error.detail, error.field)
    return found


def poll(connection: Connection) -> int:
    """Take in what changed since the watermark, with an overlap; returns how many were new.

    Where an exchange breaks off is remembered with each page, and the next one goes on from there:
    from the start of the overlap, an account that fails now and then would never be read to its end.
    """
    connector = connector_as(connection, Orders)
    feed = feed_of(connection, "orders")
    start = parse_datetime(feed.watermark)
    asked = (start - OVERLAP).isoformat() if start else feed.watermark
    left = feed.resume
    cursor = str(left.get("cursor", ""))
    asked = str(left.get("asked", asked)) if cursor else asked
    # Kept only while this exchange is on its way: should the account not know the page any more, the next begins anew.
    Feed.objects.filter(pk=feed.pk).update(resume={})
    fresh = 0
    with run_of(connection, "orders") as run:
        try:
            for page in pages(lambda after: connector.orders(asked, after), cursor):
                new, failed = _take_page(feed, connector, page)
                fresh += new
                cursor = page.cursor
                run.step(done=new, total=new, taken=new - failed, failed=failed, unchanged=len(page.rows) - new)
        except (ConnectorError, StoppedError) as error:
            if cursor and not isinstance(error, RefusedThereError):
                Feed.objects.filter(pk=feed.pk).update(resume={"asked": asked, "cursor": cursor})
            raise
        run.note(f"{fresh} new versions of orders")
        read_whole(feed)
    return fresh


def _take_page(feed: Feed, connector: Orders, page: Page) -> tuple[int, int]:
    """Keep and apply what is new on a page, each by itself; the watermark follows. Returns how many were new, and how
    many of them could not be taken in."""
    now, connection = timezone.now(), feed.connection
    orders = [read_order(connector, raw, now) for raw in page.rows]
    keys = [key_of(order) for order in orders if isinstance(order, RemoteOrder)]
    known = set(InboundMessage.objects.filter(connection=connection, key__in=keys).values_list("key", flat=True))
    fresh = failed = 0
    for raw, order in zip(page.rows, orders, strict=True):
        feed.watermark = later(feed.watermark, raw.at, now)
        if isinstance(order, RemoteOrder) and key_of(order) in known:
            continue
        message = keep(connection, order, "poll")
        if message:
            fresh += 1
            if message.state == InboundMessage.State.NEW:
                _apply(message)
            failed += message.state == InboundMessage.State.SNAGGED
    Feed.objects.filter(pk=feed.pk).update(watermark=feed.watermark)
    return fresh, failed


def pages_since(feed: Feed, read: Callable[[str, str], Page], at: datetime) -> Iterator[Page]:
    """Pages of what happened there since a part was read last, with an overlap, for the account's clock may be off; `read`
    gives a page since a time of the account's. The mark moves on once a page has been worked on."""
    mark = feed.watermark
    start = parse_datetime(mark) if mark else None
    asked = (start - OVERLAP).isoformat() if start else ""
    for page in pages(lambda cursor: read(asked, cursor)):
        yield page
        for raw in page.rows:
            mark = later(mark, raw.at, at)
        Feed.objects.filter(pk=feed.pk).update(watermark=mark)


def later(watermark: str, at: str, now: datetime) -> str:
    """The watermark, moved on by a time of the account's that can be one; any other would hide all that comes after."""
    try:
        moment = parse_datetime(at)
        check_happened(moment if moment and moment.tzinfo else EARLIEST, "at", now)
    except (ValueError, OverflowError, BadInputError):
        return watermark
    return max(watermark, at) if moment else watermark


def apply(message_id: int) -> str:
    """Apply a kept message; what cannot be applied becomes a snag. Returns what became of it."""
    message = InboundMessage.objects.select_related("connection").get(pk=message_id)
    return "repeated" if message.state in DONE_WITH else _apply(message)


def _apply(message: InboundMessage) -> str:
    connection = message.connection
    name = f"Order {message.body.get('number') or 'without a number'}"[:120]
    try:
        order = _read_kept(message)
        rules = order_rules(connection)
        note_words(connection, order)
        if not _wanted(connection, order, rules):
            return _end(message, InboundMessage.State.SKIPPED)
        taken = attempt(lambda: _take(connection, order, rules, timezone.now()), f"{name} of {connection.name}")
    except (YuvrelError, ConnectorError) as error:
        detail = error.detail if isinstance(error, YuvrelError) else str(error)
        raise_snag(connection, "order", f"{name} could not be taken in", detail, inbound=message, field=error.field)
        return _end(message, InboundMessage.State.SNAGGED)
    if taken.problem:
        is_order = taken.order.kind == "order"
        sale = "Till sale" if taken.order.kind == SalesOrder.Kind.TILL else "Order"
        is_held = is_order and taken.order.state == SalesOrder.State.HELD
        title = f"Order {taken.order.number}{IS_HELD}" if is_held else f"{sale} {taken.order.number} needs a look"
        settle_snags("order", "a later version of it came", Q(order=taken.order) & ~Q(inbound=message))
        raise_snag(connection, "order", title, taken.problem, inbound=message, order=taken.order, field=taken.field)
    else:
        stem = f"{UNREADABLE}:{order.external_id}:"
        earlier = Q(connection=connection, inbound__key__startswith=stem)
        settle_snags("order", "it was taken in", Q(order=taken.order) | Q(inbound=message) | earlier)
    return _end(message, InboundMessage.State.REPEATED if taken.outcome == "repeated" else InboundMessage.State.APPLIED)


def settle_held(order_ids: Iterable[int]) -> None:
    """What was to be decided of orders that were held is decided, once they are held no more."""
    orders = SalesOrder.objects.filter(pk__in=list(order_ids)).exclude(state=SalesOrder.State.HELD)
    called_off = orders.filter(state=SalesOrder.State.CANCELLED).exclude(cancelled_because="")
    # That its channel still has it is said of one that was cancelled.
    settle_snags("order", "the order was cancelled here", ~Q(field="status"), order__in=called_off.values("pk"))
    settle_snags("order", "the order is held no more", order__in=orders.values("pk"), title__endswith=IS_HELD)


def _read_kept(message: InboundMessage) -> RemoteOrder:
    """The order in a kept message. What could not be read when it came is tried in the account's own words."""
    if message.kind != UNREADABLE:
        return read(RemoteOrder, message.body)
    body = message.body["given"] if set(message.body) == {"given"} else message.body
    found = read_order(connector_as(message.connection, Orders), Raw(body=body), timezone.now())
    if isinstance(found, Unreadable):
        raise NonsenseError(found.detail, field=found.field)
    return found


def _end(message: InboundMessage, state: str) -> str:
    message.state, message.applied_at = state, timezone.now()
    message.save(update_fields=["state", "applied_at"])
    return state


def meaning(connection: Connection, status: str, rules: OrderRules) -> str:
    """What an order's state at a connection means here: as its rules say, else as its kind proposes; empty where neither
    knows the word."""
    return rules.states.get(status) or order_states(kind_of(connection)).get(status, "")


def note_words(connection: Connection, order: RemoteOrder) -> None:
    """Remember the words that an account uses, so that a person can say what they mean."""
    said = [(WORDS.STATES, order.status), *((WORDS.PAYMENTS, one.method) for one in order.payments)]
    said += [(WORDS.SHIPPING, line.title) for line in order.lines if line.kind == "shipping"]
    known = set(HeardWord.objects.filter(connection=connection).values_list("sort", "word"))
    found = {(sort.value, word[:MOST_WORD]) for sort, word in said if word} - known
    # An account that makes up a word for each order is not listened to for ever.
    if found and len(known) < MOST_WORDS:
        rows = [HeardWord(connection=connection, sort=sort, word=word) for sort, word in sorted(found)]
        HeardWord.objects.bulk_create(rows, ignore_conflicts=True)


def _wanted(connection: Connection, order: RemoteOrder, rules: OrderRules) -> bool:
    """Whether the connection takes in orders in this state; one it holds already is always followed, unless it came as
    history. What had been sent or cancelled before the connection was live is history, whether it was taken in or not."""
    is_history = connection.orders.filter(external_id=order.external_id).values_list("history", flat=True).first()  # type: ignore[attr-defined]
    if is_history is not None:
        return not is_history
    means = meaning(connection, order.status, rules)
    if not means:
        title = f"{connection.name} has orders in a state that means nothing here yet: {order.status}"
        detail = f"Order {order.number} and others like it are left there. Say what the state means in the connection's rules."
        raise_snag(connection, STATE_SNAG, title, detail, field="order_states")
    over = order.done or means == CANCELLED
    # The account's clock may be off.
    if over and connection.live_since and order.placed_at < connection.live_since - OVERLAP:
        return False
    return means in (TAKEN, HELD, CANCELLED)


def read_again(connection: Connection) -> int:
    """What was left at a connection is looked at again, the newest version of each order, because its states mean
    something else now. Returns how many come in."""
    rules, known = order_rules(connection), set(connection.orders.values_list("external_id", flat=True))  # type: ignore[attr-defined]
    skipped = InboundMessage.objects.filter(connection=connection, state=InboundMessage.State.SKIPPED, kind="order")
    newest: dict[str, tuple[int, str]] = {}
    for pk, key, word in skipped.order_by("pk").values_list("pk", "body__external_id", "body__status"):
        newest[str(key)] = pk, str(word)
    wanted = [pk for key, (pk, word) in newest.items() if key not in known and meaning(connection, word, rules) in (TAKEN, HELD)]
    unknown = [word for _, word in newest.values() if not meaning(connection, word, rules)]
    if not unknown:
        settle_snags(STATE_SNAG, "its states have a meaning now", connection=connection)
    return InboundMessage.objects.filter(pk__in=wanted).update(state=InboundMessage.State.NEW)


def _take(connection: Connection, order: RemoteOrder, rules: OrderRules, at: datetime) -> Taken:
    if order.refund_of:
        return _take_back(connection, order)
    taken = _take_sale(connection, order, rules, at)
    if not order.refunds:
        return taken
    said = take_refunds(SYSTEM, taken.order.pk, [_refund(one) for one in order.refunds])
    return replace(taken, problem=taken.problem or said, field=taken.field or ("refunds" if said else ""))


def _take_sale(connection: Connection, order: RemoteOrder, rules: OrderRules, at: datetime) -> Taken:
    incoming = incoming_order(connection, order, rules)
    if issubclass(kind := kind_of(connection), Orders) and kind.sales_already_happened:
        return take_till_sale(SYSTEM, incoming)
    if order.sent_by_channel:
        return take_till_sale(SYSTEM, incoming, SalesOrder.Kind.SENT)
    return take_order(SYSTEM, incoming, at)


def _refund(told: RemoteRefund) -> TakenRefund:
    lines = [RefundLine(line.line_id, line.quantity, line.amount) for line in told.lines]
    return TakenRefund(told.external_id, told.at, told.paid, lines, told.key, told.goods, told.method, told.note)


def _take_back(connection: Connection, order: RemoteOrder) -> Taken:
    """A receipt that takes another one back, in all or in part. Raises RefusedError where that sale is not known here."""
    sale = connection.orders.filter(external_id=order.refund_of).first()  # type: ignore[attr-defined]
    if sale is None:
        raise RefusedError("The sale that it takes back is not known here. Once it is, try again.", field="refund_of")
    if sale.state == SalesOrder.State.HELD:
        raise RefusedError(
            f"The sale that it takes back, {sale.number}, is held. Release that, then try again.", field="refund_of"
        )
    method = order.payments[0].method if order.payments else ""
    lines = [RefundLine(line.external_id, line.quantity, line.amount) for line in order.lines]
    told = TakenRefund(order.external_id, order.placed_at, order.total, lines, method=method, note=f"receipt {order.number}")
    known = sale.credits.filter(external_id=order.external_id).exists()
    take_refund(SYSTEM, sale.pk, told)
    return Taken(sale, "repeated" if known else "changed")


def incoming_order(connection: Connection, order: RemoteOrder, rules: OrderRules | None = None) -> IncomingOrder:
    """An order with its items named and its place. Raises RefusedError where no place is chosen for it."""
    place = connection.their_place_id if order.sent_by_channel else connection.fulfils_from_id
    if order.place and not order.sent_by_channel:
        place = location_for(connection, order.place, by_level([PLACES])) or place
    if place is None and order.sent_by_channel:
        detail = "It went out of the channel's own store. Choose the place that stands for it."
        raise RefusedError(detail, field="their_place")
    if place is None:
        raise RefusedError("The connection has no location that fulfils its orders.", field="fulfils_from")
    rules = rules or order_rules(connection)
    means = meaning(connection, order.status, rules)
    waits = f"It stands as {order.status.replace('_', ' ')} at {connection.name}." if means == HELD else ""
    return IncomingOrder(
        connection_id=connection.pk,
        location_id=place,
        prefix=rules.prefix,
        external_id=order.external_id,
        number=order.number,
        version=order.version,
        placed_at=order.placed_at,
        currency=order.currency,
        total=order.total,
        paid=order.paid,
        send_by=order.send_by or rules.send_by(company_day(order.placed_at)),
        penalty=order.penalty,
        cancelled=means == CANCELLED,
        goods_wait=rules.goods_wait,
        backorders=rules.backorders,
        nameless=rules.nameless,
        held=waits,
        sells_in=rules.sells_in,
        gather=rules.gather(connection),
        payments=[_payment(one, rules) for one in order.payments],
        customer={**order.customer.model_dump(), "group_id": _group_of(connection, order.customer.group)},
        ship_to={name: text for name, text in order.ship_to.model_dump().items() if text},
        lines=[_as_item(line, rules) for line in resolve(connection, order.lines)],
    )


def _as_item(line: IncomingLine, rules: OrderRules) -> IncomingLine:
    """A charge under the SKU of the service that stands for it; no stock moves by it."""
    return replace(line, sku=rules.charges[line.kind]) if line.kind in rules.charges else line


def _group_of(connection: Connection, key: str) -> int | None:
    """Who a group of the account is here."""
    found = ChannelGroup.objects.filter(connection=connection, key=key).first() if key else None
    return found.group_id if found else None


def _payment(told: RemotePayment, rules: OrderRules) -> IncomingPayment:
    account = rules.accounts.get(told.method, "")
    return IncomingPayment(told.external_id, told.method, told.amount, told.state == "authorised", account)


def resolve(connection: Connection, lines: list[RemoteLine]) -> list[IncomingLine]:
    """Which item each line is: by its linked listing, else by an exact SKU."""
    ids = [line.listing_id for line in lines if line.listing_id]
    related = ("connection", "item__product__category")
    listings = {
        row.external_id: row
        for row in Listing.objects.filter(connection=connection, external_id__in=ids).select_related(*related)
    }
    linked = {key: row.item for key, row in listings.items()}
    allowed = allowances(listings.values())
    skus = {sku.casefold(): item for sku, item in _by_sku([line.sku for line in lines if line.sku]).items()}
    found = []
    for line in lines:
        item, units = None, 1
        kind = line.kind
        if kind == "item":
            units = listings[line.listing_id].units if linked.get(line.listing_id) else 1
            item = linked.get(line.listing_id) or skus.get(line.sku.strip().casefold())
            kind = "service" if item and item.kind == Item.Kind.SERVICE else "item"
        found.append(
            IncomingLine(
                kind=kind,
                title=line.title,
                quantity=line.quantity * units,
                amount=line.amount,
                tax_percent=line.tax_percent,
                external_id=line.external_id,
                units=units,
                sku=item.sku if item else line.sku,
                item_id=item.pk if item else None,
                decimals=item.decimals if item else 3,
                past_zero=allowed.get(listings[line.listing_id].pk) if line.listing_id in listings else None,
            )
        )
    return found


def _by_sku(skus: list[str]) -> dict[str, Item]:
    """Items by what they are called in an order: by their SKU, however it is written, else by one that a single item had
    before."""
    wanted = [sku.strip() for sku in skus]
    found = {item.sku: item for item in Item.objects.filter(sku__in=wanted, active=True)}
    known = {normal_sku(sku) for sku in found}
    missing = {normal_sku(sku) for sku in wanted} - known
    if missing:
        found |= {item.sku: item for item in items_of(missing) if item.active}
        missing -= {normal_sku(sku) for sku in found}
        had: dict[str, list[Item]] = defaultdict(list)
        former = FormerCode.objects.filter(kind=FormerCode.Kind.SKU, code__in=missing, item__active=True)
        for row in former.select_related("item"):
            had[row.code].append(row.item)
        found |= {code: items[0] for code, items in had.items() if len(items) == 1}
    return found


def take_event(connection: Connection, body: dict[str, Any]) -> InboundMessage | None:
    """Keep the order in a verified webhook, or what it says of goods; None when there is no order to apply."""
    if Capability.WEBHOOKS not in kind_of(connection).can:
        raise NonsenseError("This kind of connection sends no webhooks.")
    connector = connector_as(connection, Webhooks)
    goods = connector.goods_in(body)
    if goods and isinstance(connector, Listings):
        linking.hear(connection, connector, goods, timezone.now())
        return None
    raw = connector.order_in(body)
    return keep(connection, read_order(connector, raw, timezone.now()), "webhook") if raw else None


@transaction.atomic
def try_again(message: InboundMessage) -> str:
    """Apply a snagged message once more, with what has been put right since.

    A version that was overtaken by a later one is simply done with. Raises RefusedError saying why
    it still cannot be read.
    """
    connection = message.connection
    try:
        order = _read_kept(message)
    except ConnectorError as error:
        raise RefusedError(f"It still cannot be read: {error}", field="body") from error
    existing = connection.orders.select_for_update().filter(external_id=order.external_id).first()
    stuck = existing and (existing.state == "held" or existing.lines.filter(item=None, kind__in=("item", "service")).exists())
    if existing and stuck and existing.kind == "order" and existing.external_version == order.version:
        existing.external_version = order.version - 1
        existing.save(update_fields=["external_version"])
    message.state = InboundMessage.State.NEW
    message.save(update_fields=["state"])
    return apply(message.pk)
