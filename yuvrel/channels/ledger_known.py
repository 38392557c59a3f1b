"""Contacts and items that the ledger keeps: told before a document names them, and again when they changed here."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from hashlib import sha256
from typing import Any

from django.utils import timezone

from yuvrel.catalogue.models import Item
from yuvrel.catalogue.products import items_of
from yuvrel.connectors.base import Connector, capable
from yuvrel.connectors.capabilities import Capability, LedgerContacts, LedgerItems
from yuvrel.connectors.http import ConnectorError
from yuvrel.connectors.messages import LedgerContact, LedgerItem, Message
from yuvrel.core.errors import RefusedError
from yuvrel.core.gtin import normal_sku
from yuvrel.core.rules import OF_CONNECTIONS, Setting
from yuvrel.people.roles import Ability
from yuvrel.rules.queries import settled
from yuvrel.rules.registry import declare
from yuvrel.sales.models import Customer
from yuvrel.sales.rules import OrderRules

from .credentials import kind_of
from .models import Connection, OutboundMessage
from .queueing import queue_again
from .rules import connection_rungs

CONTACT, ITEM = "ledger_contact", "ledger_item"

declare(
    Setting(
        "ledger_items",
        "Items in the ledger",
        "Whether the ledger keeps the items that are sold, so that the lines of a document name them.",
        "choice",
        "no",
        choices=(("no", "lines say a title and a SKU only"), ("sold", "what is sold is an item there")),
        levels=OF_CONNECTIONS,
        group="Ledger",
        ability=Ability.CONNECT.value,
        needs=Capability.LEDGER_ITEMS.value,
    )
)


def key_of(kind: str, subject_id: int) -> str:
    """By what the ledger knows a customer or an item: C12, I7. It stays, whatever the name or the SKU becomes."""
    return f"{'C' if kind == CONTACT else 'I'}{subject_id}"


def contact_message(customer: Customer) -> LedgerContact:
    """A customer as the ledger keeps it."""
    address: Mapping[str, Any] = customer.address or {}
    return LedgerContact(
        key=key_of(CONTACT, customer.pk),
        name=customer.name,
        email=customer.email,
        **{name: str(address.get(name) or "") for name in ("street", "city", "postcode", "country")},
        on_account=customer.on_account,
        days=customer.payment_days,
    )


def item_message(item: Item) -> LedgerItem:
    """An item as the ledger keeps it."""
    return LedgerItem(key=key_of(ITEM, item.pk), sku=item.sku, title=item.title, unit=item.unit)


def _put_contact(connector: Connector, message: Any) -> str:
    return capable(connector, LedgerContacts).put_contact(message)


def _put_item(connector: Connector, message: Any) -> str:
    return capable(connector, LedgerItems).put_item(message)


PUT: Mapping[str, Callable[[Connector, Any], str]] = {CONTACT: _put_contact, ITEM: _put_item}


def _digest(message: Message) -> str:
    return sha256(message.model_dump_json().encode()).hexdigest()[:16]


def have_known(connector: Connector, connection: Connection, kind: str, messages: Mapping[int, Message]) -> None:
    """Tell the ledger of what it does not know, or knows otherwise than it is now; `messages` by subject.

    Raises ConnectorError, and RefusedError saying what the ledger did not take.
    """
    told = OutboundMessage.objects.filter(kind=kind, connection=connection, subject_id__in=list(messages))
    known = {row.subject_id: row.answer.get("digest") for row in told.filter(state=OutboundMessage.State.SENT)}
    late = {subject: message for subject, message in messages.items() if known.get(subject) != _digest(message)}
    for subject, message in late.items():
        answer, now = _tell(connector, kind, message), timezone.now()
        sent = {"state": OutboundMessage.State.SENT, "sent_at": now, "next_try_at": now, "last_error": "", "answer": answer}
        once: dict[str, Any] = {"connection": connection, "kind": kind, "subject_id": subject}
        OutboundMessage.objects.update_or_create(**once, defaults=sent)


def _tell(connector: Connector, kind: str, message: Any) -> dict[str, str]:
    try:
        return {"id": PUT[kind](connector, message), "digest": _digest(message)}
    except ConnectorError as error:
        if error.passing or error.whole_connection:
            raise
        what = f"the contact {message.name}" if kind == CONTACT else f"the item {message.sku}"
        raise RefusedError(f"It does not take {what}: {error}", field="contact" if kind == CONTACT else "item") from error


def contact_of(
    connector: Connector, connection: Connection, customer: Customer | None, rules: OrderRules, named: str
) -> dict[str, str]:
    """Name and key of a customer who is a contact in the ledger, told to it first; nothing for who is a name alone, `named`
    on the document.

    Raises ConnectorError, RefusedError.
    """
    if customer is None or rules.ledger_contact == "no" or Capability.LEDGER_CONTACTS not in kind_of(connection).can:
        return {}
    if rules.ledger_contact == "account" and not (customer.on_account and customer.name == named):
        return {}
    have_known(connector, connection, CONTACT, {customer.pk: contact_message(customer)})
    return {"contact": customer.name, "contact_key": key_of(CONTACT, customer.pk)}


def with_items(connector: Connector, connection: Connection, details: Iterable[dict[str, Any]]) -> list[dict[str, Any]]:
    """Lines with the key of the item that they name, where the rule says that the ledger keeps items; told to it first.

    Raises ConnectorError, RefusedError.
    """
    lines = list(details)
    if Capability.LEDGER_ITEMS not in kind_of(connection).can:
        return lines
    if settled(connection_rungs(connection), ["ledger_items"])["ledger_items"].value != "sold":
        return lines
    skus = {str(line["sku"]) for line in lines if line.get("sku")}
    items = {normal_sku(item.sku): item for item in items_of(skus)} if skus else {}
    have_known(connector, connection, ITEM, {item.pk: item_message(item) for item in items.values()})
    found = {sku: key_of(ITEM, item.pk) for sku, item in items.items()}
    return [line | ({"item": found[sku]} if (sku := normal_sku(str(line.get("sku", "")))) in found else {}) for line in lines]


def send_contact(connector: Connector, row: OutboundMessage) -> str:
    """Tell a contact that changed here; the ledger's id of it."""
    customer = Customer.objects.get(pk=row.subject_id)
    return _tell(connector, CONTACT, contact_message(customer))["id"]


def queue_contacts(customer_ids: Iterable[int]) -> set[int]:
    """Have the ledger told of customers that it knows as contacts and that changed here. Returns the connections to wake."""
    known = OutboundMessage.objects.filter(kind=CONTACT, subject_id__in=list(customer_ids)).select_related("connection")
    woken: set[int] = set()
    for row in known:
        if row.connection.state == Connection.State.LIVE:
            woken |= queue_again(CONTACT, [row.subject_id], row.connection)
    return woken


def standing(customer_id: int) -> list[dict[str, Any]]:
    """How a customer stands in each ledger that knows of them."""
    rows = OutboundMessage.objects.filter(kind=CONTACT, subject_id=customer_id).select_related("connection").order_by("pk")
    return [
        {
            "ledger": row.connection.name,
            "connection_id": row.connection_id,
            "key": key_of(CONTACT, customer_id),
            "state": row.state,
            "at": row.sent_at,
            "said": row.last_error,
        }
        for row in rows
    ]
