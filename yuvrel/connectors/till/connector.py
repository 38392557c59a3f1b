"""The till: articles with a stock figure, and sales uploaded in batches after they happened."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import Any, ClassVar

from ..base import Connector, number, objects, part, raw_rows, read, sound
from ..capabilities import Closes, Listings, PriceChanges, Quantities
from ..messages import (
    Identity,
    Message,
    Page,
    PricePush,
    PushResult,
    QuantityPush,
    RemoteClose,
    RemoteLine,
    RemoteListing,
    RemoteOrder,
    RemotePrice,
)
from ..sign_in import TOKEN, Entry

OUTLET = Entry(
    "outlet",
    "Outlet",
    "Which of the account's shops the till stands in, as mill or wagon. Leave it empty where there is one alone.",
    secret=False,
    fixed=True,
    optional=True,
)


class _Self(Message):
    name: str
    scopes: list[str]
    outlets: list[str] = []


class _Articles(Message):
    articles: list[Any]
    after: str | None = None


class _Stock(Message):
    stock: dict[str, Any]


class _Figure(Message):
    plu: str
    stock: Decimal


class _Prices(Message):
    prices: dict[str, Any]


class _Changes(Message):
    changes: list[Any]
    after: str | None = None


class _Refused(Message):
    refused: dict[str, str] = {}


class _Receipts(Message):
    receipts: list[Any]
    after: str | None = None


class _Closes(Message):
    closes: list[Any]
    after: str | None = None


class Till(Connector, Listings, Quantities, PriceChanges, Closes):
    """A till at one location: an account's only one, or that of one of its outlets. Articles and prices are the account's,
    stock and receipts the outlet's."""

    kind = "till"
    label = "Till"
    sign_in = TOKEN.with_entries(OUTLET)
    gives_no = ("costs", "suppliers", "descriptions", "weights", "pictures", "options", "customers")
    scopes = ("articles:read", "articles:write", "sales:read")
    order_states: ClassVar[Mapping[str, str]] = {"sold": "taken"}
    payment_methods = ("cash", "card")
    sales_already_happened = True

    def identify(self) -> Identity:
        """Name of the till, what its key may do, and whether the account has such an outlet."""
        found = read(_Self, self.caller.call("GET", "/api/self"))
        outlet = self.values.get("outlet", "")
        held = self._identity({"name": f"{found.name}, {outlet}" if outlet else found.name, "scopes": found.scopes})
        having = f"(it has {', '.join(found.outlets)})" if found.outlets else "(it has none)"
        if outlet and outlet not in found.outlets:
            return held.model_copy(update={"missing": [*held.missing, f"the outlet {outlet} {having}"]})
        if found.outlets and not outlet:
            return held.model_copy(update={"missing": [*held.missing, f"an outlet: say which {having}"]})
        return held

    def _here(self, **params: Any) -> dict[str, Any]:
        """What is asked, of the outlet alone where there is one."""
        outlet = self.values.get("outlet", "")
        return {**params, "outlet": outlet} if outlet else params

    def listings(self, cursor: str) -> Page:
        """Articles."""
        data = read(_Articles, self.caller.call("GET", "/api/articles", params=self._here(after=cursor)))
        return Page(rows=raw_rows(data.articles), cursor=data.after or "")

    def read_listing(self, body: Any) -> RemoteListing:
        """An article; one without a stock figure is a service."""
        label = part(body, "label")
        return read(
            RemoteListing,
            {
                "external_id": body.get("plu"),
                "sku": body.get("code"),
                "barcode": body.get("ean"),
                "title": label,
                "product_title": label,
                "price": body.get("price"),
                "quantity": body.get("stock"),
                "category": body.get("group"),
                "service": body.get("stock") is None,
            },
        )

    def read_quantities(self, external_ids: Sequence[str]) -> dict[str, Decimal]:
        """The stock figures the till shows."""
        batches = [self._here(plu=",".join(external_ids[start : start + 200])) for start in range(0, len(external_ids), 200)]
        answers = [read(_Stock, data) for data in self.caller.read_many("/api/stock", batches)]
        rows = sound(_Figure, ({"plu": plu, "stock": stock} for data in answers for plu, stock in data.stock.items()))
        return {row.plu: row.stock for row in rows}

    def push_quantities(self, pushes: Sequence[QuantityPush]) -> list[PushResult]:
        """Set stock figures."""
        body = {"stock": {p.external_id: format(p.quantity.normalize(), "f") for p in pushes}}
        refused = read(_Refused, self.caller.call("PUT", "/api/stock", json=body, params=self._here())).refused
        return [
            PushResult(external_id=p.external_id, ok=p.external_id not in refused, error=refused.get(p.external_id, ""))
            for p in pushes
        ]

    def read_prices(self, external_ids: Sequence[str]) -> dict[str, RemotePrice]:
        """The prices articles are rung up at; a till shows none before it."""
        batches = [{"plu": ",".join(external_ids[start : start + 200])} for start in range(0, len(external_ids), 200)]
        answers = [read(_Prices, data) for data in self.caller.read_many("/api/prices", batches)]
        told = ({"external_id": plu, "price": price} for data in answers for plu, price in data.prices.items())
        return {row.external_id: row for row in sound(RemotePrice, told)}

    def push_prices(self, pushes: Sequence[PricePush]) -> list[PushResult]:
        """Set prices."""
        body = {"prices": {p.external_id: str(p.price) for p in pushes}}
        refused = read(_Refused, self.caller.call("PUT", "/api/prices", json=body)).refused
        return [
            PushResult(external_id=p.external_id, ok=p.external_id not in refused, error=refused.get(p.external_id, ""))
            for p in pushes
        ]

    def price_changes(self, since: str, cursor: str) -> Page:
        """Prices changed at the till since a till time."""
        data = read(_Changes, self.caller.call("GET", "/api/price-changes", params={"since": since, "after": cursor}))
        return Page(rows=raw_rows(data.changes, at="changed_at"), cursor=data.after or "")

    def read_price(self, body: Any) -> RemotePrice:
        """An article's new price."""
        return read(RemotePrice, {"external_id": part(body, "plu"), "price": part(body, "price")})

    def orders(self, since: str, cursor: str) -> Page:
        """Receipts uploaded since a till time."""
        data = read(_Receipts, self.caller.call("GET", "/api/receipts", params=self._here(since=since, after=cursor)))
        return Page(rows=raw_rows(data.receipts, at="uploaded_at"), cursor=data.after or "")

    def closes(self, since: str, cursor: str) -> Page:
        """Closes since a till time."""
        data = read(_Closes, self.caller.call("GET", "/api/closes", params=self._here(since=since, after=cursor)))
        return Page(rows=raw_rows(data.closes, at="closed_at"), cursor=data.after or "")

    def read_close(self, body: Any) -> RemoteClose:
        """A close with what was counted of each tender."""
        return read(
            RemoteClose,
            {
                "external_id": part(body, "id"),
                "number": part(body, "number"),
                "closed_at": part(body, "closed_at"),
                "currency": part(body, "currency"),
                "counts": [
                    {"method": part(row, "tender"), "opening": row.get("float", 0), "counted": part(row, "counted")}
                    for row in objects(body, "tenders")
                ],
            },
        )

    def read_order(self, body: Any) -> RemoteOrder:
        """A receipt; it has one version, as a sale that happened does not change. One that names the receipt it takes back is
        a refund: its counts and sums are below zero there, and above here."""
        part(body, "rows")
        takes_back = bool(body.get("refund_of"))
        return read(
            RemoteOrder,
            {
                "external_id": part(body, "id"),
                "number": part(body, "number"),
                "version": 1,
                "status": "sold",
                "refund_of": body.get("refund_of"),
                "placed_at": part(body, "sold_at"),
                "currency": part(body, "currency"),
                "total": -number(part(body, "total"), "total") if takes_back else part(body, "total"),
                "lines": [(_taken_back if takes_back else _sold)(row) for row in objects(body, "rows")],
                "payments": _payments(body, takes_back),
            },
        )


def _payments(body: dict[str, Any], takes_back: bool) -> list[dict[str, Any]]:
    """How something was paid, or paid back; what came back without its receipt was neither."""
    total = number(part(body, "total"), "total")
    amount = -total if takes_back else total
    return [{"method": body.get("tender") or "cash", "amount": amount}] if amount > 0 else []


def _taken_back(row: dict[str, Any]) -> RemoteLine:
    """A line that came back, by its place on the receipt it was sold with."""
    sold = {**row, "count": -number(part(row, "count"), "count"), "sum": -number(part(row, "sum"), "sum")}
    return _sold({**sold, "pos": part(row, "of")})


def _sold(row: dict[str, Any]) -> RemoteLine:
    return read(
        RemoteLine,
        {
            "external_id": part(row, "pos"),
            "kind": "item",
            "listing_id": part(row, "plu"),
            "sku": row.get("code"),
            "title": part(row, "label"),
            "quantity": part(row, "count"),
            "amount": part(row, "sum"),
            "tax_percent": part(row, "vat"),
        },
    )
