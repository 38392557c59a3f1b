"""The web shop: JSON over REST, cursor pages, signed webhooks."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import Any, ClassVar
from urllib.parse import quote

from pydantic import Field

from ..base import Connector, number, objects, part, raw_rows, read, sound
from ..capabilities import Captures, GroupPrices, OrderStates, Pictures, Places, Refunds, Shipments, States, Webhooks
from ..http import NonsenseError
from ..messages import (
    Amount,
    CaptureNotice,
    GroupPricePush,
    Identity,
    Key,
    Message,
    Page,
    PricePush,
    PushResult,
    QuantityPush,
    Raw,
    RefundNotice,
    RemoteGroup,
    RemoteLine,
    RemoteListing,
    RemoteOrder,
    RemotePayment,
    RemotePlace,
    RemotePrice,
    RemoteQuantity,
    RemoteRefund,
    SellingTerms,
    ShipmentNotice,
    StateNotice,
)

# What the shop says of goods that it has paid back; any other word says nothing.
GOODS = {"returning": "expected", "back": "stock", "kept": "nothing"}
# How a product stands: what is no word of this list is not for everybody to see.
STANDING = {"live": "live", "hidden": "hidden", "draft": "draft"}


class _Products(Message):
    products: list[Any]
    next: str | None = None


class _Shown(RemoteQuantity):
    external_id: Key = Field(min_length=1, validation_alias="id")
    terms: SellingTerms = Field(SellingTerms(), validation_alias="selling")


class _Quantities(Message):
    quantities: list[Any]


class _Priced(RemotePrice):
    external_id: Key = Field(min_length=1, validation_alias="id")
    previous: Amount | None = Field(default=None, validation_alias="was")


class _Prices(Message):
    prices: list[Any]


class _Places(Message):
    places: list[Any]


class _Groups(Message):
    groups: list[Any]


class _GroupPriced(Message):
    id: Key = Field(min_length=1)
    price: Amount | None = Field(ge=0)


class _Result(Message):
    id: str | int
    ok: bool
    error: str = ""


class _Results(Message):
    results: list[Any]


class _Orders(Message):
    orders: list[Any]
    next: str | None = None


class _Secret(Message):
    secret: str = Field(min_length=8)


class _Made(Message):
    id: str


class WebShop(Connector, Pictures, Places, States, GroupPrices, Webhooks, Shipments, OrderStates, Captures, Refunds):
    """A shop with products, variants, orders and webhooks."""

    kind = "web_shop"
    label = "Web shop"
    gives_no = ("costs", "suppliers")
    scopes = ("products:read", "stock:write", "prices:write", "orders:read", "shipments:write", "webhooks:write")
    order_states: ClassVar[Mapping[str, str]] = {
        "paid": "taken",
        "authorised": "taken",
        "on_account": "taken",
        "awaiting_payment": "left",
        "cancelled": "cancelled",
        "refunded": "cancelled",
    }
    payment_methods = ("card", "bank_transfer")
    told_states = ("accepted", "in_hand", "on_hold", "waiting_for_goods", "on_its_way", "cancelled")

    def identify(self) -> Identity:
        """Name of the shop and the token's scopes."""
        return self._identity(self.caller.call("GET", "/api/whoami"))

    def listings(self, cursor: str) -> Page:
        """Variants of a page of products, each with the product it belongs to."""
        data = read(_Products, self.caller.call("GET", "/api/products", params={"cursor": cursor, "limit": 50}))
        return Page(rows=raw_rows([row for product in data.products for row in _variants(product)]), cursor=data.next or "")

    def picture(self, key: str) -> bytes:
        """A picture of a product."""
        return self.caller.fetch(f"/api/pictures/{quote(key, safe='')}")

    def read_listing(self, body: Any) -> RemoteListing:
        """A variant: its title is the product's with its options."""
        product, variant = part(body, "product"), part(body, "variant")
        title, options = part(product, "title"), variant.get("options") or {}
        if not isinstance(title, str) or not isinstance(options, dict):
            raise NonsenseError("The product's title is a text, its options are an object.", field="title")
        shown = {str(k): str(v) for k, v in options.items()}
        return read(
            RemoteListing,
            {
                "external_id": variant.get("id"),
                "group_id": product.get("id"),
                "sku": variant.get("sku"),
                "barcode": variant.get("barcode"),
                "title": " ".join([title, *shown.values()]).strip(),
                "product_title": title,
                "options": shown,
                "category": product.get("category"),
                "tax": product.get("tax_percent"),
                "price": variant.get("price"),
                "quantity": variant.get("quantity"),
                "service": not variant.get("tracked", True),
                "description": product.get("text"),
                "brand": product.get("maker"),
                "weight_grams": variant.get("weight_grams") or 0,
                "tags": product.get("labels") or [],
                "attributes": product.get("details") or {},
                "pictures": product.get("pictures") or [],
                "said_at": product.get("updated_at"),
                "state": STANDING.get(str(product.get("state") or "live"), "hidden"),
            },
        )

    def read_quantities(self, external_ids: Sequence[str]) -> dict[str, Decimal]:
        """Quantities of variants."""
        return {key: row.quantity for key, row in self.read_shown(external_ids).items()}

    def read_shown(self, external_ids: Sequence[str]) -> dict[str, RemoteQuantity]:
        """Quantities of variants and how they may be sold, a hundred at a time."""
        batches = [{"ids": ",".join(external_ids[start : start + 100])} for start in range(0, len(external_ids), 100)]
        answers = [read(_Quantities, data) for data in self.caller.read_many("/api/quantities", batches)]
        rows = sound(_Shown, (row for data in answers for row in data.quantities))
        return {row.external_id: row for row in rows}

    def push_quantities(self, pushes: Sequence[QuantityPush]) -> list[PushResult]:
        """Set quantities and how they may be sold, a hundred at a time."""
        lines = [{"id": p.external_id, "quantity": int(p.quantity), "selling": p.terms.kept()} for p in pushes]
        return self._tell("/api/quantities", lines)

    def places(self) -> list[RemotePlace]:
        """The shop's places with stock."""
        return list(sound(RemotePlace, read(_Places, self.caller.call("GET", "/api/places")).places))

    def read_prices(self, external_ids: Sequence[str]) -> dict[str, RemotePrice]:
        """Prices of variants, a hundred at a time."""
        batches = [{"ids": ",".join(external_ids[start : start + 100])} for start in range(0, len(external_ids), 100)]
        answers = [read(_Prices, data) for data in self.caller.read_many("/api/prices", batches)]
        rows = sound(_Priced, (row for data in answers for row in data.prices))
        return {row.external_id: row for row in rows}

    def push_prices(self, pushes: Sequence[PricePush]) -> list[PushResult]:
        """Set prices with what they were before, a hundred at a time."""
        told = [(p.external_id, str(p.price), None if p.previous is None else str(p.previous)) for p in pushes]
        return self._tell("/api/prices", [{"id": key, "price": price, "was": was} for key, price, was in told])

    def customer_groups(self) -> list[RemoteGroup]:
        """The shop's groups of customers."""
        return list(sound(RemoteGroup, read(_Groups, self.caller.call("GET", "/api/groups")).groups))

    def read_group_prices(self, group: str, external_ids: Sequence[str]) -> dict[str, Decimal | None]:
        """What a group sees, a hundred at a time."""
        path = f"/api/groups/{quote(group, safe='')}/prices"
        batches = [{"ids": ",".join(external_ids[start : start + 100])} for start in range(0, len(external_ids), 100)]
        answers = [read(_Prices, data) for data in self.caller.read_many(path, batches)]
        return {row.id: row.price for row in sound(_GroupPriced, (row for data in answers for row in data.prices))}

    def push_group_prices(self, group: str, pushes: Sequence[GroupPricePush]) -> list[PushResult]:
        """Set what a group sees, a hundred at a time."""
        path = f"/api/groups/{quote(group, safe='')}/prices"
        lines = [{"id": p.external_id, "price": None if p.price is None else str(p.price)} for p in pushes]
        return self._tell(path, lines)

    def _tell(self, path: str, lines: Sequence[dict[str, Any]]) -> list[PushResult]:
        """Lines that are told a hundred at a time, and what the shop said of each."""
        results: list[PushResult] = []
        for start in range(0, len(lines), 100):
            data = read(_Results, self.caller.call("POST", path, json={"lines": lines[start : start + 100]}))
            results += [PushResult(external_id=str(r.id), ok=r.ok, error=r.error) for r in sound(_Result, data.results)]
        return results

    def orders(self, since: str, cursor: str) -> Page:
        """Orders changed since a shop time."""
        params = {"updated_since": since, "cursor": cursor, "limit": 50}
        data = read(_Orders, self.caller.call("GET", "/api/orders", params=params))
        return Page(rows=raw_rows(data.orders, at="updated_at"), cursor=data.next or "")

    def register_webhook(self, url: str) -> str:
        """Orders are told to `url`."""
        return read(_Secret, self.caller.call("POST", "/api/webhooks", json={"url": url})).secret

    def send_test(self) -> None:
        """A test event, sent like any other."""
        self.caller.call("POST", "/api/webhooks/test", json={})

    def goods_in(self, event: dict[str, Any]) -> list[Raw]:
        """The variants of the product that an event is about."""
        if not str(event.get("type", "")).startswith(("product.", "stock.")):
            return []
        return raw_rows(_variants(event.get("data")))

    def order_in(self, event: dict[str, Any]) -> Raw | None:
        """The order in an order event."""
        if not str(event.get("type", "")).startswith("order."):
            return None
        return raw_rows([event.get("data")], at="updated_at")[0]

    def fulfil(self, notice: ShipmentNotice) -> str:
        """State, carrier, tracking and invoice; repeated calls with one key make one shipment."""
        body = {
            "carrier": notice.carrier,
            "tracking": notice.tracking,
            "invoice": notice.invoice,
            "complete": notice.complete,
            "lines": [{"id": line, "quantity": str(quantity)} for line, quantity in notice.lines],
        }
        path = f"/api/orders/{quote(notice.order_id, safe='')}/shipments"
        return read(_Made, self.caller.call("POST", path, json=body, headers={"Idempotency-Key": notice.key})).id

    def tell_state(self, notice: StateNotice) -> None:
        """Set what the shopper sees of the order's progress; *cancelled* also gives back what was paid."""
        path = f"/api/orders/{quote(notice.order_id, safe='')}/state"
        self.caller.call("PUT", path, json={"state": notice.state, "note": notice.why})

    def capture(self, notice: CaptureNotice) -> str:
        """Take what has left of an authorised payment; repeated calls with one key take it once."""
        order, payment = quote(notice.order_id, safe=""), quote(notice.payment_id, safe="")
        path = f"/api/orders/{order}/payments/{payment}/captures"
        headers = {"Idempotency-Key": notice.key}
        return read(_Made, self.caller.call("POST", path, json={"amount": str(notice.amount)}, headers=headers)).id

    def refund(self, notice: RefundNotice) -> str:
        """Pay back; repeated calls with one key pay once."""
        body = {
            "amount": str(notice.amount),
            "note": notice.note,
            "lines": [{"id": line, "quantity": str(units), "amount": str(gross)} for line, units, gross in notice.lines],
        }
        path = f"/api/orders/{quote(notice.order_id, safe='')}/refunds"
        return read(_Made, self.caller.call("POST", path, json=body, headers={"Idempotency-Key": notice.key})).id

    def read_order(self, body: Any) -> RemoteOrder:
        """Goods, discounts, surcharges and shipping as lines."""
        part(body, "lines")
        lines = [_goods(line) for line in objects(body, "lines")]
        lines += [_extra("discount", row, sign=-1) for row in objects(body, "discounts")]
        lines += [_extra("surcharge", row) for row in objects(body, "surcharges")]
        lines += [_extra("shipping", row) for row in objects(body, "shipping_lines")]
        status = part(body, "status")
        return read(
            RemoteOrder,
            {
                "external_id": part(body, "id"),
                "number": part(body, "number"),
                "version": part(body, "version"),
                "status": status,
                "paid": status not in ("on_account", "authorised", "awaiting_payment"),
                "done": body.get("fulfilment") == "shipped",
                "place": body.get("place"),
                "placed_at": part(body, "created_at"),
                "currency": part(body, "currency"),
                "total": part(body, "total"),
                "customer": body.get("customer") or {},
                "ship_to": body.get("ship_to") or {},
                "lines": lines,
                "payments": [_payment(row) for row in objects(body, "payments") if row.get("state") != "waiting"],
                "refunds": [_refund(row) for row in objects(body, "refunds")],
                "parcels": [_parcel(row) for row in objects(body, "shipments") if row.get("key")],
            },
        )


def _variants(product: Any) -> list[Any]:
    """A product's variants with the product beside each; one that is not built so is passed on as it came."""
    if not isinstance(product, dict) or not isinstance(product.get("variants"), list):
        return [product]
    facts = {name: value for name, value in product.items() if name != "variants"}
    found = []
    for variant in product["variants"]:
        known = isinstance(variant, dict) and "id" in variant
        found.append({"id": variant["id"], "product": facts, "variant": variant} if known else variant)
    return found


def _goods(line: dict[str, Any]) -> RemoteLine:
    return read(
        RemoteLine,
        {
            "external_id": part(line, "id"),
            "kind": "item",
            "listing_id": part(line, "variant_id"),
            "sku": line.get("sku"),
            "title": part(line, "title"),
            "quantity": part(line, "quantity"),
            "amount": part(line, "amount"),
            "tax_percent": line.get("tax_percent", 0),
        },
    )


def _payment(row: dict[str, Any]) -> RemotePayment:
    return read(
        RemotePayment,
        {
            "external_id": part(row, "id"),
            "method": part(row, "method"),
            "amount": part(row, "amount"),
            "state": "authorised" if row.get("state") == "authorised" else "paid",
        },
    )


def _parcel(row: dict[str, Any]) -> dict[str, Any]:
    lines = [(str(part(line, "id")), line.get("quantity", 0)) for line in objects(row, "lines")]
    told = {name: row.get(name) or "" for name in ("key", "at", "carrier", "tracking")}
    return {**told, "lines": lines}


def _refund(row: dict[str, Any]) -> RemoteRefund:
    return read(
        RemoteRefund,
        {
            "external_id": part(row, "id"),
            "at": part(row, "at"),
            "amount": part(row, "amount"),
            "key": row.get("key"),
            "goods": GOODS.get(str(row.get("goods")), ""),
            "method": row.get("method"),
            "note": row.get("note"),
            "lines": [
                {"line_id": part(line, "id"), "quantity": line.get("quantity", 0), "amount": part(line, "amount")}
                for line in objects(row, "lines")
            ],
        },
    )


def _extra(kind: str, row: dict[str, Any], sign: int = 1) -> RemoteLine:
    amount = number(part(row, "amount"), f"{kind}.amount")
    return read(
        RemoteLine,
        {
            "external_id": row.get("id"),
            "kind": kind,
            "title": part(row, "title"),
            "amount": -abs(amount) if sign < 0 else amount,
            "tax_percent": row.get("tax_percent", 0),
        },
    )
