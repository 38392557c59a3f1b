"""Background work: thin wrappers around the engine. Jobs take ids and may be run any number of times."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import date

from django.conf import settings
from django.db import transaction
from django.utils import timezone
from procrastinate.contrib.django import app
from procrastinate.exceptions import UniqueViolation
from procrastinate.jobs import Status

from yuvrel.books.actions import gather_days
from yuvrel.connectors.capabilities import Capability
from yuvrel.connectors.http import ConnectorError
from yuvrel.core.errors import YuvrelError
from yuvrel.events.actions import Consumer, have_waiting, subscribe, waiting_for, wake, wake_consumer
from yuvrel.events.models import Event
from yuvrel.ownership import company_id
from yuvrel.people import mail
from yuvrel.people.epochs import HELD, is_held
from yuvrel.people.jobs import company_job, every
from yuvrel.people.models import User
from yuvrel.people.queries import company_day
from yuvrel.people.roles import SYSTEM, Actor, Role
from yuvrel.pricing.actions import begin_day
from yuvrel.rules.models import SettingChange
from yuvrel.sales.allocation import fill_backorders, give_up_short

from . import (
    close_intake,
    group_prices,
    inbound,
    ledger_known,
    ledger_out,
    linking,
    offers,
    order_states,
    outbound,
    picture_intake,
    price_intake,
    prices,
    publishing,
    publishing_by_rule,
    refreshing,
    sql,
    submissions,
    survey,
)
from .credentials import kind_of, kinds_that
from .models import Connection, InboundMessage, OutboundMessage, Run, Snag
from .price_rules import owner_of
from .quarantine import attempt
from .rules import connection_value, reaches
from .runs import account_failed, account_works, cannot, forget_calls, raise_snag, settle_snags
from .schedules import BY_NAME, all_set, due_parts, is_wanted, parts_of

MOST_EVENTS = 2000
# A worker gives a sign of life every HEARTBEAT seconds; without one for STALLED it counts as dead.
HEARTBEAT, STALLED = 5, 20


def wake_push(connection_id: int) -> None:
    """Have the pending offers of a connection pushed."""
    wake("channels.push_offers", f"connection:{connection_id}", connection_id=connection_id)


def wake_prices(connection_id: int) -> None:
    """Have the pending prices of a connection pushed."""
    wake("channels.push_prices", f"prices:{connection_id}", connection_id=connection_id)


def wake_texts(connection_id: int) -> None:
    """Have the titles and descriptions that changed told."""
    wake("channels.tell_texts", f"texts:{connection_id}", connection_id=connection_id)


def wake_deliver(connection_id: int) -> None:
    """Have what waits for a connection sent."""
    wake("channels.deliver", f"deliver:{connection_id}", connection_id=connection_id)


def wake_exchange(connection_id: int, part: str = "") -> None:
    """Have a connection asked for news, for one part or for all but its listings."""
    connection = Connection.objects.get(pk=connection_id)
    for one in parts_of(connection):
        if one.name == part or (not part and one.name != "listings"):
            wake("channels.exchange", f"{one.name}:{connection_id}", connection_id=connection_id, part=one.name)


Events = Sequence[Event]
# The connections that have something to do after some events.
Woken = set[int]


@company_job("channels.relay_offers")
def relay_offers() -> None:
    """Turn what happened to stock and to rules into quantities to push."""
    consume("offers")


@company_job("channels.relay_prices")
def relay_prices() -> None:
    """Turn what happened to prices and to rules into prices to push."""
    consume("prices")


@company_job("channels.relay_texts")
def relay_texts() -> None:
    """Turn changes of products and templates into titles and descriptions to tell."""
    consume("texts")


@company_job("channels.relay_messages")
def relay_messages() -> None:
    """Turn shipments, documents and orders into messages to deliver, and faults of rows into snags."""
    consume("messages")


def relay_now() -> int:
    """Every consumer's work, one after the other; returns how many events they took."""
    taken, waiting = 0, have_waiting()
    for name in RELAYS:
        if name in waiting:
            taken += consume(name)
            waiting = have_waiting()
    return taken


@transaction.atomic
def consume(name: str) -> int:
    """One consumer's work; returns how many events it took. Two at once take turns; others are not waited for.

    Should one event go wrong, each is taken by itself, and that one is set aside as a Snag.
    """
    relay = RELAYS[name]
    sql.alone(f"{name}:{company_id()}")
    events = list(waiting_for(name).select_for_update()[:MOST_EVENTS])
    if not events:
        return 0
    try:
        woken = attempt(lambda: relay.work(events), f"{len(events)} events")
    except YuvrelError:
        woken = set[int]().union(*(_one(relay, event) for event in events))
    Event.objects.filter(pk__in=[event.pk for event in events]).update(done_at=timezone.now())
    for connection_id in woken:
        relay.wake(connection_id)
    if len(events) == MOST_EVENTS:
        wake_consumer(name)
    return len(events)


def _one(relay: Relay, event: Event) -> Woken:
    try:
        return attempt(lambda: relay.work([event]), f"event {event.pk}")
    except YuvrelError as error:
        title = f"What followed from {event.cause or event.kind} could not be carried out"
        raise_snag(None, "event", title, f"{error.detail} It concerns {event.kind.replace('_', ' ')} {event.subject_id}.")
        return set()


def _by_kind(events: Events) -> dict[str, dict[int, str]]:
    found: dict[str, dict[int, str]] = defaultdict(dict)
    for event in events:
        found[event.kind][event.subject_id] = event.cause
    return found


def _offer(events: Events) -> Woken:
    """Backorders are served or given up first; then offers are worked out anew."""
    by_kind = _by_kind(events)
    items = by_kind[Event.Kind.AVAILABILITY]
    rules = by_kind[Event.Kind.RULES] | group_prices.connections_of(by_kind[Event.Kind.CUSTOMER_GROUP])
    if items:
        give_up_short(SYSTEM, items)
        fill_backorders(items)
    woken = offers.recompute(dict(items)) if items else set()
    woken |= offers.recompute_connections(rules) if rules else set()
    changes = list(SettingChange.objects.filter(pk__in=by_kind[Event.Kind.SETTING]))
    return woken | (offers.recompute_rules(changes) if changes else set())


def _price(events: Events) -> Woken:
    """Of whole lists everything is worked out, and nothing else need be."""
    by_kind = _by_kind(events)
    lists, items = by_kind[Event.Kind.PRICE_LIST], by_kind[Event.Kind.PRICE]
    rules = by_kind[Event.Kind.RULES] | group_prices.connections_of(by_kind[Event.Kind.CUSTOMER_GROUP])
    moved = by_kind[Event.Kind.COST]
    if moved and not lists and prices.follows_cost():
        items = moved | items
    # Titles may say what an item costs.
    for connection in refreshing.note_changes((), (), None if lists or rules else items):
        wake_texts(connection)
    if lists:
        return prices.recompute_lists(lists)
    woken = prices.recompute_items(items) if items else set()
    woken |= prices.recompute_connections(rules) if rules else set()
    changes = list(SettingChange.objects.filter(pk__in=by_kind[Event.Kind.SETTING]))
    return woken | (prices.recompute_rules(changes) if changes else set())


def _tell(events: Events) -> Woken:
    by_kind = _by_kind(events)
    for subject_id, said in by_kind[Event.Kind.FAULT].items():
        raise_snag(None, Snag.Kind.ROW, "A row of a sheet cannot be worked out", said, field=f"row {subject_id}")
    open_ones = set[int]()
    stand = set(by_kind[Event.Kind.ORDER])
    names = ("order_states", "ledger_order", "states_told")
    for change in SettingChange.objects.filter(pk__in=by_kind[Event.Kind.SETTING], name__in=names):
        for connection in Connection.objects.filter(reaches(change)):
            if change.name == "order_states":
                inbound.read_again(connection)
            elif change.name == "ledger_order":
                open_ones |= ledger_out.open_orders(connection)
            else:
                stand |= order_states.waiting_orders(connection)
    woken = ledger_out.queue_ledger(by_kind[Event.Kind.LEDGER])
    woken |= ledger_out.queue_orders({*by_kind[Event.Kind.ORDER], *open_ones})
    woken |= order_states.queue_states(stand)
    inbound.settle_held(by_kind[Event.Kind.ORDER])
    woken |= ledger_known.queue_contacts(by_kind[Event.Kind.CUSTOMER])
    woken |= outbound.queue_shipments(by_kind[Event.Kind.SHIPMENT])
    woken |= outbound.queue_refunds(by_kind[Event.Kind.REFUND])
    return woken | outbound.queue_purchase_orders(by_kind[Event.Kind.PURCHASE_ORDER])


def _text(events: Events) -> Woken:
    by_kind = _by_kind(events)
    changes = SettingChange.objects.filter(pk__in=by_kind[Event.Kind.SETTING])
    return refreshing.note_changes(by_kind[Event.Kind.TEXT], changes)


@dataclass(frozen=True)
class Relay:
    """What a consumer does with events, and how the connections that follow are woken."""

    work: Callable[[Events], Woken]
    wake: Callable[[int], None]


RELAYS = {
    "offers": Relay(_offer, wake_push),
    "prices": Relay(_price, wake_prices),
    "texts": Relay(_text, wake_texts),
    "messages": Relay(_tell, wake_deliver),
}
OF_BOTH = {Event.Kind.RULES, Event.Kind.SETTING, Event.Kind.CUSTOMER_GROUP}
OF_QUANTITIES = frozenset({Event.Kind.AVAILABILITY, *OF_BOTH})
OF_PRICES = frozenset({Event.Kind.PRICE, Event.Kind.PRICE_LIST, Event.Kind.COST, *OF_BOTH})
TO_TELL = frozenset(
    {
        Event.Kind.LEDGER,
        Event.Kind.ORDER,
        Event.Kind.CUSTOMER,
        Event.Kind.SHIPMENT,
        Event.Kind.REFUND,
        Event.Kind.PURCHASE_ORDER,
        Event.Kind.FAULT,
        Event.Kind.SETTING,
    }
)
subscribe(Consumer("offers", OF_QUANTITIES, relay_offers.name))
subscribe(Consumer("prices", OF_PRICES, relay_prices.name))
subscribe(Consumer("texts", frozenset({Event.Kind.TEXT, Event.Kind.SETTING}), relay_texts.name))
subscribe(Consumer("messages", TO_TELL, relay_messages.name))


@company_job("channels.tell_texts")
def tell_texts(connection_id: int) -> None:
    """Tell the titles and descriptions of one connection that changed here."""
    connection = _sending(connection_id)
    if connection and connection.listings.filter(texts_due_at__isnull=False).exists():
        _guarded(connection, "exchange", lambda: refreshing.tell_due(connection))
        _ask_soon(connection, "feeds")


@company_job("channels.push_offers")
def push_offers(connection_id: int) -> None:
    """Push the pending offers of one connection; several requests in a row end up as one push."""
    connection = _sending(connection_id)
    if connection and connection.listings.filter(offer_state="pending").exists():
        _guarded(connection, "push", lambda: offers.push(connection))
        _ask_soon(connection, "feeds")


@company_job("channels.push_prices")
def push_prices(connection_id: int) -> None:
    """Push the pending prices of one connection."""
    connection = _sending(connection_id)
    if connection and connection.pk in prices.are_waiting():
        _guarded(connection, "prices", lambda: prices.push(connection))
        _ask_soon(connection, "feeds")


@company_job("channels.deliver")
def deliver(connection_id: int) -> None:
    """Send what waits for one connection. A supplier that got an order is asked for its answer soon."""
    connection = _sending(connection_id)
    if connection and outbound.deliver(connection):
        _ask_soon(connection, "answers")


def _ask_soon(connection: Connection, part: str) -> None:
    """Ask a connection for what it will say in a moment, if its kind says anything like that."""
    if BY_NAME[part].needs in kind_of(connection).can and is_wanted(connection, BY_NAME[part]):
        soon = exchange.configure(lock=f"{part}:{connection.pk}", schedule_in={"seconds": 3})
        soon.defer(connection_id=connection.pk, part=part, company=company_id())


@company_job("channels.apply_inbound")
def apply_inbound(message_id: int) -> None:
    """Apply one kept message."""
    inbound.apply(message_id)


@company_job("channels.exchange")
def exchange(connection_id: int, part: str) -> None:
    """Ask one connection for one part: orders, prices changed there, a supplier's answers, listings."""
    connection = _at_work(connection_id)
    if connection is not None:
        ask_for(connection, part)


def ask_for(connection: Connection, part: str) -> None:
    """Read a part of a connection; a fault of the account is told and passes."""
    if part == "prices" and owner_of(connection) != "there":
        return
    _guarded(connection, "exchange", lambda: ASKED[part](connection))


ASKED: dict[str, Callable[[Connection], object]] = {
    "orders": lambda connection: inbound.poll(connection),
    "prices": lambda connection: price_intake.take_changes(connection, timezone.now()),
    "closes": lambda connection: _closes(connection),
    "feeds": lambda connection: _collect(connection),
    "answers": lambda connection: outbound.read_answers(connection, timezone.now()),
    "listings": lambda connection: linking.take_listings(SYSTEM, connection.pk, timezone.now(), create=False),
}


def _closes(connection: Connection) -> None:
    """Tills that were closed; what was sold before is heard of first."""
    inbound.poll(connection)
    close_intake.take_closes(connection, timezone.now())


def _collect(connection: Connection) -> None:
    """What came of batches; what was worked out anew while they were under way goes out now."""
    if submissions.collect(connection):
        wake_push(connection.pk)
        wake_prices(connection.pk)


@company_job("channels.listings")
def take_listings(run_id: int, create: int, by: str, role: str, user_id: int) -> None:
    """Read all listings of a connection for somebody who asked for it. A run whose worker died is begun anew."""
    run = Run.objects.select_related("connection").get(pk=run_id)
    if run.state != Run.State.RUNNING:
        return
    actor = Actor(by, Role(role), user_id or None)

    def work() -> None:
        try:
            linking.take_listings(actor, run.connection_id, timezone.now(), create=bool(create), begun=run)
        except YuvrelError as error:
            cannot(run, error.detail)

    _guarded(run.connection, "exchange", work)
    _report(run_id, user_id)


@company_job("channels.pair_new")
def pair_new(connection_id: int) -> None:
    """Pair listings that an account told of by itself."""
    linking.pair_new(Connection.objects.get(pk=connection_id))


@company_job("channels.pictures")
def take_pictures(run_id: int) -> None:
    """Take in pictures of products that have none. A run whose worker died is begun anew: what is here stays."""
    run = Run.objects.select_related("connection").get(pk=run_id)
    if run.state == Run.State.RUNNING:
        _guarded(run.connection, "exchange", lambda: picture_intake.take_pictures(run))


@company_job("channels.survey")
def look_around(run_id: int, since: str) -> None:
    """Look at what would come in from a connection. A run whose worker died is begun anew."""
    run = Run.objects.select_related("connection").get(pk=run_id)
    if run.state == Run.State.RUNNING:
        _guarded(run.connection, "exchange", lambda: survey.look(run, date.fromisoformat(since)))


@company_job("channels.intake")
def first_intake(run_id: int, listings: str, since: str, by: str, role: str, user_id: int) -> None:
    """Take in what was chosen before a connection goes live, and report it to who asked."""
    run = Run.objects.select_related("connection").get(pk=run_id)
    if run.state != Run.State.RUNNING:
        return
    actor = Actor(by, Role(role), user_id or None)

    def work() -> None:
        try:
            survey.take(run, actor, listings, date.fromisoformat(since) if since else None)
        except YuvrelError as error:
            cannot(run, error.detail)

    _guarded(run.connection, "exchange", work)
    _report(run_id, user_id)


@company_job("channels.publish")
def publish(run_id: int, ids: str) -> None:
    """Hand in what was chosen to be listed. A run whose worker died is begun anew: what is under way stays so."""
    run = Run.objects.select_related("connection").get(pk=run_id)
    if run.state != Run.State.RUNNING:
        return
    if is_held():
        cannot(run, HELD)
        return

    def work() -> None:
        try:
            publishing.publish(run, [int(one) for one in ids.split(",")])
        except YuvrelError as error:
            cannot(run, error.detail)

    _guarded(run.connection, "exchange", work)
    _ask_soon(run.connection, "feeds")


@company_job("channels.refresh")
def refresh_texts(run_id: int, ids: str) -> None:
    """Tell listings their texts anew. A run whose worker died is begun anew: the same texts are told."""
    run = Run.objects.select_related("connection").get(pk=run_id)
    if run.state != Run.State.RUNNING:
        return
    if is_held():
        cannot(run, HELD)
        return

    def work() -> None:
        try:
            refreshing.refresh(run, [int(one) for one in ids.split(",")])
        except YuvrelError as error:
            cannot(run, error.detail)

    _guarded(run.connection, "exchange", work)
    _ask_soon(run.connection, "feeds")


def _report(run_id: int, user_id: int) -> None:
    """Mail to who asked for it what a finished run came to."""
    run = Run.objects.select_related("connection").get(pk=run_id)
    user = User.objects.filter(pk=user_id).exclude(email="").first()
    if user is None or run.state == Run.State.RUNNING:
        return
    counts = f"{run.taken} new, {run.changed} changed, {run.unchanged} unchanged, {run.failed} could not be read."
    link = f"{settings.PUBLIC_ADDRESS}/connections/runs/{run.pk}"
    text = "\n".join([counts, *(said for _, said in run.log), "", link])
    what = "first intake" if run.kind == "intake" else "listings"
    mail.send([user.email], f"The {what} of {run.connection.name}: {run.state}", text)


def _at_work(connection_id: int) -> Connection | None:
    """The connection, when it is live and its account is not being left alone after a fault."""
    row = Connection.objects.filter(pk=connection_id, state=Connection.State.LIVE).first()
    return None if row is None or (row.pause_until and row.pause_until > timezone.now()) else row


def _sending(connection_id: int) -> Connection | None:
    """The same, unless the company sends nothing since it was restored."""
    return None if is_held() else _at_work(connection_id)


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


@every("* * * * * */5", "channels.pulse")
def pulse() -> None:
    """Every few seconds: what is due, what was left over by a crash."""
    now = timezone.now()
    offers.retry_held(now)
    prices.retry_held(now)
    begin_day(company_day(now))
    _begin_offer_day(company_day(now))
    gather_days(company_day(now))
    _close_idle_snags()
    at_work = Connection.objects.filter(state=Connection.State.LIVE).exclude(pause_until__gt=now)
    for connection, part in due_parts(list(at_work), now):
        wake_exchange(connection.pk, part.name)
    repricing = prices.are_waiting()
    for connection in at_work:
        if connection.listings.filter(offer_state="pending").exists():
            wake_push(connection.pk)
        if connection.listings.filter(texts_due_at__isnull=False).exists():
            wake_texts(connection.pk)
        if connection.pk in repricing:
            wake_prices(connection.pk)
    due_out = OutboundMessage.objects.filter(state="waiting", next_try_at__lte=now, connection__in=at_work)
    due_out = due_out.none() if is_held() else due_out
    for connection_id in set(due_out.values_list("connection_id", flat=True)):
        wake_deliver(connection_id)
    for message_id in InboundMessage.objects.filter(state="new").order_by("pk").values_list("pk", flat=True)[:200]:
        wake(apply_inbound.name, f"inbound:{message_id}", message_id=message_id)
    for name in RELAYS:
        if waiting_for(name).exists():
            wake_consumer(name)


@every("*/10 * * * *", "channels.publish_by_rule")
def publish_by_rule() -> None:
    """New listings are prepared and handed in where a rule says that they are by themselves."""
    now = timezone.now()
    at_work = Connection.objects.filter(state=Connection.State.LIVE).exclude(pause_until__gt=now)
    if is_held():
        return
    for connection in at_work.filter(kind__in=kinds_that(Capability.PUBLISHING)):
        publishing_by_rule.carry_out(connection)


@transaction.atomic
def _begin_offer_day(today: date) -> None:
    for connection_id in offers.begin_day(today):
        wake_push(connection_id)


@every("17 * * * *", "channels.tidy")
def tidy() -> None:
    """Payloads that were kept long enough are deleted."""
    kept = all_set()
    connections = Connection.objects.all()
    days = {row.pk: int(str(connection_value("keep_calls_days", row, kept))) for row in connections}
    forget_calls(days, timezone.now())


def _close_idle_snags() -> None:
    """A fault of the account closes with the next success; where nothing waits any more, none would come."""
    repricing = prices.are_waiting()
    for snag in Snag.objects.filter(kind="prices", resolved_at=None).exclude(connection__in=repricing):
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
