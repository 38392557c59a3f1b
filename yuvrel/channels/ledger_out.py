"""What the ledger is told: documents that book something, each once; and orders as quotes or sales orders, which book
nothing, whenever they stand otherwise."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import date
from decimal import Decimal
from typing import Any, cast

from django.utils import timezone

from yuvrel.books.actions import account_sums, mark_sent
from yuvrel.books.models import JournalEntry, LedgerDocument
from yuvrel.catalogue.models import TaxClass
from yuvrel.connectors.base import Connector, capable
from yuvrel.connectors.capabilities import Capability, Documents, LedgerOrders
from yuvrel.connectors.messages import LedgerDoc, LedgerOrder
from yuvrel.core.errors import RefusedError
from yuvrel.core.postings import their_account
from yuvrel.core.rules import OF_CONNECTIONS, Setting, meanings
from yuvrel.documents.registry import Moment, add_moments
from yuvrel.people.queries import company_day
from yuvrel.people.roles import Ability
from yuvrel.rules.queries import settled
from yuvrel.rules.registry import declare
from yuvrel.sales.models import SalesOrder
from yuvrel.sales.rules import OrderRules, order_rules_of

from . import ledger_known
from .mapping import mapping_of
from .models import Connection, OutboundMessage
from .queueing import live_one, queue, queue_again
from .rules import connection_rungs

ORDER = "ledger_order"
NEW = (SalesOrder.State.RECEIVED, SalesOrder.State.READY)

declare(
    Setting(
        "tax_codes",
        "Tax codes",
        "The ledger's code for each tax rate, beside each line of an invoice or an order. Without one: its code of the same "
        "rate, where it has one alone.",
        "map",
        "{}",
        levels=OF_CONNECTIONS,
        words="tax_rates",
        no_limit="its code of the same rate",
        most=20,
        group="Ledger",
        ability=Ability.CONNECT.value,
        needs="tax_codes",
    )
)


def rate_name(percent: Decimal) -> str:
    """A tax rate as a word: 23, 13.5."""
    return f"{percent.normalize():f}"


def usual_codes(connection: Connection) -> dict[str, str]:
    """The ledger's code of each rate, where it has one alone, as its last test told."""
    found: dict[str, list[str]] = {}
    for code, percent, _ in connection.test_report.get("tax_codes", []):
        found.setdefault(rate_name(Decimal(percent)), []).append(code)
    return {rate: codes[0] for rate, codes in found.items() if len(codes) == 1}


def tax_words(connection: Connection) -> list[dict[str, Any]]:
    """The rates in use here, with the code that is proposed for each."""
    usual = usual_codes(connection)
    rates = sorted(set(TaxClass.objects.values_list("percent", flat=True)))
    return [{"sort": "tax_rates", "word": rate_name(rate), "proposed": usual.get(rate_name(rate), "")} for rate in rates]


def codes_of(connection: Connection) -> dict[str, str]:
    """The ledger's code of each rate: what is set, else the usual one."""
    given = settled(connection_rungs(connection), ["tax_codes"])["tax_codes"].value
    return usual_codes(connection) | dict(meanings(str(given)))


def _coded(details: Iterable[Mapping[str, Any]], codes: Mapping[str, str]) -> list[dict[str, Any]]:
    """Lines with the ledger's tax code beside them, where it has one for their rate."""
    found = []
    for line in details:
        code = codes.get(rate_name(Decimal(str(line["tax_percent"])))) if "tax_percent" in line else None
        found.append({**line, "tax_code": code} if code else dict(line))
    return found


def queue_ledger(document_ids: Iterable[int]) -> set[int]:
    """Queue ledger documents for the live ledger, if there is one. Returns the connections to wake."""
    ledger = live_one(Capability.DOCUMENTS)
    return queue("ledger", document_ids, ledger) if ledger else set()


def ledger_message(document: LedgerDocument, connection: Connection) -> LedgerDoc:
    """A document in the ledger's own account codes. Raises RefusedError when a role is not mapped."""
    codes: dict[str, Decimal] = {}
    mapped = mapping_of(connection)
    for role, total in account_sums(document):
        code = their_account(mapped, role)
        if not code:
            raise RefusedError(f"No ledger account is mapped for {role}.", field="accounts")
        codes[code] = codes.get(code, Decimal(0)) + total
    entry = document.entry
    return LedgerDoc(
        number=document.number,
        kind=document.kind,
        date=(entry.date if entry else cast(date, document.day)).isoformat(),
        contact=document.contact,
        memo=f"{entry.document} {entry.memo}".strip() if entry else f"{document.gather}, all of the day",
        due=document.due_on.isoformat() if document.due_on else "",
        details=_coded(document.details, codes_of(connection)) if document.details else [],
        lines=[(code, amount) for code, amount in codes.items() if amount],
    )


def _order_of(entry: JournalEntry | None) -> SalesOrder | None:
    """The order that an entry's invoice or credit note is for, if it is one."""
    found = SalesOrder.objects.select_related("connection", "customer")
    if entry is not None and entry.kind == JournalEntry.Kind.INVOICE:
        return found.filter(shipments__invoice__number=entry.document).first()
    if entry is not None and entry.kind == JournalEntry.Kind.CREDIT:
        return found.filter(credits__number=entry.document).first()
    return None


def send_document(connector: Connector, row: OutboundMessage) -> str:
    """Book a document; the ledger's id of it. Whom and what it names is told first, where the rules say so; an invoice
    names its order, where the ledger was told of it."""
    document = LedgerDocument.objects.select_related("entry").get(pk=row.subject_id)
    message, order = ledger_message(document, row.connection), _order_of(document.entry)
    more: dict[str, Any] = {"details": ledger_known.with_items(connector, row.connection, message.details)}
    if order is not None:
        rules = order_rules_of([order.connection])[order.connection_id]
        more |= ledger_known.contact_of(connector, row.connection, order.customer, rules, document.contact)
        more["order"] = order.number if _told([order.pk]) else ""
    external = capable(connector, Documents).post_document(message.model_copy(update=more))
    mark_sent(document.pk, external, timezone.now())
    return str(external)


def _told(order_ids: Iterable[int]) -> set[int]:
    found = OutboundMessage.objects.filter(kind=ORDER, subject_id__in=list(order_ids))
    return set(found.values_list("subject_id", flat=True))


def queue_orders(order_ids: Iterable[int]) -> set[int]:
    """Queue orders for the live ledger, as they stand now: those that it is to know of, and those that it knows. One that
    is held or cancelled before the ledger knew of it is not told. Returns the connections to wake."""
    wanted = list(order_ids)
    ledger = live_one(Capability.LEDGER_ORDERS) if wanted else None
    if ledger is None:
        return set()
    known = _told(wanted)
    orders = list(SalesOrder.objects.filter(pk__in=wanted, kind=SalesOrder.Kind.ORDER).select_related("connection"))
    rules = order_rules_of({order.connection for order in orders})
    tell = [o.pk for o in orders if o.pk in known or (o.state in NEW and rules[o.connection_id].ledger_order != "no")]
    return queue_again(ORDER, tell, ledger) if tell else set()


def open_orders(connection: Connection) -> set[int]:
    """Orders of a connection of which nothing has left yet: what a changed rule tells the ledger of."""
    rows = SalesOrder.objects.filter(connection=connection, kind=SalesOrder.Kind.ORDER, state__in=NEW)
    return set(rows.values_list("pk", flat=True))


def state_of(state: str) -> str:
    """How an order that stands so stands in the ledger's words."""
    if state == SalesOrder.State.CANCELLED:
        return "cancelled"
    return "closed" if state in (SalesOrder.State.SHIPPED, SalesOrder.State.CLOSED) else "open"


def order_message(order: SalesOrder, rules: OrderRules, codes: Mapping[str, str]) -> LedgerOrder:
    """An order as the ledger is told of it: to whom its invoice will be booked, and what is in it."""
    on_account = bool(order.customer and order.customer.on_account)
    lines = list(order.lines.order_by("pk"))
    details = [line.told(line.quantity, line.net, line.tax) for line in lines]
    return LedgerOrder(
        number=order.number,
        kind="quote" if rules.ledger_order == "quote" else "order",
        date=company_day(order.placed_at).isoformat(),
        contact=rules.contact(order.customer, owed=on_account),
        memo=f"{order.connection.name} order {order.external_number}",
        state=cast(Any, state_of(order.state)),
        total=sum((line.net + line.tax for line in lines), Decimal(0)),
        details=_coded(details, codes),
    )


def send_order(connector: Connector, row: OutboundMessage) -> str:
    """Tell how an order stands; the ledger's id of it."""
    order = SalesOrder.objects.select_related("connection", "customer").get(pk=row.subject_id)
    rules = order_rules_of([order.connection])[order.connection_id]
    message = order_message(order, rules, codes_of(row.connection))
    more: dict[str, Any] = {"details": ledger_known.with_items(connector, row.connection, message.details)}
    more |= ledger_known.contact_of(connector, row.connection, order.customer, rules, message.contact)
    return capable(connector, LedgerOrders).put_order(message.model_copy(update=more))


def _moments(order: SalesOrder) -> list[Moment]:
    """What of an order the ledger was told last."""
    row = OutboundMessage.objects.filter(kind=ORDER, subject_id=order.pk).select_related("connection").first()
    if row is None:
        return []
    ledger, standing = row.connection.name, state_of(order.state)
    if row.state == OutboundMessage.State.SENT and row.sent_at:
        return [Moment(row.sent_at, "", f"{ledger} knows of it", standing)]
    return [Moment(row.next_try_at, "", f"{ledger} is still to be told", row.last_error)]


add_moments("order", _moments)
