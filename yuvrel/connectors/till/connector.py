"""The till: articles with a stock figure, and sales uploaded in batches after they happened."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from typing import Any

from ..base import Can, Connector, or_unreadable, read
from ..http import NonsenseError
from ..messages import Identity, Message, Page, PushResult, QuantityPush, RemoteListing, RemoteOrder


class _Articles(Message):
    articles: list[dict[str, Any]]
    after: str | None = None


class _Stock(Message):
    stock: dict[str, Decimal | None]


class _Refused(Message):
    refused: dict[str, str] = {}


class _Receipts(Message):
    receipts: list[dict[str, Any]]
    after: str | None = None


def _article(a: dict[str, Any]) -> RemoteListing:
    return read(
        RemoteListing,
        {
            "external_id": str(a.get("plu") or ""),
            "sku": a.get("code") or "",
            "barcode": a.get("ean") or "",
            "title": str(a.get("label") or "")[:200],
            "product_title": str(a.get("label") or "")[:200],
            "price": a.get("price"),
            "quantity": a.get("stock"),
            "category": a.get("group") or "",
            "service": a.get("stock") is None,
        },
    )


class Till(Connector):
    """A till at one location."""

    kind = "till"
    label = "Till"
    can = frozenset({Can.LISTINGS, Can.QUANTITIES, Can.ORDERS})
    scopes = ("articles:read", "articles:write", "sales:read")
    order_states = ("sold",)
    sales_already_happened = True

    def identify(self) -> Identity:
        """Name of the till and what its key may do."""
        return self._identity(self.caller.call("GET", "/api/self"))

    def listings(self, cursor: str) -> Page:
        """Articles."""
        data = read(_Articles, self.caller.call("GET", "/api/articles", params={"after": cursor}))
        return Page(rows=[or_unreadable(_article, a) for a in data.articles], cursor=data.after or "")

    def read_quantities(self, external_ids: Sequence[str]) -> dict[str, Decimal]:
        """The stock figures the till shows."""
        batches = [{"plu": ",".join(external_ids[start : start + 200])} for start in range(0, len(external_ids), 200)]
        answers = [read(_Stock, data) for data in self.caller.read_many("/api/stock", batches)]
        return {plu: quantity for data in answers for plu, quantity in data.stock.items() if quantity is not None}

    def push_quantities(self, pushes: Sequence[QuantityPush]) -> list[PushResult]:
        """Set stock figures."""
        body = {"stock": {p.external_id: format(p.quantity.normalize(), "f") for p in pushes}}
        refused = read(_Refused, self.caller.call("PUT", "/api/stock", json=body)).refused
        return [
            PushResult(external_id=p.external_id, ok=p.external_id not in refused, error=refused.get(p.external_id, ""))
            for p in pushes
        ]

    def orders(self, since: str, cursor: str) -> Page:
        """Receipts uploaded since a till time."""
        data = read(_Receipts, self.caller.call("GET", "/api/receipts", params={"since": since, "after": cursor}))
        rows = [(str(receipt.get("uploaded_at") or ""), self.order_or_not(receipt)) for receipt in data.receipts]
        return Page(rows=rows, cursor=data.after or "")

    def read_order(self, body: dict[str, Any]) -> RemoteOrder:
        """A receipt; it has one version, as a sale that happened does not change."""
        try:
            lines = [
                {
                    "external_id": str(row["pos"]),
                    "kind": "item",
                    "listing_id": str(row["plu"]),
                    "sku": row.get("code") or "",
                    "title": str(row["label"])[:200],
                    "quantity": row["count"],
                    "amount": row["sum"],
                    "tax_percent": row["vat"],
                }
                for row in body["rows"]
            ]
            return read(
                RemoteOrder,
                {
                    "external_id": str(body["id"]),
                    "number": str(body["number"]),
                    "version": 1,
                    "status": "sold",
                    "placed_at": body["sold_at"],
                    "currency": body["currency"],
                    "total": body["total"],
                    "customer": {},
                    "lines": lines,
                },
            )
        except KeyError as error:
            raise NonsenseError(f"The receipt lacks {error}.", field=str(error).strip("'")) from error
        except (TypeError, AttributeError) as error:
            raise NonsenseError("The receipt is not built as a receipt.", field="rows") from error
