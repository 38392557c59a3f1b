"""Before a connection goes live: what would come in, counted with examples, and what is taken in then: listings, and the
orders of the time before as history. Nothing here tells the account anything."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import date
from itertools import chain, islice
from typing import Any

from django.utils import timezone

from yuvrel.connectors.base import pages
from yuvrel.connectors.capabilities import Capability, Listings, Orders
from yuvrel.connectors.http import ConnectorError
from yuvrel.connectors.messages import RemoteListing, RemoteOrder, Unreadable
from yuvrel.core.errors import BadInputError, ForbiddenError, RefusedError, YuvrelError
from yuvrel.core.pairing import ListingFacts
from yuvrel.events.actions import wake
from yuvrel.people.queries import company_day, start_of_day
from yuvrel.people.roles import SYSTEM, Ability, Actor, audit
from yuvrel.planning.forecasts import begin_run
from yuvrel.sales.history import take_past
from yuvrel.sales.models import Customer, SalesOrder
from yuvrel.sales.rules import OrderRules, order_rules
from yuvrel.stock.models import StockBalance

from .actions import get_connection
from .credentials import connector_as, kind_of
from .inbound import CANCELLED, HELD, TAKEN, incoming_order, meaning, read_order, resolve
from .linking import pairing_index, take_listings
from .listing_facts import FactRules, why_not
from .models import Connection, Run
from .quarantine import attempt, read_row
from .runs import RunLog, begin, run_of

EXAMPLES = 10
MOST_YEARS = 5


@dataclass
class Group:
    """Things of one sort that would come in: how many, and the first of them as (what, more of it)."""

    label: str
    count: int = 0
    examples: list[list[str]] = field(default_factory=list)

    def add(self, what: str, more: str = "") -> None:
        """Count one, and keep it as an example while there are few."""
        self.count += 1
        if len(self.examples) < EXAMPLES:
            self.examples.append([what[:120], more[:160]])


class Part:
    """One part of what would come in, in groups."""

    def __init__(self, name: str, label: str, groups: dict[str, str]) -> None:
        self.name, self.label = name, label
        self.groups = {key: Group(text) for key, text in groups.items()}

    def told(self) -> dict[str, Any]:
        """As it is kept."""
        groups = [vars(group) for group in self.groups.values() if group.count]
        return {"name": self.name, "label": self.label, "count": sum(g["count"] for g in groups), "groups": groups}


def ask_survey(actor: Actor, connection_id: int, since: date) -> Run:
    """A run that looks at what would come in, orders from a day on; a job carries it out."""
    connection = _may(actor, connection_id, since)
    run = begin(connection, "survey", actor.name)
    wake("channels.survey", f"survey:{connection.pk}", run_id=run.pk, since=since.isoformat())
    return run


def ask_intake(actor: Actor, connection_id: int, *, listings: str, since: date | None) -> Run:
    """A run that takes in listings (`match` or `create`; empty: none) and the orders from a day on as history."""
    if listings not in ("", "match", "create"):
        raise BadInputError("Listings are matched, or items are created of them, or neither.", field="listings")
    connection = _may(actor, connection_id, since)
    if listings == "create":
        actor.need(Ability.EDIT_RANGE)
    run = begin(connection, "intake", actor.name)
    values: dict[str, int | str] = {"run_id": run.pk, "listings": listings, "since": since.isoformat() if since else ""}
    wake("channels.intake", f"intake:{connection.pk}", role=actor.role.value, by=actor.name, user_id=actor.user_id or 0, **values)
    return run


def _may(actor: Actor, connection_id: int, since: date | None) -> Connection:
    actor.need(Ability.CONNECT)
    connection = get_connection(connection_id)
    if connection.state == Connection.State.DRAFT:
        raise RefusedError("Test the connection first.", field="state")
    today = company_day(timezone.now())
    if since is not None and not (since <= today and today.year - since.year <= MOST_YEARS):
        raise BadInputError(f"Look back to a day of the last {MOST_YEARS} years.", field="since")
    return connection


def look(run: Run, since: date) -> None:
    """Read everything once and count it; what was found is kept with the connection. Nothing comes in."""
    connection, kind = run.connection, kind_of(run.connection)
    with run_of(connection, "survey", run) as log:
        parts: list[Part] = []
        if issubclass(kind, Listings):
            parts += _listings(connection, log)
        if issubclass(kind, Orders):
            parts += _orders(connection, since, log)
        told = [part.told() for part in parts]
        kept = {"at": timezone.now().isoformat(), "since": since.isoformat(), "parts": told, "gives_no": list(kind.gives_no)}
        Connection.objects.filter(pk=connection.pk).update(survey=kept)
        log.note(", ".join(f"{part['count']} {part['label'].lower()}" for part in told))


def _listings(connection: Connection, log: RunLog) -> list[Part]:
    found = Part(
        "listings",
        "Listings",
        {
            "known": "are known here",
            "match": "match an item by SKU or barcode",
            "new": "match nothing: paired by hand, or new items",
            "left": "match nothing, and become no items by themselves",
            "clash": "clash: SKU and barcode name different items",
            "odd": "cannot be read",
        },
    )
    there = Part(
        "quantities",
        "Items with a quantity there",
        {"without": "have no stock here yet: enter it as opening stock", "with": "have stock here"},
    )
    index, rules = pairing_index(), FactRules.of(connection)
    stocked = set(StockBalance.objects.exclude(on_hand=0).values_list("item_id", flat=True))
    known = dict(connection.listings.values_list("external_id", "item_id"))  # type: ignore[attr-defined]
    connector = connector_as(connection, Listings)
    for page in pages(connector.listings):
        for row in (read_row(connector.read_listing, raw) for raw in page.rows):
            if not isinstance(row, RemoteListing):
                found.groups["odd"].add(row.external_id or "one without an id", row.detail)
                continue
            verdict = index.verdict(ListingFacts(row.sku, row.barcode, row.title), most=0)
            item = known.get(row.external_id) or verdict.linked
            group = "known" if row.external_id in known else "match" if item else "clash" if verdict.clash else "new"
            left = why_not(row, rules) if group == "new" else ""
            found.groups["left" if left else group].add(
                row.title, " · ".join(part for part in (row.sku, row.barcode, left) if part)
            )
            if item and row.quantity and not row.service:
                there.groups["with" if item in stocked else "without"].add(row.title, f"{row.quantity.normalize():f}")
        log.step(done=len(page.rows), total=len(page.rows))
    return [found, there]


def _orders(connection: Connection, since: date, log: RunLog) -> list[Part]:
    open_ones = Part(
        "open_orders",
        "Open orders",
        {
            "whole": "come in when it goes live",
            "nameless": "have a line that no item is known for, and would be held",
            "other": "are in a state that is not imported",
        },
    )
    past = Part(
        "past_orders",
        "Past orders",
        {"whole": "count as demand", "nameless": "have a line that no item is known for", "here": "are here already"},
    )
    people = Part("customers", "Customers", {"known": "are known here", "new": "are new"})
    odd = Part("odd", "Orders that cannot be read", {"odd": "are set aside one by one"})
    here = set(connection.orders.values_list("external_id", flat=True))  # type: ignore[attr-defined]
    known = {mail.lower() for mail in Customer.objects.exclude(email="").values_list("email", flat=True)}
    names = set(Customer.objects.values_list("name", flat=True))
    seen: set[str] = set()
    rules = order_rules(connection)
    for order, nameless in _named(connection, since, log):
        if isinstance(order, Unreadable):
            odd.groups["odd"].add(order.number or order.external_id or "one without a number", order.detail)
            continue
        means = meaning(connection, order.status, rules)
        if means == CANCELLED:
            continue
        what, more = f"{order.number}, {order.placed_at:%d %b %Y}", f"{order.customer.name} · {order.total} {order.currency}"
        if is_past(connection, order):
            past.groups["here" if order.external_id in here else "nameless" if nameless else "whole"].add(what, more.strip(" ·"))
        elif order.external_id not in here:
            wanted = means in (TAKEN, HELD)
            open_ones.groups["other" if not wanted else "nameless" if nameless else "whole"].add(what, more.strip(" ·"))
        who = order.customer.email.lower() or order.customer.name
        if who and who not in seen:
            seen.add(who)
            group = "known" if who in known or order.customer.name in names else "new"
            people.groups[group].add(order.customer.name or who, order.customer.email)
    return [open_ones, past, people, odd]


def _named(connection: Connection, since: date, log: RunLog) -> Iterator[tuple[RemoteOrder | Unreadable, bool]]:
    """Every order from a day on, and whether no item is known for a line of it; their lines are named page by page."""
    for orders in _read(connection, since, log):
        lines = iter(resolve(connection, [line for order in orders if isinstance(order, RemoteOrder) for line in order.lines]))
        for order in orders:
            found = list(islice(lines, len(order.lines))) if isinstance(order, RemoteOrder) else []
            yield order, any(line.kind == "item" and line.item_id is None for line in found)


def is_past(connection: Connection, order: RemoteOrder) -> bool:
    """Whether nothing of it is left to be done: a sale that had happened, or an order that was sent."""
    kind = kind_of(connection)
    return order.done or (issubclass(kind, Orders) and kind.sales_already_happened)


def _read(connection: Connection, since: date, log: RunLog) -> Iterator[list[RemoteOrder | Unreadable]]:
    """Every order placed from a day on, as far as the account still has it, page by page."""
    begin_at = start_of_day(since)
    connector, now = connector_as(connection, Orders), timezone.now()
    for page in pages(lambda cursor: connector.orders(begin_at.isoformat(), cursor)):
        found = [read_order(connector, raw, now) for raw in page.rows]
        yield [order for order in found if isinstance(order, Unreadable) or order.placed_at >= begin_at]
        log.step(done=len(page.rows), total=len(page.rows))


def take(run: Run, actor: Actor, listings: str, since: date | None) -> None:
    """Take in what was chosen: listings first, so that past orders find their items."""
    connection = run.connection
    with run_of(connection, "intake", run) as log:
        if listings and Capability.LISTINGS in kind_of(connection).can:
            read = take_listings(actor, connection.pk, timezone.now(), create=listings == "create")
            log.note(f"listings: {read.taken} new, {read.changed} changed, {read.failed} could not be read")
            log.step(done=read.done, total=read.done, taken=read.taken, changed=read.changed, failed=read.failed)
        if since is not None and Capability.ORDERS in kind_of(connection).can:
            _take_past(actor, connection, since, log)
        audit(actor, "first intake", "connection", connection.pk, after={"listings": listings, "since": str(since or "")})


def _take_past(actor: Actor, connection: Connection, since: date, log: RunLog) -> None:
    """Past orders as history, each by itself; what is sold is forecast anew when there were any."""
    counts: Counter[str] = Counter()
    rules = order_rules(connection)
    for order in chain.from_iterable(_read(connection, since, log)):
        if isinstance(order, Unreadable):
            counts["could not be read"] += 1
            log.note(f"{order.number or order.external_id or 'an order'}: {order.detail}")
        elif connection.live_since and order.placed_at >= connection.live_since:
            # It moves stock and is posted when it is read as a living one; as history it never would.
            counts["since it went live"] += 1
        elif is_past(connection, order) or meaning(connection, order.status, rules) == CANCELLED:
            counts[_past(connection, order, rules, log)] += 1
        else:
            counts["still open"] += 1
    log.taken += counts["new"]
    log.changed += counts["changed"]
    log.unchanged += counts["unchanged"]
    log.failed += counts["could not be read"] + counts["could not be taken in"]
    said = ", ".join(f"{count} {what}" for what, count in sorted(counts.items()))
    log.note(f"orders from {since:%d %b %Y} on as history: {said or 'none'}")
    if counts["new"] or counts["changed"]:
        # What one that is under way does not read is forecast anew after it.
        with suppress(RefusedError, ForbiddenError):
            begin_run(actor, timezone.now())


def _past(connection: Connection, order: RemoteOrder, rules: OrderRules, log: RunLog) -> str:
    kind = SalesOrder.Kind.SENT if order.sent_by_channel else SalesOrder.Kind.ORDER
    by_kind = kind_of(connection)
    if issubclass(by_kind, Orders) and by_kind.sales_already_happened:
        kind = SalesOrder.Kind.TILL
    # The goods have left: where they did, no place need stand for.
    told = order.model_copy(update={"sent_by_channel": False}) if not connection.their_place_id else order
    try:
        return attempt(lambda: take_past(SYSTEM, incoming_order(connection, told, rules), kind), f"order {order.number}")
    except (YuvrelError, ConnectorError) as error:
        log.note(f"{order.number}: {error.detail if isinstance(error, YuvrelError) else error}")
        return "could not be taken in"
