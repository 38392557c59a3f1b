"""The outside general ledger: accounts, documents booked once, balances by period."""

from __future__ import annotations

from decimal import Decimal

from ..base import Can, Connector, read
from ..messages import Identity, LedgerDoc


class Ledger(Connector):
    """A ledger that refuses what does not balance and books a number once."""

    kind = "ledger"
    label = "Ledger"
    can = frozenset({Can.DOCUMENTS})
    scopes = ("accounts.read", "documents.write", "balances.read")

    def identify(self) -> Identity:
        """The set of books and what the token may do."""
        data = self.caller.call("GET", "/api/books").json()
        return read(Identity, {**data, "missing": self._missing(data.get("scopes", []))})

    def accounts(self) -> list[tuple[str, str]]:
        """The chart of the outside ledger."""
        data = self.caller.call("GET", "/api/accounts").json()
        return [(str(row["code"]), str(row["name"])) for row in data["accounts"]]

    def post_document(self, document: LedgerDoc) -> str:
        """Book it; the ledger answers the same id when the same document comes again."""
        body = {
            "number": document.number,
            "kind": document.kind,
            "date": document.date,
            "contact": document.contact,
            "memo": document.memo,
            "details": document.details,
            "postings": [{"account": code, "amount": str(amount)} for code, amount in document.lines],
        }
        return str(self.caller.call("POST", "/api/documents", json=body).json()["id"])

    def balances(self) -> dict[tuple[str, str], Decimal]:
        """Movement of each account in each period."""
        data = self.caller.call("GET", "/api/balances").json()
        return {(row["period"], row["account"]): Decimal(row["amount"]) for row in data["balances"]}

    def document_totals(self) -> dict[str, Decimal]:
        """Number and sum of debits of each document."""
        found: dict[str, Decimal] = {}
        after = ""
        while True:
            data = self.caller.call("GET", "/api/documents", params={"after": after}).json()
            found.update({row["number"]: Decimal(row["debits"]) for row in data["documents"]})
            after = data.get("after") or ""
            if not after:
                return found
