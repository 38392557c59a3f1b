"""A supplier's inbox: takes a UBL Order, answers with a UBL OrderResponse."""

from __future__ import annotations

from typing import Any

from ..base import Connector, part, raw_rows, read
from ..capabilities import Purchases
from ..http import NonsenseError
from ..messages import Identity, Message, Page, SupplierAnswer
from ..sign_in import SIGNED
from ..ubl import read_order_response


class _Receipt(Message):
    receipt: str


class _Answers(Message):
    answers: list[Any]


class SupplierInbox(Connector, Purchases):
    """Documents in and out, nothing else."""

    kind = "supplier"
    label = "Supplier's inbox"
    scopes = ("orders:send", "answers:read")
    # An order commits whoever sends it to pay: each is signed, and can be neither changed nor sent again by another.
    sign_in = SIGNED

    def identify(self) -> Identity:
        """Whose inbox it is."""
        return self._identity(self.caller.call("GET", "/api/inbox"))

    def place_order(self, number: str, document: bytes) -> str:
        """Deliver; the same number twice is one order."""
        headers = {"Content-Type": "application/xml", "Idempotency-Key": number}
        return read(_Receipt, self.caller.call("POST", "/api/orders", content=document, headers=headers)).receipt

    def answers(self, cursor: str) -> Page:
        """OrderResponses not yet read."""
        data = read(_Answers, self.caller.call("GET", "/api/answers", params={"after": cursor}))
        return Page(rows=raw_rows(data.answers, at="seq"), cursor="")

    def read_answer(self, body: Any) -> SupplierAnswer:
        """A UBL OrderResponse."""
        document = part(body, "document")
        if not isinstance(document, str):
            raise NonsenseError("The document is not a text.", field="document")
        return read_order_response(document.encode())
