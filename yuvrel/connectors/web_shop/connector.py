"""The web shop: JSON over REST, cursor pages, signed webhooks."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from functools import partial
from typing import Any
from urllib.parse import quote

from pydantic import Field

from ..base import Can, Connector, number, or_unreadable, read
from ..http import NonsenseError
from ..messages import (
    Identity,
    Message,
    Page,
    PushResult,
    QuantityPush,
    RemoteLine,
    RemoteListing,
    RemoteOrder,
    ShipmentNotice,
    Unreadable,
)


class _Product(Message):
    id: str | int
    title: str
    category: str | None = ""
    variants: list[dict[str, Any]]


class _Products(Message):
    products: list[_Product]
    next: str | None = None


class _Shown(Message):
    id: str | int
    quantity: Decimal


class _Quantities(Message):
    quantities: list[_Shown]


class _Result(Message):
    id: str | int
    ok: bool
    error: str = ""


class _Results(Message):
    results: list[_Result]


class _Orders(Message):
    orders: list[dict[str, Any]]
    next: str | None = None


class _Secret(Message):
    secret: str = Field(min_length=8)


class _Made(Message):
    id: str


class WebShop(Connector):
    """A shop with products, variants, orders and webhooks."""

    kind = "web_shop"
    label = "Web shop"
    can = frozenset({Can.LISTINGS, Can.QUANTITIES, Can.ORDERS, Can.FULFILMENTS, Can.WEBHOOKS})
    scopes = ("products:read", "stock:write", "orders:read", "shipments:write", "webhooks:write")
    order_states = ("paid", "on_account", "awaiting_payment")

    def identify(self) -> Identity:
        """Name of the shop and the token's scopes."""
        return self._identity(self.caller.call("GET", "/api/whoami"))

    def listings(self, cursor: str) -> Page:
        """Variants of a page of products."""
        data = read(_Products, self.caller.call("GET", "/api/products", params={"cursor": cursor, "limit": 50}))
        rows = [or_unreadable(partial(self._listing, p), v) for p in data.products for v in p.variants]
        return Page(rows=rows, cursor=data.next or "")

    def _listing(self, product: _Product, variant: dict[str, Any]) -> RemoteListing:
        options = {str(k): str(v) for k, v in (variant.get("options") or {}).items()}
        title = " ".join([product.title, *options.values()]).strip()
        return read(
            RemoteListing,
            {
                "external_id": str(variant.get("id") or ""),
                "group_id": str(product.id),
                "sku": variant.get("sku") or "",
                "barcode": variant.get("barcode") or "",
                "title": title[:200],
                "product_title": product.title[:200],
                "options": options,
                "category": product.category or "",
                "price": variant.get("price"),
                "quantity": variant.get("quantity"),
                "service": not variant.get("tracked", True),
                "weight_grams": variant.get("weight_grams") or 0,
            },
        )

    def read_quantities(self, external_ids: Sequence[str]) -> dict[str, Decimal]:
        """Quantities of variants, a hundred at a time."""
        batches = [{"ids": ",".join(external_ids[start : start + 100])} for start in range(0, len(external_ids), 100)]
        answers = [read(_Quantities, data) for data in self.caller.read_many("/api/quantities", batches)]
        return {str(row.id): row.quantity for data in answers for row in data.quantities}

    def push_quantities(self, pushes: Sequence[QuantityPush]) -> list[PushResult]:
        """Set quantities, a hundred at a time."""
        results: list[PushResult] = []
        for start in range(0, len(pushes), 100):
            lines = [{"id": p.external_id, "quantity": int(p.quantity)} for p in pushes[start : start + 100]]
            data = read(_Results, self.caller.call("POST", "/api/quantities", json={"lines": lines}))
            results += [PushResult(external_id=str(r.id), ok=r.ok, error=r.error) for r in data.results]
        return results

    def orders(self, since: str, cursor: str) -> Page:
        """Orders changed since a shop time."""
        params = {"updated_since": since, "cursor": cursor, "limit": 50}
        data = read(_Orders, self.caller.call("GET", "/api/orders", params=params))
        rows = [(str(order.get("updated_at") or ""), self.order_or_not(order)) for order in data.orders]
        return Page(rows=rows, cursor=data.next or "")

    def register_webhook(self, url: str) -> str:
        """Orders are told to `url`."""
        return read(_Secret, self.caller.call("POST", "/api/webhooks", json={"url": url})).secret

    def read_event(self, body: dict[str, Any]) -> RemoteOrder | Unreadable | None:
        """The order in an order event."""
        if not str(body.get("type", "")).startswith("order."):
            return None
        return self.order_or_not(body.get("data"))

    def fulfil(self, notice: ShipmentNotice) -> str:
        """State, carrier and tracking; repeated calls with one key make one shipment."""
        body = {
            "carrier": notice.carrier,
            "tracking": notice.tracking,
            "complete": notice.complete,
            "lines": [{"id": line, "quantity": str(quantity)} for line, quantity in notice.lines],
        }
        path = f"/api/orders/{quote(notice.order_id, safe='')}/shipments"
        return read(_Made, self.caller.call("POST", path, json=body, headers={"Idempotency-Key": notice.key})).id

    def read_order(self, body: dict[str, Any]) -> RemoteOrder:
        """Goods, discounts, surcharges and shipping as lines."""
        try:
            lines = [_goods(line) for line in body["lines"]]
            lines += [_extra("discount", row, sign=-1) for row in body.get("discounts") or []]
            lines += [_extra("surcharge", row) for row in body.get("surcharges") or []]
            lines += [_extra("shipping", row) for row in body.get("shipping_lines") or []]
            return read(
                RemoteOrder,
                {
                    "external_id": str(body["id"]),
                    "number": str(body["number"]),
                    "version": body["version"],
                    "status": body["status"],
                    "paid": body["status"] not in ("on_account", "awaiting_payment"),
                    "placed_at": body["created_at"],
                    "currency": body["currency"],
                    "total": body["total"],
                    "customer": body.get("customer") or {},
                    "ship_to": body.get("ship_to") or {},
                    "lines": lines,
                },
            )
        except KeyError as error:
            raise NonsenseError(f"The order lacks {error}.", field=str(error).strip("'")) from error
        except (TypeError, AttributeError) as error:
            raise NonsenseError("The order is not built as an order.", field="lines") from error


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
    amount = number(row["amount"], f"{kind}.amount")
    return read(
        RemoteLine,
        {
            "external_id": str(row.get("id", "")),
            "kind": kind,
            "title": str(row["title"])[:200],
            "amount": -abs(amount) if sign < 0 else amount,
            "tax_percent": row.get("tax_percent", 0),
        },
    )
