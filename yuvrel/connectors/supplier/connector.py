"""A supplier's inbox: takes a UBL Order, answers with a UBL OrderResponse."""

from __future__ import annotations

from ..base import Can, Connector, read
from ..messages import Identity, Page
from ..ubl import read_order_response


class SupplierInbox(Connector):
    """Documents in and out, nothing else."""

    kind = "supplier"
    label = "Supplier's inbox"
    can = frozenset({Can.PURCHASES})
    scopes = ("orders:send", "answers:read")

    def identify(self) -> Identity:
        """Whose inbox it is."""
        data = self.caller.call("GET", "/api/inbox").json()
        return read(Identity, {**data, "missing": self._missing(data.get("scopes", []))})

    def place_order(self, number: str, document: bytes) -> str:
        """Deliver; the same number twice is one order."""
        headers = {"Content-Type": "application/xml", "Idempotency-Key": number}
        return str(self.caller.call("POST", "/api/orders", content=document, headers=headers).json()["receipt"])

    def answers(self, cursor: str) -> Page:
        """OrderResponses not yet read."""
        data = self.caller.call("GET", "/api/answers", params={"after": cursor}).json()
        rows = [(str(row["seq"]), read_order_response(row["document"].encode())) for row in data["answers"]]
        return Page(rows=rows, cursor="")
