"""Background work: thin wrappers around the engine. Jobs take ids and may be run any number of times."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from django.db import transaction
from django.utils import timezone
from procrastinate.contrib.django import app
from procrastinate.exceptions import UniqueViolation
from procrastinate.jobs import Status

from yuvrel.connectors.base import Capability
from yuvrel.connectors.http import ConnectorError
from yuvrel.core.errors import YuvrelError
from yuvrel.outbox.actions import wake
from yuvrel.outbox.models import Event
from yuvrel.people.models import Company
from yuvrel.people.queries import company_day
from yuvrel.people.roles import SYSTEM
from yuvrel.pricing.actions import begin_day
from yuvrel.rules.models import SettingChange
from yuvrel.sales.actions import fill_backorders, give_up_short

from . import inbound, offers, outbound, price_intake, prices, sql
from .credentials import kind_of
from .models import Connection, InboundMessage, OutboundMessage, Snag
from .price_rules import owner_of
from .quarantine import attempt
from .runs import account_failed, account_works, raise_snag, settle_snags

MOST_EVENTS = 2000
# A worker gives a sign of life every HEARTBEAT seconds; without one for STALLED it counts as dead.
HEARTBEAT, STALLED = 5, 20


def wake_push(connection_id: int) -> None:
    """Have the pending offers of a connection pushed."""
    wake("channels.push_offers", f"connection:{connection_id}", connection_id=connection_id)


def wake_prices(connection_id: int) -> None:
    """Have the pending prices of a connection pushed."""
    wake("channels.push_prices", f"prices:{connection_id}", connection_id=connection_id)


def wake_deliver(connection_id: int) -> None:
    """Have what waits for a connection sent."""
    wake("channels.deliver", f"deliver:{connection_id}", connection_id=connection_id)


def wake_exchange(connection_id: int) -> None:
    """Have a connection asked for news."""
    wake("channels.exchange", f"exchange:{connection_id}", connection_id=connection_id)


@dataclass(frozen=True)
class Woken:
    """The connections that have something to do after some events: quantities or prices to push, messages to deliver."""

    offers: frozenset[int] = frozenset()
    prices: frozenset[int] = frozenset()
    messages: frozenset[int] = frozenset()

    def and_also(self, other: Woken) -> Woken:
        """Both together."""
        return Woken(self.offers | other.offers, self.prices | other.prices, self.messages | other.messages)


@app.task(name="channels.relay")
def relay() -> None:
    """Turn recorded events into offers to push and messages to deliver."""
    relay_now()


@transaction.atomic
def relay_now() -> int:
    """The relay's work; returns how many events it took. Two at once take turns.

    Should one event go wrong, each is taken by itself, and that one is set aside as a Snag.
    """
    sql.relay_alone()
    events = list(Event.objects.select_for_update().filter(done_at=None).order_by("pk")[:MOST_EVENTS])
    if not events:
        return 0
    found = Woken()
    try:
        found = attempt(lambda: _relay(events), f"{len(events)} events")
    except YuvrelError:
        for event in events:
            found = found.and_also(_relay_one(event))
    Event.objects.filter(pk__in=[event.pk for event in events]).update(done_at=timezone.now())
    for connection_id in found.offers:
        wake_push(connection_id)
    for connection_id in found.prices:
        wake_prices(connection_id)
    for connection_id in found.messages:
        wake_deliver(connection_id)
    if len(events) == MOST_EVENTS:
        wake(relay.name, "relay")
    return len(events)


def _relay(events: Sequence[Event]) -> Woken:
    """What became of some events."""
    by_kind: dict[str, dict[int, str]] = {}
    for event in events:
        by_kind.setdefault(event.kind, {})[event.subject_id] = event.cause
    items = by_kind.get(Event.Kind.AVAILABILITY, {})
    if items:
        give_up_short(SYSTEM, items)
        fill_backorders(items)
    for subject_id, said in by_kind.get(Event.Kind.FAULT, {}).items():
        raise_snag(None, f"row {subject_id}"[:20], "A row of a sheet cannot be worked out", said)
    to_push = offers.recompute(dict(items)) if items else set()
    rules = by_kind.get(Event.Kind.RULES, {})
    to_push |= offers.recompute_connections(rules) if rules else set()
    changes = list(SettingChange.objects.filter(pk__in=by_kind.get(Event.Kind.SETTING, {})))
    to_push |= offers.recompute_rules(changes) if changes else set()
    to_tell = outbound.queue_ledger(by_kind.get(Event.Kind.LEDGER, {}))
    to_tell |= outbound.queue_shipments(by_kind.get(Event.Kind.SHIPMENT, {}))
    to_tell |= outbound.queue_purchase_orders(by_kind.get(Event.Kind.PURCHASE_ORDER, {}))
    return Woken(frozenset(to_push), frozenset(_reprice(by_kind, changes)), frozenset(to_tell))


def _reprice(by_kind: Mapping[str, Mapping[int, str]], changes: Sequence[SettingChange]) -> set[int]:
    """Prices that some events touch. Of whole lists everything is worked out, and nothing else need be."""
    lists = by_kind.get(Event.Kind.PRICE_LIST, {})
    if lists:
        return prices.recompute_lists(dict(lists))
    items = dict(by_kind.get(Event.Kind.PRICE, {}))
    moved = by_kind.get(Event.Kind.AVAILABILITY, {})
    if moved and prices.follows_cost():
        items = {item: f"cost after {cause}"[:120] for item, cause in moved.items()} | items
    found = prices.recompute_items(items) if items else set()
    rules = by_kind.get(Event.Kind.RULES, {})
    found |= prices.recompute_connections(dict(rules)) if rules else set()
    return found | (prices.recompute_rules(changes) if changes else set())


def _relay_one(event: Event) -> Woken:
    try:
        return attempt(lambda: _relay([event]), f"event {event.pk}")
    except YuvrelError as error:
        title = f"What followed from {event.cause or event.kind} could not be carried out"
        raise_snag(None, "event", title, f"{error.detail} It concerns {event.kind.replace('_', ' ')} {event.subject_id}.")
        return Woken()


@app.task(name="channels.push_offers")
def push_offers(connection_id: int) -> None:
    """Push the pending offers of one connection; several requests in a row end up as one push."""
    connection = _at_work(connection_id)
    if connection and connection.listings.filter(offer_state="pending").exists():
        _guarded(connection, "push", lambda: offers.push(connection))


@app.task(name="channels.push_prices")
def push_prices(connection_id: int) -> None:
    """Push the pending prices of one connection."""
    connection = _at_work(connection_id)
    if connection and connection.pk in prices.waiting():
        _guarded(connection, "prices", lambda: prices.push(connection))


@app.task(name="channels.deliver")
def deliver(connection_id: int) -> None:
    """Send what waits for one connection. A supplier that got an order is asked for its answer soon."""
    connection = _at_work(connection_id)
    if connection and outbound.deliver(connection) and Capability.PURCHASES in kind_of(connection).can:
        soon = exchange_orders.configure(lock=f"exchange:{connection_id}", schedule_in={"seconds": 3})
        soon.defer(connection_id=connection_id)


@app.task(name="channels.apply_inbound")
def apply_inbound(message_id: int) -> None:
    """Apply one kept message."""
    inbound.apply(message_id)


@app.task(name="channels.exchange")
def exchange_orders(connection_id: int) -> None:
    """Poll one connection: orders from a channel, answers from a supplier."""
    connection = _at_work(connection_id)
    if connection is None:
        return
    if Capability.ORDERS in kind_of(connection).can:
        _guarded(connection, "exchange", lambda: inbound.poll(connection))
    if Capability.PRICE_CHANGES in kind_of(connection).can and owner_of(connection) == "there":
        _guarded(connection, "exchange", lambda: price_intake.take_changes(connection, timezone.now()))
    if Capability.PURCHASES in kind_of(connection).can:
        _guarded(connection, "exchange", lambda: outbound.read_answers(connection, timezone.now()))


def _at_work(connection_id: int) -> Connection | None:
    """The connection, when it is live and its account is not being left alone after a fault."""
    row = Connection.objects.filter(pk=connection_id, state=Connection.State.LIVE).first()
    return None if row is None or (row.pause_until and row.pause_until > timezone.now()) else row


def _guarded(connection: Connection, kind: str, work: Callable[[], object]) -> None:
    """Run; a fault of the account opens a snag and a pause, and the next success closes both.

    The job itself ends well: trying again is the pulse's work, for as long as it takes.
    """
    try:
        work()
    except ConnectorError as error:
        account_failed(connection, kind, error)
    else:
        account_works(connection, kind)


@app.periodic(cron="* * * * * */5")
@app.task(name="channels.pulse", queueing_lock="pulse", pass_context=False)
def pulse(timestamp: int) -> None:
    """Every few seconds: what is due, what was left over by a crash."""
    now = timezone.now()
    offers.retry_held(now)
    prices.retry_held(now)
    if Company.objects.exists():
        begin_day(company_day(now))
    _close_idle_snags()
    at_work = Connection.objects.filter(state=Connection.State.LIVE).exclude(pause_until__gt=now)
    for connection in at_work:
        can = kind_of(connection).can
        last = connection.last_exchange_at
        due = last is None or connection.faults > 0 or (now - last).total_seconds() >= connection.every_seconds
        if connection.automatic and due and (Capability.ORDERS in can or Capability.PURCHASES in can):
            Connection.objects.filter(pk=connection.pk).update(last_exchange_at=now)
            wake_exchange(connection.pk)
        if connection.listings.filter(offer_state="pending").exists():
            wake_push(connection.pk)
    for connection_id in prices.waiting() & {connection.pk for connection in at_work}:
        wake_prices(connection_id)
    due_out = OutboundMessage.objects.filter(state="waiting", next_try_at__lte=now, connection__in=at_work)
    for connection_id in set(due_out.values_list("connection_id", flat=True)):
        wake_deliver(connection_id)
    for message_id in InboundMessage.objects.filter(state="new").order_by("pk").values_list("pk", flat=True)[:200]:
        wake(apply_inbound.name, f"inbound:{message_id}", message_id=message_id)
    if Event.objects.filter(done_at=None).exists():
        wake(relay.name, "relay")


def _close_idle_snags() -> None:
    """A fault of the account closes with the next success; where nothing waits any more, none would come."""
    repricing = prices.waiting()
    for snag in Snag.objects.filter(kind="prices", resolved_at=None).exclude(connection_id__in=repricing):
        settle_snags(snag.kind, "nothing waits any more", connection=snag.connection)
    for snag in Snag.objects.filter(kind__in=("push", "deliver"), resolved_at=None).select_related("connection"):
        if snag.connection is None:
            continue
        pushing = snag.kind == "push"
        offers_wait = pushing and snag.connection.listings.filter(offer_state="pending").exists()
        messages_wait = not pushing and snag.connection.outbound.filter(state="waiting").exists()
        if not (offers_wait or messages_wait):
            settle_snags(snag.kind, "nothing waits any more", connection=snag.connection)


@app.periodic(cron="* * * * * */10")
@app.task(name="channels.rescue", queueing_lock="rescue", pass_context=False)
async def rescue(timestamp: int) -> None:
    """Jobs whose worker died in the middle start again; until then they hold their lock.

    One of which another waits already (a periodic one) is given up instead: that one does the same
    work, and can only begin when this one holds the lock no more.
    """
    for job in await app.job_manager.get_stalled_jobs(seconds_since_heartbeat=STALLED):
        try:
            await app.job_manager.retry_job(job)
        except UniqueViolation:
            await app.job_manager.finish_job(job, status=Status.ABORTED, delete_job=False)
