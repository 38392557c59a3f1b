"""The web shop: JSON over REST, cursor pages, signed webhooks."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from typing import Any

from ..base import Can, Connector, read
from ..http import NonsenseError
from ..messages import Identity, Page, PushResult, QuantityPush, RemoteLine, RemoteListing, RemoteOrder, ShipmentNotice


class WebShop(Connector):
    """A shop with products, variants, orders and webhooks."""

    kind = "web_shop"
    label = "Web shop"
    can = frozenset({Can.LISTINGS, Can.QUANTITIES, Can.ORDERS, Can.FULFILMENTS, Can.WEBHOOKS})
    scopes = ("products:read", "stock:write", "orders:read", "shipments:write", "webhooks:write")
    order_states = ("paid", "on_account", "awaiting_payment")

    def identify(self) -> Identity:
        """Name of the shop and the token's scopes."""
        data = self.caller.call("GET", "/api/whoami").json()
        return read(Identity, {**data, "missing": self._missing(data.get("scopes", []))})

    def listings(self, cursor: str) -> Page:
        """Variants of a page of products."""
        data = self.caller.call("GET", "/api/products", params={"cursor": cursor, "limit": 50}).json()
        rows = [self._listing(p, v) for p in data["products"] for v in p["variants"]]
        return Page(rows=rows, cursor=data.get("next") or "")

    def _listing(self, product: dict[str, Any], variant: dict[str, Any]) -> RemoteListing:
        options = {str(k): str(v) for k, v in (variant.get("options") or {}).items()}
        title = " ".join([product["title"], *options.values()]).strip()
        return read(
            RemoteListing,
            {
                "external_id": str(variant["id"]),
                "group_id": str(product["id"]),
                "sku": variant.get("sku") or "",
                "barcode": variant.get("barcode") or "",
                "title": title[:200],
                "product_title": product["title"][:200],
                "options": options,
                "category": product.get("category") or "",
                "price": variant.get("price"),
                "quantity": variant.get("quantity"),
                "service": not variant.get("tracked", True),
                "weight_grams": variant.get("weight_grams") or 0,
            },
        )

    def read_quantities(self, external_ids: Sequence[str]) -> dict[str, Decimal]:
        """Quantities of variants, a hundred at a time."""
        found: dict[str, Decimal] = {}
        for start in range(0, len(external_ids), 100):
            ids = ",".join(external_ids[start : start + 100])
            data = self.caller.call("GET", "/api/quantities", params={"ids": ids}).json()
            found.update({str(row["id"]): Decimal(str(row["quantity"])) for row in data["quantities"]})
        return found

    def push_quantities(self, pushes: Sequence[QuantityPush]) -> list[PushResult]:
        """Set quantities, a hundred at a time."""
        results: list[PushResult] = []
        for start in range(0, len(pushes), 100):
            lines = [{"id": p.external_id, "quantity": int(p.quantity)} for p in pushes[start : start + 100]]
            data = self.caller.call("POST", "/api/quantities", json={"lines": lines}).json()
            results += [read(PushResult, {"external_id": str(r["id"]), **r}) for r in data["results"]]
        return results

    def orders(self, since: str, cursor: str) -> Page:
        """Orders changed since a shop time."""
        params = {"updated_since": since, "cursor": cursor, "limit": 50}
        data = self.caller.call("GET", "/api/orders", params=params).json()
        rows = [(order["updated_at"], _order(order)) for order in data["orders"]]
        return Page(rows=rows, cursor=data.get("next") or "")

    def register_webhook(self, url: str) -> str:
        """Orders are told to `url`."""
        return str(self.caller.call("POST", "/api/webhooks", json={"url": url}).json()["secret"])

    def read_event(self, body: dict[str, Any]) -> RemoteOrder | None:
        """The order in an order event."""
        if not str(body.get("type", "")).startswith("order."):
            return None
        return _order(body.get("data") or {})

    def fulfil(self, notice: ShipmentNotice) -> str:
        """State, carrier and tracking; repeated calls with one key make one shipment."""
        body = {
            "carrier": notice.carrier,
            "tracking": notice.tracking,
            "complete": notice.complete,
            "lines": [{"id": line, "quantity": str(quantity)} for line, quantity in notice.lines],
        }
        path = f"/api/orders/{notice.order_id}/shipments"
        answer = self.caller.call("POST", path, json=body, headers={"Idempotency-Key": notice.key})
        return str(answer.json()["id"])


def _order(data: dict[str, Any]) -> RemoteOrder:
    try:
        lines = [_goods(line) for line in data["lines"]]
        lines += [_extra("discount", row, sign=-1) for row in data.get("discounts", [])]
        lines += [_extra("surcharge", row) for row in data.get("surcharges", [])]
        lines += [_extra("shipping", row) for row in data.get("shipping_lines", [])]
        return read(
            RemoteOrder,
            {
                "external_id": str(data["id"]),
                "number": str(data["number"]),
                "version": data["version"],
                "status": data["status"],
                "paid": data["status"] not in ("on_account", "awaiting_payment"),
                "placed_at": data["created_at"],
                "currency": data["currency"],
                "total": data["total"],
                "customer": data.get("customer") or {},
                "ship_to": data.get("ship_to") or {},
                "lines": lines,
            },
        )
    except (KeyError, TypeError) as error:
        raise NonsenseError(f"The order lacks {error}.") from error


def _goods(line: dict[str, Any]) -> RemoteLine:
    return read(
        RemoteLine,
        {
            "external_id": str(line["id"]),
            "kind": "item",
            "listing_id": str(line["variant_id"]),
            "sku": line.get("sku") or "",
            "title": str(line["title"])[:200],
            "quantity": line["quantity"],
            "amount": line["amount"],
            "tax_percent": line.get("tax_percent", 0),
        },
    )


def _extra(kind: str, row: dict[str, Any], sign: int = 1) -> RemoteLine:
    amount = sign * abs(Decimal(str(row["amount"]))) if sign < 0 else Decimal(str(row["amount"]))
    return read(
        RemoteLine,
        {
            "external_id": str(row.get("id", "")),
            "kind": kind,
            "title": str(row["title"])[:200],
            "amount": amount,
            "tax_percent": row.get("tax_percent", 0),
        },
    )
