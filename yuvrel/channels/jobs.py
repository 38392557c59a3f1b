"""Background work: thin wrappers around the engine. Jobs take ids and may be run any number of times."""

from __future__ import annotations

from django.db import transaction
from django.utils import timezone
from procrastinate import RetryStrategy
from procrastinate.contrib.django import app

from yuvrel.connectors.base import Can
from yuvrel.connectors.http import ConnectorError
from yuvrel.outbox.models import Event
from yuvrel.sales.actions import fill_backorders

from . import exchange, offers, outward
from .access import kind_of
from .models import Connection, InboundMessage, OutboundMessage
from .runs import raise_snag, settle_snags

MOST_EVENTS = 2000
# Attempts and exceptions are both capped: by default every exception is retried for ever.
AGAIN = RetryStrategy(max_attempts=6, exponential_wait=3, retry_exceptions={ConnectorError})


@app.task(name="channels.relay")
def relay() -> None:
    """Turn recorded events into offers to push and messages to deliver."""
    relay_now()


@transaction.atomic
def relay_now() -> int:
    """The relay's work; returns how many events it took. Two at once share the events between them."""
    events = list(Event.objects.select_for_update(skip_locked=True).filter(done_at=None).order_by("pk")[:MOST_EVENTS])
    if not events:
        return 0
    by_kind: dict[str, dict[int, str]] = {}
    for event in events:
        by_kind.setdefault(event.kind, {})[event.subject_id] = event.cause
    items = by_kind.get(Event.Kind.AVAILABILITY, {})
    if items:
        fill_backorders(items)
    to_push = offers.recompute(dict(items)) if items else set()
    to_tell = outward.queue_ledger(by_kind.get(Event.Kind.LEDGER, {}))
    to_tell |= outward.queue_shipments(by_kind.get(Event.Kind.SHIPMENT, {}))
    to_tell |= outward.queue_purchase_orders(by_kind.get(Event.Kind.PURCHASE_ORDER, {}))
    Event.objects.filter(pk__in=[event.pk for event in events]).update(done_at=timezone.now())
    for connection_id in to_push:
        push_offers.configure(lock=f"connection:{connection_id}").defer(connection_id=connection_id)
    for connection_id in to_tell:
        deliver.configure(lock=f"deliver:{connection_id}").defer(connection_id=connection_id)
    if len(events) == MOST_EVENTS:
        relay.defer()
    return len(events)


@app.task(name="channels.push_offers", retry=AGAIN)
def push_offers(connection_id: int) -> None:
    """Push the pending offers of one connection; several requests in a row end up as one push."""
    connection = Connection.objects.get(pk=connection_id)
    if connection.state == Connection.State.LIVE and connection.listings.filter(offer_state="pending").exists():
        _guarded(connection, "push", lambda: offers.push(connection))


@app.task(name="channels.deliver", retry=AGAIN)
def deliver(connection_id: int) -> None:
    """Send what waits for one connection. A supplier that got an order is asked for its answer soon."""
    connection = Connection.objects.get(pk=connection_id)
    if outward.deliver(connection) and Can.PURCHASES in kind_of(connection).can:
        soon = exchange_orders.configure(lock=f"exchange:{connection_id}", schedule_in={"seconds": 3})
        soon.defer(connection_id=connection_id)


@app.task(name="channels.apply_inbound")
def apply_inbound(message_id: int) -> None:
    """Apply one kept message."""
    exchange.apply(message_id)


@app.task(name="channels.exchange", retry=RetryStrategy(max_attempts=2, wait=5, retry_exceptions={ConnectorError}))
def exchange_orders(connection_id: int) -> None:
    """Poll one connection: orders from a channel, answers from a supplier."""
    connection = Connection.objects.get(pk=connection_id)
    if connection.state != Connection.State.LIVE:
        return
    if Can.ORDERS in kind_of(connection).can:
        _guarded(connection, "exchange", lambda: exchange.poll(connection))
    if Can.PURCHASES in kind_of(connection).can:
        _guarded(connection, "exchange", lambda: outward.read_answers(connection, timezone.now()))


def _guarded(connection: Connection, kind: str, work: object) -> None:
    """Run; a fault of the far end opens a snag, and the next success closes it."""
    try:
        work()  # type: ignore[operator]
    except ConnectorError as error:
        raise_snag(connection, kind, f"{connection.name} does not answer as it should", str(error))
        raise
    settle_snags(kind, "it works again", connection=connection)


@app.periodic(cron="* * * * * */5")
@app.task(name="channels.pulse", queueing_lock="pulse", pass_context=False)
def pulse(timestamp: int) -> None:
    """Every few seconds: what is due, what was left over by a crash."""
    now = timezone.now()
    for connection in Connection.objects.filter(state=Connection.State.LIVE):
        can = kind_of(connection).can
        last = connection.last_exchange_at
        due = last is None or (now - last).total_seconds() >= connection.every_seconds
        if connection.automatic and due and (Can.ORDERS in can or Can.PURCHASES in can):
            Connection.objects.filter(pk=connection.pk).update(last_exchange_at=now)
            exchange_orders.configure(lock=f"exchange:{connection.pk}").defer(connection_id=connection.pk)
        if connection.listings.filter(offer_state="pending").exists():
            push_offers.configure(lock=f"connection:{connection.pk}").defer(connection_id=connection.pk)
    due_out = OutboundMessage.objects.filter(state="waiting", next_try_at__lte=now)
    for connection_id in set(due_out.values_list("connection_id", flat=True)):
        deliver.configure(lock=f"deliver:{connection_id}").defer(connection_id=connection_id)
    for message_id in InboundMessage.objects.filter(state="new").values_list("pk", flat=True)[:200]:
        apply_inbound.defer(message_id=message_id)
    if Event.objects.filter(done_at=None).exists():
        relay.defer()
