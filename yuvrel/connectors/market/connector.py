"""The marketplace: offers in one of its regions, changed by batches it works on later, and orders with their fees."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import Annotated, Any, ClassVar, Literal
from urllib.parse import quote

from pydantic import Field

from ..base import Connector, objects, pages, part, raw_rows, read, sound
from ..capabilities import Dispatch, Feeds, Listings, OrderStates, Prices, Publishing, Shipments, States, Texts
from ..messages import (
    MOST_SEND_DAYS,
    Identity,
    Key,
    ListingText,
    Message,
    NewListing,
    Page,
    PricePush,
    PushResult,
    QuantityPush,
    RemoteCategory,
    RemoteLine,
    RemoteListing,
    RemoteOrder,
    RemotePrice,
    RemoteQuantity,
    SellingTerms,
    ShipmentNotice,
    StateNotice,
    Submitted,
    SubmittedAnswer,
)
from ..sign_in import GRANTED, Entry

REGION = Entry("region", "Region", "One of the account's regional marketplaces, as ie or fr.", secret=False, fixed=True)


class _Account(Message):
    seller: str
    may: list[str]
    regions: list[str]


class _Offers(Message):
    offers: list[Any]
    after: str | None = None


# How an offer stands, in the marketplace's words and in ours.
STANDING: dict[str, Literal["live", "hidden", "ended"]] = {"on_sale": "live", "suspended": "hidden", "withdrawn": "ended"}
THERE = {ours: theirs for theirs, ours in STANDING.items()}


class _Shown(RemoteQuantity):
    external_id: Key = Field(min_length=1, validation_alias="offer")
    standing: str = "on_sale"
    send_days: Annotated[int, Field(ge=0, le=MOST_SEND_DAYS)] | None = None

    def told(self) -> SellingTerms:
        """How it is sold."""
        return SellingTerms(state=STANDING.get(self.standing, "ended"), send_days=self.send_days)


class _Priced(RemotePrice):
    external_id: Key = Field(min_length=1, validation_alias="offer")


class _Batch(Message):
    batch: Key = Field(min_length=1)


class _Progress(Message):
    status: str
    lines: list[Any] = Field(default_factory=list)
    after: str | None = None


class _Line(Message):
    offer: Key
    taken: bool
    reason: str = ""
    made: Key = ""


class _Categories(Message):
    categories: list[RemoteCategory]


class _Entries(Message):
    entries: dict[str, Key]


class _Orders(Message):
    orders: list[Any]
    after: str | None = None


class _Parcel(Message):
    parcel: str


class Market(Connector, Listings, States, Dispatch, Prices, Feeds, Publishing, Texts, OrderStates, Shipments):
    """One region of a marketplace account."""

    kind = "market"
    label = "Marketplace"
    gives_no = ("costs", "suppliers", "weights", "pictures", "customers' mail addresses")
    sign_in = GRANTED.with_entries(REGION)
    scopes = ("offers", "orders")
    order_states: ClassVar[Mapping[str, str]] = {
        "to_ship": "taken",
        "sent_by_market": "taken",
        "shipped": "left",
        "cancelled": "cancelled",
    }
    payment_methods = ("marketplace",)
    told_states = ("confirmed", "cancelled")
    calls_per_second = 4.0
    most_pushed = 2000
    most_title = 80

    @property
    def _region(self) -> str:
        return f"/api/regions/{quote(self.values.get('region', ''), safe='')}"

    def identify(self) -> Identity:
        """The seller, what the client may do, and whether the account sells in this region."""
        found = read(_Account, self.caller.call("GET", "/api/account"))
        region = self.values.get("region", "")
        held = self._identity({"name": f"{found.seller}, {region}", "scopes": found.may})
        missing = [] if region in found.regions else [f"the region {region} (it has {', '.join(found.regions)})"]
        return held.model_copy(update={"missing": [*held.missing, *missing]})

    def listings(self, cursor: str) -> Page:
        """Offers of the region."""
        data = read(_Offers, self.caller.call("GET", f"{self._region}/offers", params={"after": cursor, "count": 200}))
        return Page(rows=raw_rows(data.offers), cursor=data.after or "")

    def read_listing(self, body: Any) -> RemoteListing:
        """An offer; the seller's own code may be missing."""
        return read(
            RemoteListing,
            {
                "external_id": part(body, "offer"),
                "group_id": body.get("family"),
                "sku": body.get("seller_code"),
                "barcode": body.get("barcode"),
                "title": part(body, "title"),
                "product_title": body.get("title"),
                "options": body.get("variation") or {},
                "category": body.get("category"),
                "price": body.get("price"),
                "quantity": body.get("quantity"),
                "kept_there": body.get("kept_by") == "market",
                "description": body.get("description"),
                "attributes": body.get("attributes") or {},
                "state": STANDING.get(body.get("standing") or "on_sale", "ended"),
            },
        )

    def read_quantities(self, external_ids: Sequence[str]) -> dict[str, Decimal]:
        """Quantities of offers."""
        return {key: row.quantity for key, row in self.read_shown(external_ids).items()}

    def read_shown(self, external_ids: Sequence[str]) -> dict[str, RemoteQuantity]:
        """Quantities of offers, how each stands and how soon it is sent."""
        rows = sound(_Shown, self._shown(external_ids))
        return {row.external_id: row.model_copy(update={"terms": row.told()}) for row in rows}

    def read_prices(self, external_ids: Sequence[str]) -> dict[str, RemotePrice]:
        """Prices of offers; a marketplace shows none before it."""
        return {row.external_id: row for row in sound(_Priced, self._shown(external_ids))}

    def _shown(self, external_ids: Sequence[str]) -> list[Any]:
        batches = [{"offers": ",".join(external_ids[start : start + 100])} for start in range(0, len(external_ids), 100)]
        answers = [read(_Offers, data) for data in self.caller.read_many(f"{self._region}/shown", batches)]
        return [row for data in answers for row in data.offers]

    def push_quantities(self, pushes: Sequence[QuantityPush]) -> Submitted:
        """Hand quantities in."""
        lines = [
            {
                "offer": p.external_id,
                "quantity": int(p.quantity),
                "standing": THERE[p.terms.state],
                "send_days": p.terms.send_days,
            }
            for p in pushes
        ]
        return self._hand_in("quantities", lines)

    def push_prices(self, pushes: Sequence[PricePush]) -> Submitted:
        """Hand prices in."""
        return self._hand_in("prices", [{"offer": p.external_id, "price": str(p.price)} for p in pushes])

    def _hand_in(self, what: str, lines: list[dict[str, Any]]) -> Submitted:
        body = {"what": what, "lines": lines}
        return Submitted(key=read(_Batch, self.caller.call("POST", f"{self._region}/batches", json=body)).batch)

    def read_feed(self, key: str) -> SubmittedAnswer:
        """Where a batch stands; once it is done, every page of its lines."""
        first = self._progress(key, "")
        if first.status != "done":
            return SubmittedAnswer(done=False)
        lines = list(first.lines)
        if first.after:
            lines += [raw.body for page in pages(lambda after: self._lines(key, after), first.after) for raw in page.rows]
        results = [PushResult(external_id=x.offer, ok=x.taken, error=x.reason, made=x.made) for x in sound(_Line, lines)]
        return SubmittedAnswer(done=True, results=results)

    def _progress(self, key: str, after: str) -> _Progress:
        path = f"{self._region}/batches/{quote(key, safe='')}"
        return read(_Progress, self.caller.call("GET", path, params={"after": after}))

    def _lines(self, key: str, after: str) -> Page:
        data = self._progress(key, after)
        return Page(rows=raw_rows(data.lines), cursor=data.after or "")

    def categories(self) -> list[RemoteCategory]:
        """The region's categories."""
        return read(_Categories, self.caller.call("GET", f"{self._region}/categories")).categories

    def find_entries(self, barcodes: Sequence[str]) -> dict[str, str]:
        """What its catalogue knows by barcode, a hundred at a time."""
        batches = [{"barcodes": ",".join(barcodes[start : start + 100])} for start in range(0, len(barcodes), 100)]
        answers = self.caller.read_many(f"{self._region}/catalogue", batches) if batches else []
        return {code: entry for data in answers for code, entry in read(_Entries, data).entries.items()}

    def publish(self, rows: Sequence[NewListing]) -> Submitted:
        """Hand new offers in."""
        return self._hand_in("offers", [_new_offer(row) for row in rows])

    def push_texts(self, rows: Sequence[ListingText]) -> Submitted:
        """Hand titles and descriptions in."""
        lines = [{"offer": row.external_id, "title": row.title, "description": row.description} for row in rows]
        return self._hand_in("texts", lines)

    def orders(self, since: str, cursor: str) -> Page:
        """Orders of the region changed since a time of the marketplace's."""
        params = {"changed_since": since, "after": cursor, "count": 100}
        data = read(_Orders, self.caller.call("GET", f"{self._region}/orders", params=params))
        return Page(rows=raw_rows(data.orders, at="updated_at"), cursor=data.after or "")

    def read_order(self, body: Any) -> RemoteOrder:
        """Positions and postage as lines. An order that the marketplace sends itself comes once it has left."""
        part(body, "positions")
        status = part(body, "state")
        lines = [_position(row) for row in objects(body, "positions")]
        return read(
            RemoteOrder,
            {
                "external_id": part(body, "order"),
                "number": part(body, "order"),
                "version": part(body, "revision"),
                "status": status,
                "done": status in ("shipped", "sent_by_market"),
                "sent_by_channel": status == "sent_by_market",
                "send_by": body.get("send_by"),
                "penalty": body.get("penalty") or 0,
                "placed_at": part(body, "placed_at"),
                "currency": part(body, "currency"),
                "total": part(body, "total"),
                "customer": {"name": part(body, "buyer")},
                "ship_to": body.get("address") or {},
                "lines": [*lines, *(_postage(row) for row in objects(body, "postage"))],
                "payments": [{"method": "marketplace", "amount": part(body, "total")}],
                "parcels": [_parcel(row) for row in objects(body, "parcels") if row.get("key")],
            },
        )

    def tell_state(self, notice: StateNotice) -> None:
        """Confirm or cancel an order; the marketplace charges for what its seller cancels."""
        path = f"{self._region}/orders/{quote(notice.order_id, safe='')}/state"
        self.caller.call("PUT", path, json={"state": notice.state, "reason": notice.why})

    def fulfil(self, notice: ShipmentNotice) -> str:
        """Tell what left; repeated calls with one key make one parcel."""
        body = {
            "carrier": notice.carrier,
            "tracking": notice.tracking,
            "bill": notice.invoice,
            "complete": notice.complete,
            "positions": [{"position": line, "count": str(quantity)} for line, quantity in notice.lines],
        }
        path = f"{self._region}/orders/{quote(notice.order_id, safe='')}/parcels"
        return read(_Parcel, self.caller.call("POST", path, json=body, headers={"Idempotency-Key": notice.key})).parcel


def _parcel(row: dict[str, Any]) -> dict[str, Any]:
    lines = [(str(part(line, "position")), line.get("count", 0)) for line in objects(row, "positions")]
    told = {name: row.get(name) or "" for name in ("key", "at", "carrier", "tracking")}
    return {**told, "lines": lines}


def _new_offer(row: NewListing) -> dict[str, Any]:
    names = ("title", "description", "category", "attributes", "barcode")
    told = {name: getattr(row, name) for name in names}
    return {"offer": row.key, "seller_code": row.sku, "price": str(row.price), "entry": row.entry, **told}


def _position(row: dict[str, Any]) -> RemoteLine:
    return read(
        RemoteLine,
        {
            "external_id": part(row, "position"),
            "kind": "item",
            "listing_id": part(row, "offer"),
            "sku": row.get("seller_code"),
            "title": part(row, "title"),
            "quantity": part(row, "count"),
            "amount": part(row, "amount"),
            "tax_percent": row.get("tax", 0),
        },
    )


def _postage(row: dict[str, Any]) -> RemoteLine:
    return read(
        RemoteLine, {"kind": "shipping", "title": "Postage", "amount": part(row, "amount"), "tax_percent": row.get("tax", 0)}
    )
