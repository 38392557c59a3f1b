"""A supplier's inbox: takes a UBL Order, answers with a UBL OrderResponse."""

from __future__ import annotations

from typing import Any

from ..base import Connector, number, objects, pages, part, raw_rows, read
from ..capabilities import Purchases
from ..http import NonsenseError
from ..messages import Identity, Message, Page, RemotePurchase, SupplierAnswer
from ..sign_in import SIGNED
from ..ubl import read_order_response


class _Receipt(Message):
    receipt: str


class _Orders(Message):
    orders: list[Any]
    after: str | None = None


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

    def place_order(self, key: str, document: bytes) -> str:
        """Deliver; the same key twice is one order."""
        headers = {"Content-Type": "application/xml", "Idempotency-Key": key}
        return read(_Receipt, self.caller.call("POST", "/api/orders", content=document, headers=headers)).receipt

    def orders_there(self) -> list[RemotePurchase]:
        """What the inbox holds, page by page."""
        found = []
        for page in pages(self._orders):
            for raw in page.rows:
                lines = [
                    {**line, "price": number(line.get("amount", 0), "amount") / number(line.get("quantity", 1), "quantity")}
                    for line in objects(raw.body, "lines")
                ]
                body = {name: raw.body.get(name) for name in ("number", "at", "currency", "receipt")}
                found.append(read(RemotePurchase, {**body, "expected_on": raw.body.get("due"), "lines": lines}))
        return found

    def _orders(self, cursor: str) -> Page:
        data = read(_Orders, self.caller.call("GET", "/api/orders", params={"after": cursor or "0"}))
        return Page(rows=raw_rows(data.orders), cursor=data.after or "")

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
