"""The web shop: products and variants, orders, signed webhooks, a page for shoppers and a back office."""

from __future__ import annotations

import base64
import secrets
from collections.abc import Callable, Iterable
from decimal import ROUND_HALF_UP, Decimal
from typing import Any

from flask import Blueprint, g, redirect, render_template, request
from werkzeug.wrappers import Response

from . import hooks
from .common import account_of, board_of, money, paged, refusal, refused_line, scoped, store
from .faults import stamp
from .store import Doc

bp = Blueprint("shop", __name__, url_prefix="/shop/<account>")
CENT = Decimal("0.01")
COUPONS = {"HONEY10": 10, "CLUB5": 5}
GIFT_WRAP = Decimal("3.50")
POSTAGE = Decimal("6.90")
FREE_FROM = Decimal("120")
LIMITS = ("least", "step", "most")
# Ways to pay: what an order stands as then, and its payment.
PAID = {
    "card": ("paid", {"method": "card", "state": "paid"}),
    "card_later": ("authorised", {"method": "card", "state": "authorised"}),
    "bank_transfer": ("awaiting_payment", {"method": "bank_transfer", "state": "waiting"}),
}


@bp.get("/api/whoami")
@scoped("shop", "")
def whoami(account: str) -> Any:
    return {"name": g.account["name"], "scopes": g.scopes}


@bp.get("/api/products")
@scoped("shop", "products:read")
def products(account: str) -> Any:
    rows, following = paged(account, "product", request.args.get("cursor") or "", min(100, int(request.args.get("limit", 50))))
    return {"products": rows, "next": following}


@bp.get("/api/pictures/<key>")
@scoped("shop", "products:read")
def picture(account: str, key: str) -> Any:
    found = store().get(account, "picture", key)
    if found is None:
        return refusal(404, "There is no such picture.")
    return Response(base64.b64decode(found["data"]), mimetype="image/png")


@bp.get("/picture/<key>")
def shown(account: str, key: str) -> Any:
    """A picture as the shopper's browser asks for it."""
    with store().transaction():
        found = store().get(account, "picture", key)
    return Response(base64.b64decode(found["data"]), mimetype="image/png") if found else refusal(404, "No picture.")


def _variants(account: str, wanted: Iterable[str]) -> dict[str, tuple[Doc, Doc]]:
    """(product, variant) of the wanted variants that exist; variants of one product share its document."""
    index = store().index(account, "product", _variant_ids)
    products: dict[str, Doc] = {}
    found = {}
    for key in wanted:
        place = index.get(key)
        if place is None:
            continue
        product = products.setdefault(place, store().get(account, "product", place) or {"variants": []})
        variant = next((v for v in product["variants"] if str(v["id"]) == key), None)
        if variant:
            found[key] = (product, variant)
    return found


def _variant_ids(product: Doc) -> list[str]:
    return [str(v["id"]) for v in product["variants"]]


@bp.get("/api/places")
@scoped("shop", "products:read")
def places(account: str) -> Any:
    return {"places": g.account.get("places", [])}


@bp.get("/api/quantities")
@scoped("shop", "products:read")
def read_quantities(account: str) -> Any:
    wanted = [i for i in request.args.get("ids", "").split(",") if i]
    known = _variants(account, wanted)
    rows = [(i, known[i][1]) for i in wanted if i in known]
    return {"quantities": [{"id": i, "quantity": v["quantity"], "selling": v.get("selling") or {}} for i, v in rows]}


def _each_line(account: str, change: Callable[[Doc, Doc], str]) -> Any:
    """Change the variants that a batch names, line by line; `change` is given the variant and its line, and says what is
    wrong with it."""
    lines = (request.get_json(silent=True) or {}).get("lines", [])
    known = _variants(account, [str(line.get("id")) for line in lines])
    results = []
    for number, line in enumerate(lines):
        key = str(line.get("id"))
        if number == 0 and refused_line(account):
            error = "this line was not taken"
        elif key not in known:
            error = "no such variant"
        else:
            product, variant = known[key]
            error = change(variant, line)
            if not error:
                store().amend(account, "product", str(product["id"]), product)
        results.append({"id": key, "ok": False, "error": error} if error else {"id": key, "ok": True})
    return {"results": results}


@bp.post("/api/quantities")
@scoped("shop", "stock:write")
def write_quantities(account: str) -> Any:
    def change(variant: Doc, line: Doc) -> str:
        quantity, selling = line.get("quantity"), line.get("selling") or {}
        known = {one["key"] for one in account_of(account, "shop").get("places", [])}
        if set(selling.get("places") or {}) - known:
            return "there is no such place"
        if not isinstance(quantity, int) or quantity < 0:
            return "quantity must be a whole number, zero or more"
        if not _can_sell(selling) or not _places_add_up(quantity, selling):
            return "it cannot be sold so"
        variant |= {"quantity": quantity, "selling": selling}
        return ""

    return _each_line(account, change)


def _can_sell(selling: Any) -> bool:
    """Whether terms of selling are built as they should be: texts that fit the page, counts that are none or more."""
    if not isinstance(selling, dict):
        return False
    texts = [selling.get(name, "") for name in ("badge", "text", "low_text", "promised_on")]
    if selling.get("state", "live") not in ("live", "hidden", "ended"):
        return False
    several = selling.get("groups") or {}
    if not isinstance(several, dict) or not all(isinstance(one, dict) for one in several.values()):
        return False
    limits = [money(of.get(name) or 0, name) for of in (selling, *several.values()) for name in ("least", "step", "most")]
    counts = [*limits, *(money(selling.get(name) or 0, name) for name in ("past_zero", "low_below"))]
    return all(isinstance(one, str) and len(one) <= 200 for one in texts) and min(counts) >= 0


def _places_add_up(quantity: int, selling: Doc) -> bool:
    """Whether what lies at the shop's places comes to the quantity, where it is told by place."""
    told = selling.get("places")
    return not told or sum((money(units, "places") for units in told.values()), Decimal(0)) == quantity


def at_place(variant: Doc, place: str) -> int:
    """How many lie at one of the shop's places; everything where it is not told by place."""
    told = (variant.get("selling") or {}).get("places")
    return int(Decimal(str(told.get(place, 0)))) if told and place else int(variant["quantity"])


def in_stock(variant: Doc) -> int:
    """How many are there: what is shown less what may be sold past zero."""
    return max(0, int(variant["quantity"] - Decimal(str((variant.get("selling") or {}).get("past_zero", 0)))))


@bp.get("/api/prices")
@scoped("shop", "products:read")
def read_prices(account: str) -> Any:
    wanted = [i for i in request.args.get("ids", "").split(",") if i]
    known = _variants(account, wanted)
    return {
        "prices": [{"id": i, "price": str(known[i][1]["price"]), "was": known[i][1].get("was")} for i in wanted if i in known]
    }


@bp.post("/api/prices")
@scoped("shop", "prices:write")
def write_prices(account: str) -> Any:
    def change(variant: Doc, line: Doc) -> str:
        price, was = money(line.get("price"), "price"), line.get("was")
        if price < 0 or (was is not None and money(was, "was") <= price):
            return "the price before must be higher"
        variant |= {"price": str(price.quantize(CENT)), "was": None if was is None else str(money(was, "was").quantize(CENT))}
        return ""

    return _each_line(account, change)


def _group(account: str, key: str) -> Doc | None:
    return next((one for one in account_of(account, "shop").get("groups", []) if one["key"] == key), None)


@bp.get("/api/groups")
@scoped("shop", "products:read")
def groups(account: str) -> Any:
    return {"groups": g.account.get("groups", [])}


@bp.get("/api/groups/<group>/prices")
@scoped("shop", "products:read")
def read_group_prices(account: str, group: str) -> Any:
    if _group(account, group) is None:
        return refusal(404, "There is no such customer group.")
    wanted = [i for i in request.args.get("ids", "").split(",") if i]
    known = _variants(account, wanted)
    return {"prices": [{"id": i, "price": (known[i][1].get("for_groups") or {}).get(group)} for i in wanted if i in known]}


@bp.post("/api/groups/<group>/prices")
@scoped("shop", "prices:write")
def write_group_prices(account: str, group: str) -> Any:
    if _group(account, group) is None:
        return refusal(404, "There is no such customer group.")

    def change(variant: Doc, line: Doc) -> str:
        price = line.get("price")
        if price is not None and money(price, "price") < 0:
            return "a price must be zero or more"
        others = {name: own for name, own in (variant.get("for_groups") or {}).items() if name != group}
        own = {} if price is None else {group: str(money(price, "price").quantize(CENT))}
        variant["for_groups"] = others | own
        return ""

    return _each_line(account, change)


def price_for(variant: Doc, group: str) -> str:
    """What somebody of a group is asked, or anybody."""
    return str((variant.get("for_groups") or {}).get(group, variant["price"]))


def limits_for(variant: Doc, group: str) -> Doc:
    """How many one order may hold of it: for a group that has limits of its own by those alone."""
    selling: Doc = variant.get("selling") or {}
    own: Doc | None = (selling.get("groups") or {}).get(group)
    return selling if own is None else own


@bp.get("/api/orders")
@scoped("shop", "orders:read")
def orders(account: str) -> Any:
    limit = min(100, int(request.args.get("limit", 50)))
    rows, following = paged(account, "order", request.args.get("cursor") or "", limit, request.args.get("updated_since", ""))
    return {"orders": rows, "next": following}


@bp.post("/api/orders/<order_id>/shipments")
@scoped("shop", "shipments:write")
def ship(account: str, order_id: str) -> Any:
    order = store().get(account, "order", order_id)
    if order is None:
        return refusal(404, "There is no such order.")
    key = request.headers.get("Idempotency-Key", "")
    done = next((s for s in order["shipments"] if s["key"] == key), None)
    if done:
        return done
    if order["status"] == "cancelled":
        return refusal(409, "This order was cancelled.")
    body = request.get_json(silent=True) or {}
    shipment = {
        "id": f"s{len(order['shipments']) + 1}-{order_id}",
        "key": key,
        "at": stamp(store(), account),
        "carrier": body.get("carrier", ""),
        "tracking": body.get("tracking", ""),
        "invoice": body.get("invoice", ""),
        "lines": body.get("lines", []),
    }
    order["shipments"].append(shipment)
    order["fulfilment"] = "shipped" if body.get("complete") else "part-shipped"
    order["updated_at"] = stamp(store(), account)
    store().put(account, "order", order_id, order)
    return shipment


PROGRESS = ("accepted", "in_hand", "on_hold", "waiting_for_goods", "on_its_way", "cancelled")


@bp.put("/api/orders/<order_id>/state")
@scoped("shop", "shipments:write")
def progress(account: str, order_id: str) -> Any:
    """What the shopper sees of how the order gets on."""
    order = store().get(account, "order", order_id)
    if order is None:
        return refusal(404, "There is no such order.")
    body = request.get_json(silent=True) or {}
    state = body.get("state")
    if state not in PROGRESS:
        return refusal(422, f"state must be one of {', '.join(PROGRESS)}.")
    if state == order.get("progress"):
        return {}
    if state == "cancelled" and order["shipments"]:
        return refusal(409, "A part of this order has left.")
    order |= {"progress": state, "note": str(body.get("note", ""))[:300]}
    if state == "cancelled" and order["status"] != "cancelled":
        _put_back(account, order)
    _changed(account, order)
    return {}


@bp.post("/api/webhooks")
@scoped("shop", "webhooks:write")
def register(account: str) -> Any:
    url = (request.get_json(silent=True) or {}).get("url", "")
    if not url.startswith("http"):
        return refusal(422, "url must be a web address.")
    secret = hooks.new_secret()
    store().put(account, "webhook", "only", {"id": "only", "url": url, "secret": secret})
    return {"secret": secret}


@bp.post("/api/webhooks/test")
@scoped("shop", "webhooks:write")
def test_hook(account: str) -> Any:
    hooks.tell(store(), account, "test", {"updated_at": stamp(store(), account)})
    return {}


@bp.post("/api/orders/<order_id>/payments/<payment_id>/captures")
@scoped("shop", "shipments:write")
def capture(account: str, order_id: str, payment_id: str) -> Any:
    """Take a part of an authorised payment, once for each key."""
    order = store().get(account, "order", order_id)
    payment = next((one for one in (order or {}).get("payments", []) if one["id"] == payment_id), None)
    if order is None or payment is None:
        return refusal(404, "There is no such payment.")
    key = request.headers.get("Idempotency-Key", "")
    done = next((one for one in payment.setdefault("captures", []) if one["key"] == key), None)
    if done:
        return done
    amount = money((request.get_json(silent=True) or {}).get("amount"), "amount")
    left = Decimal(payment["amount"]) - sum((Decimal(one["amount"]) for one in payment["captures"]), Decimal(0))
    if payment["state"] != "authorised" or not 0 < amount <= left:
        return refusal(409, f"Of this payment {left if payment['state'] == 'authorised' else 0} can be charged.")
    made = {"id": f"c{len(payment['captures']) + 1}-{payment_id}", "key": key, "amount": str(amount)}
    payment["captures"].append(made)
    if amount == left:
        payment["state"] = "paid"
    if all(one["state"] == "paid" for one in order["payments"]):
        order["status"] = "paid"
    _changed(account, order)
    return made


@bp.post("/api/orders/<order_id>/refunds")
@scoped("shop", "shipments:write")
def refund(account: str, order_id: str) -> Any:
    """Pay a customer back, once for each key."""
    order = store().get(account, "order", order_id)
    if order is None:
        return refusal(404, "There is no such order.")
    key = request.headers.get("Idempotency-Key", "")
    done = next((one for one in order.setdefault("refunds", []) if one["key"] == key), None)
    if done:
        return done
    body = request.get_json(silent=True) or {}
    order["updated_at"] = stamp(store(), account)
    made = _pay_back(order, money(body.get("amount"), "amount"), body.get("lines", []), key, str(body.get("note", "")), "")
    if isinstance(made, str):
        return refusal(409, made)
    _changed(account, order)
    return made


def _pay_back(order: Doc, amount: Decimal, lines: list[Doc], key: str, note: str, goods: str) -> Doc | str:
    """Note a refund on an order, or say why there can be none."""
    back = sum((Decimal(one["amount"]) for one in order.setdefault("refunds", [])), Decimal(0))
    left = (Decimal(0) if order["status"] in ("on_account", "awaiting_payment") else Decimal(order["total"])) - back
    if not 0 < amount <= left:
        return f"Of this order {left} can be paid back."
    method = order["payments"][0]["method"] if order["payments"] else "card"
    number = len(order["refunds"]) + 1
    made: Doc = {
        "id": f"r{number}-{order['id']}",
        "key": key,
        "at": order["updated_at"],
        "amount": str(amount),
        "method": method,
        "note": note,
        "goods": goods,
        "lines": lines,
    }
    order["refunds"].append(made)
    return made


def _goods_changed(account: str, product: Doc, event: str = "product.changed") -> None:
    """Keep a product that is another than before, and tell who listens."""
    product["updated_at"] = stamp(store(), account)
    store().amend(account, "product", str(product["id"]), product)
    hooks.tell(store(), account, event, product)


def _changed(account: str, order: Doc) -> None:
    """Keep an order that is another than before, and tell who listens."""
    order |= {"version": order["version"] + 1, "updated_at": stamp(store(), account)}
    store().put(account, "order", order["id"], order)
    hooks.tell(store(), account, "order.changed", order)


def place(account: str, wanted: dict[str, int], who: Doc, coupon: str, wrap: bool, pay: str = "card", at: str = "") -> Doc | str:
    """A shopper's order, or a sentence saying why not. The shop takes its own stock down at once."""
    group = who.get("group", "")
    known = _variants(account, wanted)
    lines: list[Doc] = []
    for key, count in wanted.items():
        if key not in known:
            return "That is not sold here."
        product, variant = known[key]
        refused = _refused(product, variant, count, group, at)
        if refused:
            return refused
        lines.append(_line(len(lines) + 1, product, variant, count, group))
    if not lines:
        return "Choose at least one thing."
    order = _order(account, lines, who) | ({"place": at} if at else {})
    _charge(order, coupon, wrap)
    if order["status"] != "on_account":
        order["status"], payment = PAID[pay]
        order["payments"] = [{"id": "y1", "amount": order["total"], **payment}]
    for key, count in wanted.items():
        product, variant = known[key]
        if variant.get("tracked", True):
            variant["quantity"] -= count
            _take_from(variant, at, count)
            store().amend(account, "product", str(product["id"]), product)
    store().put(account, "order", order["id"], order)
    hooks.tell(store(), account, "order.created", order)
    return order


def _take_from(variant: Doc, at: str, count: int) -> None:
    """Take units off the places where they lie: the one that was chosen, else the first that has them."""
    told: Doc = (variant.get("selling") or {}).get("places") or {}
    for key in [at] if at and told else list(told):
        part = min(count, int(Decimal(str(told[key]))))
        told[key] = str(Decimal(str(told[key])) - part)
        count -= part


def _charge(order: Doc, coupon: str, wrap: bool) -> None:
    """What is taken off and what is charged beside the goods."""
    goods = sum((Decimal(line["amount"]) for line in order["lines"]), Decimal(0))
    if coupon in COUPONS:
        off = (goods * COUPONS[coupon] / 100).quantize(CENT, ROUND_HALF_UP)
        order["discounts"].append({"id": "d1", "title": f"Coupon {coupon}", "amount": str(off), "tax_percent": "23"})
    if wrap:
        order["surcharges"].append({"id": "u1", "title": "Gift wrapping", "amount": str(GIFT_WRAP), "tax_percent": "23"})
    if goods < FREE_FROM:
        order["shipping_lines"].append({"id": "p1", "title": "Postage", "amount": str(POSTAGE), "tax_percent": "23"})
    order["total"] = str(total_of(order))


def _refused(product: Doc, variant: Doc, count: int, group: str, at: str = "") -> str:
    """Why a line cannot be ordered so; nothing when it can."""
    if (variant.get("selling") or {}).get("state", "live") != "live" or product.get("state") == "draft":
        return f"{product['title']} is not for sale now."
    if variant.get("tracked", True) and count > at_place(variant, at):
        return f"Only {at_place(variant, at)} of {product['title']} are left{' there' if at else ''}."
    limits = {name: Decimal(str(value)) for name, value in limits_for(variant, group).items() if name in LIMITS and value}
    if count > limits.get("most", count):
        return f"At most {limits['most'].normalize():f} of {product['title']} in one order."
    if count < limits.get("least", count):
        return f"At least {limits['least'].normalize():f} of {product['title']} in one order."
    if "step" in limits and count % limits["step"]:
        return f"{product['title']} comes in steps of {limits['step'].normalize():f}."
    return ""


def _line(number: int, product: Doc, variant: Doc, count: int, group: str = "") -> Doc:
    amount = (Decimal(price_for(variant, group)) * count).quantize(CENT)
    options = " ".join(str(v) for v in (variant.get("options") or {}).values())
    return {
        "id": f"l{number}",
        "variant_id": variant["id"],
        "sku": variant.get("sku", ""),
        "title": f"{product['title']} {options}".strip(),
        "quantity": count,
        "amount": str(amount),
        "tax_percent": str(product.get("tax_percent", 23)),
    }


def _order(account: str, lines: list[Doc], who: Doc) -> Doc:
    shop = account_of(account, "shop")
    number = int(shop.get("next_number", 1001))
    store().amend(account, "account", account, {**shop, "next_number": number + 1})
    at = stamp(store(), account)
    return {
        "id": secrets.token_hex(6),
        "number": str(number),
        "version": 1,
        "fulfilment": "open",
        "status": "on_account" if shop.get("trade") else "paid",
        "created_at": at,
        "updated_at": at,
        "currency": shop.get("currency", "EUR"),
        "customer": {**who, "on_account": bool(shop.get("trade"))},
        "ship_to": {"street": who.get("street", ""), "city": who.get("city", ""), "country": "IE"},
        "lines": lines,
        "discounts": [],
        "surcharges": [],
        "shipping_lines": [],
        "shipments": [],
        "payments": [],
        "refunds": [],
    }


def total_of(order: Doc) -> Decimal:
    """Goods and charges less discounts."""
    plus = [r["amount"] for k in ("lines", "surcharges", "shipping_lines") for r in order[k]]
    return sum(map(Decimal, plus), Decimal(0)) - sum((Decimal(r["amount"]) for r in order["discounts"]), Decimal(0))


@bp.get("/")
def page(account: str) -> Any:
    with store().transaction():
        shop = account_of(account, "shop")
        return render_template(
            "shop.html",
            account=account,
            shop=shop,
            products=store().all(account, "product"),
            in_stock=in_stock,
            at_place=at_place,
            group=request.args.get("group", ""),
            price_for=price_for,
            limits_for=limits_for,
            said=request.args.get("said", ""),
        )


@bp.post("/buy")
def buy(account: str) -> Any:
    wanted = {k.removeprefix("q-"): int(v) for k, v in request.form.items() if k.startswith("q-") and v.isdigit() and int(v)}
    who = {k: request.form.get(k, "").strip()[:120] for k in ("name", "email", "street", "city", "group")}
    there = f"/shop/{account}/?group={who['group']}&said="
    if not who["name"]:
        return redirect(f"{there}Give+a+name+please.")
    if not who["group"]:
        del who["group"]
    with store().transaction():
        pay = request.form.get("pay", "card")
        coupon, wrap = request.form.get("coupon", "").strip().upper(), "wrap" in request.form
        known = [one["key"] for one in account_of(account, "shop").get("places", [])]
        at = request.form.get("place", "")
        order = place(account, wanted, who, coupon, wrap, pay if pay in PAID else "card", at if at in known else "")
    if request.accept_mimetypes.best == "application/json":
        return refusal(409, order) if isinstance(order, str) else order
    said = (
        order
        if isinstance(order, str)
        else f"Thank you. Your order is number {order['number']}, {order['total']} {order['currency']}."
    )
    return redirect(f"{there}{said}")


@bp.get("/office")
def office(account: str) -> Any:
    with store().transaction():
        return render_template(
            "office.html",
            account=account,
            shop=account_of(account, "shop"),
            products=store().all(account, "product"),
            orders=[o for _, o in store().rows(account, "order")][::-1][:40],
            **board_of(account),
            said=request.args.get("said", ""),
        )


@bp.post("/office/quantity")
def edit_quantity(account: str) -> Response:
    """Someone edits stock directly at the shop."""
    with store().transaction():
        product, variant = _variants(account, [request.form["id"]])[request.form["id"]]
        variant["quantity"] = max(0, int(money(request.form["quantity"], "quantity")))
        _goods_changed(account, product, "stock.changed")
    return redirect(f"/shop/{account}/office?said=Saved.")


@bp.post("/office/price")
def edit_price(account: str) -> Response:
    """Someone edits a price directly at the shop."""
    with store().transaction():
        product, variant = _variants(account, [request.form["id"]])[request.form["id"]]
        variant["price"] = str(max(Decimal(0), money(request.form["price"], "price")).quantize(CENT))
        _goods_changed(account, product)
    return redirect(f"/shop/{account}/office?said=Saved.")


@bp.post("/office/words")
def edit_words(account: str) -> Response:
    """Someone edits what the shop says of a product; a detail is written as its name, a colon and its value."""
    with store().transaction():
        product, _ = _variants(account, [request.form["id"]])[request.form["id"]]
        details = [line.partition(":") for line in request.form.get("details", "").splitlines() if ":" in line]
        told = {name: request.form.get(name, "").strip()[:2000] for name in ("text", "maker")}
        labels = [label.strip() for label in request.form.get("labels", "").split(",") if label.strip()]
        product |= {**told, "labels": labels, "details": {name.strip(): value.strip() for name, _, value in details}}
        _goods_changed(account, product)
    return redirect(f"/shop/{account}/office?said=Saved.")


@bp.post("/office/cancel")
def cancel(account: str) -> Response:
    with store().transaction():
        order = store().get(account, "order", request.form["id"])
        if order and order["status"] != "cancelled" and not order["shipments"]:
            _put_back(account, order)
            _changed(account, order)
    return redirect(f"/shop/{account}/office?said=Cancelled.")


def _put_back(account: str, order: Doc) -> None:
    """An order that is cancelled: its goods are for sale again."""
    known = _variants(account, [str(line["variant_id"]) for line in order["lines"]])
    for line in order["lines"]:
        product, variant = known[str(line["variant_id"])]
        variant["quantity"] += int(line["quantity"])
        store().amend(account, "product", str(product["id"]), product)
    order["status"] = "cancelled"


@bp.post("/office/edit")
def edit_order(account: str) -> Response:
    """The shopper asks for another number of the first thing, or of the one named, but not fewer than have left."""
    with store().transaction():
        order = store().get(account, "order", request.form["id"])
        count = int(request.form["count"])
        at = max(0, int(request.form.get("line", "1")) - 1)
        if order and order["status"] != "cancelled" and at < len(order["lines"]) and count >= max(1, _left(order, at)):
            line = order["lines"][at]
            product, variant = _variants(account, [str(line["variant_id"])])[str(line["variant_id"])]
            variant["quantity"] += int(line["quantity"]) - count
            store().amend(account, "product", str(product["id"]), product)
            group = order["customer"].get("group", "")
            order["lines"][at] = {**_line(1, product, variant, count, group), "id": line["id"]}
            order["total"] = str(total_of(order))
            if order["payments"] and not order["payments"][0].get("captures"):
                order["payments"][0]["amount"] = order["total"]
            if order["fulfilment"] == "shipped" and count > _left(order, at):
                order["fulfilment"] = "part-shipped"
            _changed(account, order)
    return redirect(f"/shop/{account}/office?said=Changed.")


@bp.post("/office/refund")
def pay_back(account: str) -> Response:
    """Somebody at the shop pays a line back, all of it or so many, less its share of a discount."""
    with store().transaction():
        order = store().get(account, "order", request.form["id"])
        at = max(0, int(request.form.get("line", "1")) - 1)
        said = "There+is+no+such+order."
        if order and at < len(order["lines"]):
            line = order["lines"][at]
            count = int(request.form.get("count") or line["quantity"])
            goods = sum((Decimal(one["amount"]) for one in order["lines"]), Decimal(0))
            off = sum((Decimal(one["amount"]) for one in order["discounts"]), Decimal(0))
            worth = Decimal(line["amount"]) * count / Decimal(str(line["quantity"]))
            amount = (worth * (goods - off) / goods if goods else worth).quantize(CENT, ROUND_HALF_UP)
            order["updated_at"] = stamp(store(), account)
            told = [{"id": line["id"], "quantity": str(count), "amount": str(amount)}]
            made = _pay_back(order, amount, told, "", "", request.form.get("goods", ""))
            said = made if isinstance(made, str) else f"Paid back: {amount}."
            if not isinstance(made, str):
                _changed(account, order)
    return redirect(f"/shop/{account}/office?said={said}")


def _left(order: Doc, at: int) -> int:
    """How many of a line have left."""
    key = str(order["lines"][at]["id"])
    sent = [line for shipment in order["shipments"] for line in shipment["lines"] if str(line.get("id")) == key]
    return int(sum(Decimal(str(line["quantity"])) for line in sent))


@bp.post("/office/money")
def money_came(account: str) -> Response:
    """A transfer has come in."""
    with store().transaction():
        order = store().get(account, "order", request.form["id"])
        if order and order["status"] == "awaiting_payment":
            order["status"] = "paid"
            order["payments"] = [{**one, "state": "paid"} for one in order["payments"]]
            _changed(account, order)
    return redirect(f"/shop/{account}/office?said=The+money+is+here.")
