"""The marketplace: one account in several regions, changed by batches that are worked on later; orders that the seller
sends and orders that the marketplace sends out of a store of its own; a page for shoppers."""

from __future__ import annotations

import base64
import binascii
import secrets
from datetime import UTC, datetime, timedelta
from decimal import ROUND_HALF_UP, Decimal
from typing import Any

from flask import Blueprint, g, redirect, render_template, request
from werkzeug.wrappers import Response

from . import faults
from .common import account_of, board_of, money, paged, refusal, refused_line, scoped, store
from .faults import stamp
from .store import Doc

bp = Blueprint("market", __name__, url_prefix="/market/<account>")
CENT = Decimal("0.01")
FEE = Decimal("0.12")
POSTAGE = Decimal("4.90")
# Days that a seller has to send an order, and what it costs to be later.
DAYS, MOST_DAYS, PENALTY = 2, 60, Decimal("3.50")
# Seconds that a batch takes, where the account says nothing else, and lines of its result on a page.
BATCH_SECONDS, RESULTS = 2.0, 500
MOST_LINES = 5000


@bp.post("/token")
def token(account: str) -> Any:
    """A token for a client that knows its secret, good for a while."""
    struck = faults.before(store(), account)
    if struck is not None:
        return struck
    with store().transaction():
        market = account_of(account, "market")
        client, _, secret = _basic().partition(":")
        known = market["clients"].get(client)
        if known is None or not secrets.compare_digest(known["secret"], secret):
            return refusal(401, "This client is not known here, or its secret is another.")
        if request.form.get("grant_type") != "client_credentials":
            return refusal(400, "grant_type must be client_credentials.")
        seconds = int(market.get("token_seconds", 3600))
        key = secrets.token_urlsafe(18)
        until = (datetime.now(UTC) + timedelta(seconds=seconds)).isoformat()
        store().put(account, "token", key, {"id": key, "until": until, "scopes": known["scopes"]})
        return {"access_token": key, "token_type": "Bearer", "expires_in": seconds}


def _basic() -> str:
    try:
        return base64.b64decode(request.headers.get("Authorization", "").removeprefix("Basic ")).decode()
    except (binascii.Error, UnicodeDecodeError):
        return ""


@bp.get("/api/account")
@scoped("market", "")
def whoami(account: str) -> Any:
    return {"seller": g.account["name"], "may": g.scopes, "regions": g.account["regions"]}


@bp.get("/api/regions/<region>/offers")
@scoped("market", "offers")
def offers(account: str, region: str) -> Any:
    limit = min(500, int(request.args.get("count", 100)))
    rows, following = paged(account, f"offer-{region}", request.args.get("after") or "", limit)
    return {"offers": rows, "after": following}


@bp.get("/api/regions/<region>/shown")
@scoped("market", "offers")
def shown(account: str, region: str) -> Any:
    wanted = [key for key in request.args.get("offers", "").split(",") if key]
    found = [store().get(account, f"offer-{region}", key) for key in wanted]
    names = ("offer", "quantity", "price")
    more = {"standing": "on_sale", "send_days": None}
    return {"offers": [{**{n: o[n] for n in names}, **{n: o.get(n, usual) for n, usual in more.items()}} for o in found if o]}


@bp.post("/api/regions/<region>/batches")
@scoped("market", "offers")
def hand_in(account: str, region: str) -> Any:
    body = request.get_json(silent=True) or {}
    lines = body.get("lines")
    if body.get("what") not in CHANGES or not isinstance(lines, list) or not 0 < len(lines) <= MOST_LINES:
        return refusal(422, f"A batch says what it changes ({', '.join(CHANGES)}) in up to {MOST_LINES} lines.")
    key = secrets.token_hex(8)
    ready = datetime.now(UTC) + timedelta(seconds=float(g.account.get("batch_seconds", BATCH_SECONDS)))
    batch = {"id": key, "region": region, "what": body["what"], "lines": lines, "ready_at": ready.isoformat(), "results": None}
    store().put(account, "batch", key, batch)
    return {"batch": key}


@bp.get("/api/regions/<region>/batches/<key>")
@scoped("market", "offers")
def batch(account: str, region: str, key: str) -> Any:
    found = store().get(account, "batch", key)
    if found is None or found["region"] != region:
        return refusal(404, "There is no such batch.")
    if datetime.now(UTC) < datetime.fromisoformat(found["ready_at"]):
        return {"status": "waiting"}
    if found["results"] is None:
        change = CHANGES[found["what"]]
        codes = {o.get("seller_code") for o in store().all(account, f"offer-{region}")} if change is None else set()
        results = [_changed(account, region, line, change, number, codes) for number, line in enumerate(found["lines"])]
        found |= {"results": results, "lines": len(found["lines"])}
        store().amend(account, "batch", key, found)
    begin = int(request.args.get("after") or 0)
    end = begin + RESULTS
    return {"status": "done", "lines": found["results"][begin:end], "after": str(end) if end < len(found["results"]) else None}


def _changed(account: str, region: str, line: Any, change: Any, number: int, codes: set[Any]) -> Doc:
    key = str(line.get("offer", "")) if isinstance(line, dict) else ""
    offer = store().get(account, f"offer-{region}", key)
    if number == 0 and refused_line(account):
        reason = "this line was not taken"
    elif change is None:
        return _listed(account, region, line if isinstance(line, dict) else {}, codes)
    elif offer is None:
        reason = "there is no such offer in this region"
    else:
        reason = change(offer, line)
    if not reason:
        store().amend(account, f"offer-{region}", key, offer or {})
    return {"offer": key, "taken": not reason, "reason": reason}


def _quantity(offer: Doc, line: Doc) -> str:
    if offer.get("kept_by") == "market":
        return "it is kept in our own store; we count it ourselves"
    quantity = line.get("quantity")
    if not isinstance(quantity, int) or quantity < 0:
        return "the quantity must be a whole number, zero or more"
    standing = line.get("standing", "on_sale")
    if standing not in ("on_sale", "suspended", "withdrawn"):
        return "an offer is on sale, suspended or withdrawn"
    days = line.get("send_days")
    if days is not None and (not isinstance(days, int) or not 0 <= days <= MOST_DAYS):
        return f"an offer is sent within 0 to {MOST_DAYS} days"
    offer |= {"quantity": quantity, "standing": standing, "send_days": days}
    return ""


def _price(offer: Doc, line: Doc) -> str:
    price = money(line.get("price"), "price")
    if price <= 0:
        return "the price must be above zero"
    offer["price"] = str(price.quantize(CENT))
    return ""


def _texts(offer: Doc, line: Doc) -> str:
    title = str(line.get("title", "")).strip()
    if not 0 < len(title) <= 80:
        return "a title has 1 to 80 characters"
    if title.lower().startswith("forbidden"):
        return "we do not say this"
    offer |= {"title": title, "description": str(line.get("description", ""))}
    return ""


def _listed(account: str, region: str, line: Doc, codes: set[Any]) -> Doc:
    """A new offer, where the category has what it asks for; the catalogue's own entry needs no attributes. `codes`: what
    the seller offers already, by his own code."""
    key = str(line.get("offer", ""))
    category = store().get(account, f"category-{region}", str(line.get("category", "")))
    given = line.get("attributes") or {}
    wanted = [] if line.get("entry") or category is None else category["attributes"]
    lacking = [a["label"] for a in wanted if a["required"] and not str(given.get(a["name"], "")).strip()]
    wrong = [a["label"] for a in wanted if a["values"] and given.get(a["name"]) and given[a["name"]] not in a["values"]]
    reason = (
        "there is no such category"
        if category is None
        else f"it lacks {', '.join(lacking)}"
        if lacking
        else f"{', '.join(wrong)}: that value is not allowed here"
        if wrong
        else "the title is longer than 80 characters"
        if len(str(line.get("title", ""))) > 80
        else "you offer this already"
        if line.get("seller_code") in codes
        else "we do not sell this"
        if str(line.get("title", "")).lower().startswith("forbidden")
        else ""
    )
    if reason:
        return {"offer": key, "taken": False, "reason": reason}
    codes.add(line.get("seller_code"))
    made = f"N{secrets.token_hex(4)}"
    facts = {name: line.get(name, "") for name in ("seller_code", "barcode", "title", "description", "category", "entry")}
    offer = {
        "id": made,
        "offer": made,
        "quantity": 0,
        "kept_by": "seller",
        "price": str(money(line.get("price"), "price")),
        **facts,
    }
    store().put(account, f"offer-{region}", made, {**offer, "family": "", "variation": {}, "attributes": given})
    return {"offer": key, "taken": True, "reason": "", "made": made}


@bp.get("/api/regions/<region>/categories")
@scoped("market", "offers")
def categories(account: str, region: str) -> Any:
    return {"categories": store().all(account, f"category-{region}")}


@bp.get("/api/regions/<region>/catalogue")
@scoped("market", "offers")
def catalogue(account: str, region: str) -> Any:
    """What everybody sells, by barcode."""
    wanted = [code for code in request.args.get("barcodes", "").split(",") if code]
    known = {code: store().get(account, "entry", code) for code in wanted}
    return {"entries": {code: entry["entry"] for code, entry in known.items() if entry}}


CHANGES = {"quantities": _quantity, "prices": _price, "texts": _texts, "offers": None}


@bp.get("/api/regions/<region>/orders")
@scoped("market", "orders")
def orders(account: str, region: str) -> Any:
    limit = min(200, int(request.args.get("count", 50)))
    since = request.args.get("changed_since", "")
    rows, following = paged(account, f"order-{region}", request.args.get("after") or "", limit, since)
    return {"orders": rows, "after": following}


@bp.post("/api/regions/<region>/orders/<key>/parcels")
@scoped("market", "orders")
def parcel(account: str, region: str, key: str) -> Any:
    order = store().get(account, f"order-{region}", key)
    if order is None:
        return refusal(404, "There is no such order.")
    sent = request.headers.get("Idempotency-Key", "")
    done = next((one for one in order["parcels"] if one["key"] == sent), None)
    if done:
        return {"parcel": done["parcel"]}
    if order["state"] not in ("to_ship", "shipped"):
        return refusal(409, f"This order is {order['state'].replace('_', ' ')}.")
    body = request.get_json(silent=True) or {}
    made = {"parcel": f"{key}-{len(order['parcels']) + 1}", "key": sent, "carrier": body.get("carrier", "")}
    told = {name: body.get(name, "") for name in ("tracking", "bill")}
    order["parcels"].append({**made, **told, "at": stamp(store(), account), "positions": body.get("positions", [])})
    order["state"] = "shipped" if body.get("complete") else order["state"]
    if stamp(store(), account)[:10] > order.get("send_by", "9"):
        order["penalty"] = str(PENALTY)
    _write(account, region, order)
    return {"parcel": made["parcel"]}


@bp.put("/api/regions/<region>/orders/<key>/state")
@scoped("market", "orders")
def stands(account: str, region: str, key: str) -> Any:
    """What its seller says of an order; who cancels one is charged for it."""
    order = store().get(account, f"order-{region}", key)
    if order is None:
        return refusal(404, "There is no such order.")
    state = (request.get_json(silent=True) or {}).get("state")
    if state not in ("confirmed", "cancelled"):
        return refusal(422, "state must be confirmed or cancelled.")
    done = order["state"] == "cancelled" if state == "cancelled" else order.get("confirmed", False)
    if done:
        return {}
    if order["state"] != "to_ship" or order["parcels"]:
        return refusal(409, f"This order is {order['state'].replace('_', ' ')}.")
    if state == "cancelled":
        _put_back(account, region, order)
        order["penalty"] = str(PENALTY)
    order["confirmed"] = state == "confirmed"
    _write(account, region, order)
    return {}


def _put_back(account: str, region: str, order: Doc) -> None:
    """An order that is cancelled: its goods are for sale again."""
    for row in order["positions"]:
        offer = store().get(account, f"offer-{region}", row["offer"]) or {}
        store().amend(account, f"offer-{region}", row["offer"], {**offer, "quantity": offer["quantity"] + row["count"]})
    order["state"] = "cancelled"


def _write(account: str, region: str, order: Doc) -> None:
    order |= {"revision": order["revision"] + 1, "updated_at": stamp(store(), account)}
    store().put(account, f"order-{region}", order["order"], order)


def sent_within(offer: Doc | None) -> int:
    """Days until an offer is sent: what its seller says, else ours."""
    said = (offer or {}).get("send_days")
    return DAYS if said is None else int(said)


def place(account: str, region: str, wanted: dict[str, int], buyer: str) -> Doc | str:
    """A shopper's order, or a sentence saying why not. What the marketplace keeps itself leaves at once, in an order of
    its own; nobody can order both kinds together."""
    market = account_of(account, "market")
    chosen = [(store().get(account, f"offer-{region}", key), count) for key, count in wanted.items()]
    if not chosen:
        return "Choose at least one thing."
    if any(offer is None or offer.get("standing", "on_sale") != "on_sale" for offer, _ in chosen):
        return "That is not on sale now."
    if any(offer is None or count > offer["quantity"] for offer, count in chosen):
        return "There are not so many of that any more."
    by_us = {bool(offer and offer.get("kept_by") == "market") for offer, _ in chosen}
    if len(by_us) > 1:
        return "What we send ourselves is ordered by itself."
    positions = []
    for number, (offer, count) in enumerate(chosen, 1):
        offer = offer or {}
        amount = (Decimal(offer["price"]) * count).quantize(CENT)
        row = {"position": f"{number}", "offer": offer["offer"], "seller_code": offer.get("seller_code", "")}
        positions.append({**row, "title": offer["title"], "count": count, "amount": str(amount), "tax": "23"})
        store().amend(account, f"offer-{region}", offer["offer"], {**offer, "quantity": offer["quantity"] - count})
    goods = sum((Decimal(row["amount"]) for row in positions), Decimal(0))
    number = int(market.get("next_number", 1))
    store().amend(account, "account", account, {**market, "next_number": number + 1})
    at = stamp(store(), account)
    order: Doc = {
        "id": f"{region.upper()}-{number:06d}",
        "order": f"{region.upper()}-{number:06d}",
        "revision": 1,
        "state": "sent_by_market" if True in by_us else "to_ship",
        "placed_at": at,
        "updated_at": at,
        "currency": market.get("currencies", {}).get(region, "EUR"),
        "buyer": buyer,
        "address": {"name": buyer, "street": "8 Orchard Way", "city": "Larkmead", "country": region.upper()},
        "positions": positions,
        "postage": [{"amount": str(POSTAGE), "tax": "23"}],
        "total": str(goods + POSTAGE),
        "send_by": (datetime.fromisoformat(at) + timedelta(days=max(sent_within(offer) for offer, _ in chosen)))
        .date()
        .isoformat(),
        "fee": str((goods * FEE).quantize(CENT, ROUND_HALF_UP)),
        "parcels": [],
    }
    store().put(account, f"order-{region}", order["order"], order)
    return order


@bp.get("/")
def page(account: str) -> Any:
    with store().transaction():
        market = account_of(account, "market")
        region = request.args.get("region") or market["regions"][0]
        batches = [body for _, body in store().rows(account, "batch") if body["region"] == region]
        return render_template(
            "market.html",
            account=account,
            market=market,
            region=region,
            offers=store().all(account, f"offer-{region}"),
            orders=[body for _, body in store().rows(account, f"order-{region}")][::-1][:20],
            batches=batches[::-1][:8],
            **board_of(account),
            said=request.args.get("said", ""),
        )


@bp.post("/buy")
def buy(account: str) -> Any:
    wanted = {k.removeprefix("q-"): int(v) for k, v in request.form.items() if k.startswith("q-") and v.isdigit() and int(v)}
    region, buyer = request.form.get("region", ""), request.form.get("name", "").strip()[:120] or "A shopper"
    with store().transaction():
        order = place(account, region, wanted, buyer)
    if request.accept_mimetypes.best == "application/json":
        return refusal(409, order) if isinstance(order, str) else order
    said = order if isinstance(order, str) else f"Ordered: {order['order']}, {order['total']} {order['currency']}."
    return redirect(f"/market/{account}/?region={region}&said={said}")


@bp.post("/cancel")
def cancel(account: str) -> Response:
    """The shopper no longer wants it, before anything has left."""
    region, key = request.form["region"], request.form["order"]
    with store().transaction():
        order = store().get(account, f"order-{region}", key)
        if order is None or order["state"] != "to_ship" or order["parcels"]:
            return redirect(f"/market/{account}/?region={region}&said=It+has+left+already.")
        _put_back(account, region, order)
        _write(account, region, order)
    return redirect(f"/market/{account}/?region={region}&said=Cancelled.")


@bp.post("/edit")
def edit(account: str) -> Response:
    """Someone edits an offer on the marketplace's own page."""
    region, key = request.form["region"], request.form["offer"]
    with store().transaction():
        offer = store().get(account, f"offer-{region}", key) or {}
        for name, change in (("quantity", _quantity), ("price", _price)):
            text = request.form.get(name, "").strip()
            if text:
                change(offer, {name: int(text) if name == "quantity" else text})
        store().amend(account, f"offer-{region}", key, offer)
    return redirect(f"/market/{account}/?region={region}&said=Saved.")
