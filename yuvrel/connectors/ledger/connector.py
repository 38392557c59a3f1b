"""The outside general ledger: accounts, documents booked once, balances by period."""

from __future__ import annotations

from decimal import Decimal
from typing import Any
from urllib.parse import quote

from ..base import Connector, objects, pages, raw_rows, read, sound
from ..capabilities import LedgerContacts, LedgerItems, LedgerOrders, TaxCodes
from ..messages import (
    Identity,
    LedgerContact,
    LedgerDoc,
    LedgerItem,
    LedgerOrder,
    Message,
    Page,
    RemoteDocument,
    RemoteLedgerOrder,
    TaxCode,
)


class _Account(Message):
    code: str
    name: str


class _Chart(Message):
    accounts: list[_Account]


class _Booked(Message):
    id: str


class _Balance(Message):
    period: str
    account: str
    amount: Decimal


class _Balances(Message):
    balances: list[Any]


class _Document(Message):
    number: str
    debits: Decimal


class _Documents(Message):
    documents: list[Any]
    after: str | None = None


class _Orders(Message):
    orders: list[Any]
    after: str | None = None


class _Codes(Message):
    tax_codes: list[Any]


class Ledger(Connector, LedgerOrders, LedgerContacts, LedgerItems, TaxCodes):
    """A ledger that refuses what does not balance and books a number once."""

    kind = "ledger"
    label = "Ledger"
    scopes = ("accounts.read", "documents.write", "balances.read")

    def identify(self) -> Identity:
        """The set of books and what the token may do."""
        return self._identity(self.caller.call("GET", "/api/books"))

    def accounts(self) -> list[tuple[str, str]]:
        """The chart of the outside ledger."""
        data = read(_Chart, self.caller.call("GET", "/api/accounts"))
        return [(row.code, row.name) for row in data.accounts]

    def post_document(self, document: LedgerDoc) -> str:
        """Book it; the ledger answers the same id when the same document comes again."""
        body = {
            "number": document.number,
            "kind": document.kind,
            "date": document.date,
            "contact": document.contact,
            "contact_key": document.contact_key,
            "memo": document.memo,
            "order": document.order,
            "due": document.due,
            "details": document.details,
            "postings": [{"account": code, "amount": str(amount)} for code, amount in document.lines],
        }
        return read(_Booked, self.caller.call("POST", "/api/documents", json=body)).id

    def balances(self) -> dict[tuple[str, str], Decimal]:
        """Movement of each account in each period."""
        data = read(_Balances, self.caller.call("GET", "/api/balances"))
        return {(row.period, row.account): row.amount for row in sound(_Balance, data.balances)}

    def document_totals(self) -> dict[str, Decimal]:
        """Number and sum of debits of each document."""
        found = sound(_Document, (raw.body for page in pages(self._documents) for raw in page.rows))
        return {row.number: row.debits for row in found}

    def documents_there(self) -> list[RemoteDocument]:
        """Documents with their postings, page by page."""
        found = []
        for raw in (raw for page in pages(self._documents) for raw in page.rows):
            body = raw.body if isinstance(raw.body, dict) else {}
            booked = [(str(row.get("account", "")), row.get("amount", 0)) for row in objects(body, "postings")]
            said = {name: body.get(name) or "" for name in ("number", "contact", "memo")}
            kind, ours = body.get("kind") or "journal", body.get("by") == "program"
            facts = {"id": str(body.get("id") or body.get("number")), "kind": kind, "day": body.get("date"), "ours": ours}
            found += sound(RemoteDocument, [{**said, **facts, "lines": booked}])
        return found

    def put_order(self, order: LedgerOrder) -> str:
        """Keep it as it stands; the ledger answers the same id for the same number."""
        path = f"/api/orders/{quote(order.number, safe='')}"
        body = {**order.model_dump(exclude={"number", "total"}), "total": str(order.total)}
        return read(_Booked, self.caller.call("PUT", path, json=body)).id

    def put_contact(self, contact: LedgerContact) -> str:
        """Keep it as it is now."""
        return self._keep("contacts", contact)

    def put_item(self, item: LedgerItem) -> str:
        """Keep it as it is now."""
        return self._keep("items", item)

    def _keep(self, what: str, row: LedgerContact | LedgerItem) -> str:
        path = f"/api/{what}/{quote(row.key, safe='')}"
        return read(_Booked, self.caller.call("PUT", path, json=row.model_dump(exclude={"key"}))).id

    def orders_there(self) -> dict[str, RemoteLedgerOrder]:
        """Quotes and sales orders, page by page."""
        found = sound(RemoteLedgerOrder, (raw.body for page in pages(self._orders) for raw in page.rows))
        return {row.number: row for row in found}

    def tax_codes(self) -> list[TaxCode]:
        """Codes and rates."""
        return sound(TaxCode, read(_Codes, self.caller.call("GET", "/api/tax-codes")).tax_codes)

    def _orders(self, cursor: str) -> Page:
        data = read(_Orders, self.caller.call("GET", "/api/orders", params={"after": cursor}))
        return Page(rows=raw_rows(data.orders), cursor=data.after or "")

    def _documents(self, cursor: str) -> Page:
        data = read(_Documents, self.caller.call("GET", "/api/documents", params={"after": cursor}))
        return Page(rows=raw_rows(data.documents), cursor=data.after or "")
