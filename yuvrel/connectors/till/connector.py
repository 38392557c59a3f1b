"""The till: articles with a stock figure, and sales uploaded in batches after they happened."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from typing import Any

from ..base import Can, Connector, read
from ..http import NonsenseError
from ..messages import Identity, Page, PushResult, QuantityPush, RemoteListing, RemoteOrder


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
        data = self.caller.call("GET", "/api/self").json()
        return read(Identity, {**data, "missing": self._missing(data.get("scopes", []))})

    def listings(self, cursor: str) -> Page:
        """Articles."""
        data = self.caller.call("GET", "/api/articles", params={"after": cursor}).json()
        rows = [
            read(
                RemoteListing,
                {
                    "external_id": str(a["plu"]),
                    "sku": a.get("code") or "",
                    "barcode": a.get("ean") or "",
                    "title": a["label"],
                    "product_title": a["label"],
                    "price": a.get("price"),
                    "quantity": a.get("stock"),
                    "category": a.get("group") or "",
                    "service": a.get("stock") is None,
                },
            )
            for a in data["articles"]
        ]
        return Page(rows=rows, cursor=data.get("after") or "")

    def read_quantities(self, external_ids: Sequence[str]) -> dict[str, Decimal]:
        """The stock figures the till shows."""
        found: dict[str, Decimal] = {}
        for start in range(0, len(external_ids), 200):
            plus = ",".join(external_ids[start : start + 200])
            data = self.caller.call("GET", "/api/stock", params={"plu": plus}).json()
            found.update({str(k): Decimal(str(v)) for k, v in data["stock"].items() if v is not None})
        return found

    def push_quantities(self, pushes: Sequence[QuantityPush]) -> list[PushResult]:
        """Set stock figures."""
        body = {"stock": {p.external_id: format(p.quantity.normalize(), "f") for p in pushes}}
        refused = self.caller.call("PUT", "/api/stock", json=body).json().get("refused", {})
        return [
            PushResult(external_id=p.external_id, ok=p.external_id not in refused, error=str(refused.get(p.external_id, "")))
            for p in pushes
        ]

    def orders(self, since: str, cursor: str) -> Page:
        """Receipts uploaded since a till time."""
        data = self.caller.call("GET", "/api/receipts", params={"since": since, "after": cursor}).json()
        rows = [(receipt["uploaded_at"], _sale(receipt)) for receipt in data["receipts"]]
        return Page(rows=rows, cursor=data.get("after") or "")


def _sale(receipt: dict[str, Any]) -> RemoteOrder:
    try:
        lines = [
            {
                "external_id": str(row["pos"]),
                "kind": "item",
                "listing_id": str(row["plu"]),
                "sku": row.get("code") or "",
                "title": row["label"],
                "quantity": row["count"],
                "amount": row["sum"],
                "tax_percent": row["vat"],
            }
            for row in receipt["rows"]
        ]
        return read(
            RemoteOrder,
            {
                "external_id": str(receipt["id"]),
                "number": str(receipt["number"]),
                "version": 1,
                "status": "sold",
                "placed_at": receipt["sold_at"],
                "currency": receipt["currency"],
                "total": receipt["total"],
                "customer": {},
                "lines": lines,
            },
        )
    except (KeyError, TypeError) as error:
        raise NonsenseError(f"The receipt lacks {error}.") from error
