"""The supplier's inbox: takes UBL Orders, answers with UBL OrderResponses, by itself or by hand."""

from __future__ import annotations

from typing import Any
from xml.sax.saxutils import escape

from flask import Blueprint, g, redirect, render_template, request
from lxml import etree
from werkzeug.wrappers import Response

from .common import account_of, board_of, paged, refusal, scoped, store
from .faults import stamp
from .store import Doc

bp = Blueprint("supplier", __name__, url_prefix="/supplier/<account>")
CAC = "urn:oasis:names:specification:ubl:schema:xsd:CommonAggregateComponents-2"
CBC = "urn:oasis:names:specification:ubl:schema:xsd:CommonBasicComponents-2"
NS = {"cac": CAC, "cbc": CBC}
ANSWER = """<?xml version="1.0" encoding="UTF-8"?>
<OrderResponse xmlns="urn:oasis:names:specification:ubl:schema:xsd:OrderResponse-2" xmlns:cac="{cac}" xmlns:cbc="{cbc}">
  <cbc:UBLVersionID>2.1</cbc:UBLVersionID>
  <cbc:ID>{id}</cbc:ID>
  <cbc:IssueDate>{day}</cbc:IssueDate>
  <cbc:OrderResponseCode>{code}</cbc:OrderResponseCode>{note}
  <cac:OrderReference><cbc:ID>{number}</cbc:ID></cac:OrderReference>
  <cac:SellerSupplierParty><cac:Party><cac:PartyName><cbc:Name>{seller}</cbc:Name></cac:PartyName></cac:Party></cac:SellerSupplierParty>
  <cac:BuyerCustomerParty><cac:Party><cac:PartyName><cbc:Name>{buyer}</cbc:Name></cac:PartyName></cac:Party></cac:BuyerCustomerParty>
  <cac:Delivery><cac:PromisedDeliveryPeriod><cbc:EndDate>{due}</cbc:EndDate></cac:PromisedDeliveryPeriod></cac:Delivery>{lines}
</OrderResponse>
"""
LINE = """
  <cac:OrderLine><cac:LineItem><cbc:ID>{id}</cbc:ID><cbc:Quantity unitCode="{unit}">{quantity}</cbc:Quantity>
    <cac:Item><cbc:Name>{title}</cbc:Name><cac:BuyersItemIdentification><cbc:ID>{sku}</cbc:ID></cac:BuyersItemIdentification></cac:Item>
  </cac:LineItem></cac:OrderLine>"""


@bp.get("/api/inbox")
@scoped("supplier", "")
def inbox(account: str) -> Any:
    return {"name": g.account["name"], "scopes": g.scopes}


@bp.post("/api/orders")
@scoped("supplier", "orders:send")
def take(account: str) -> Any:
    try:
        root = etree.fromstring(request.get_data(), etree.XMLParser(resolve_entities=False, no_network=True))
    except etree.XMLSyntaxError:
        return refusal(422, "This is not XML.")
    if etree.QName(root).localname != "Order":
        return refusal(422, "This is not a UBL Order.")
    number = root.findtext("cbc:ID", "", NS)
    known, key = store().get(account, "order", number), request.headers.get("Idempotency-Key", "")
    if known and known.get("key", number) != key:
        return refusal(409, f"You sent another order under the number {number}.")
    if known:
        return {"receipt": known["receipt"]}
    lines = [
        {
            "id": n.findtext("cbc:ID", "", NS),
            "quantity": n.findtext("cbc:Quantity", "", NS),
            "unit": next(n.iterfind("cbc:Quantity", NS)).get("unitCode", "C62"),
            "title": n.findtext("cac:Item/cbc:Name", "", NS),
            "sku": n.findtext("cac:Item/cac:BuyersItemIdentification/cbc:ID", "", NS),
            "amount": n.findtext("cbc:LineExtensionAmount", "", NS),
        }
        for n in root.iterfind("cac:OrderLine/cac:LineItem", NS)
    ]
    order: Doc = {
        "id": number,
        "number": number,
        "key": key,
        "receipt": f"in-{number}",
        "at": stamp(store(), account),
        "lines": lines,
        "answered": "",
        "currency": root.findtext("cbc:DocumentCurrencyCode", "", NS),
        "buyer": root.findtext("cac:BuyerCustomerParty/cac:Party/cac:PartyName/cbc:Name", "", NS),
        "due": root.findtext("cac:Delivery/cac:RequestedDeliveryPeriod/cbc:EndDate", "", NS),
    }
    store().put(account, "order", number, order)
    if g.account.get("answers_by_itself"):
        _answer(account, order, "AP", {}, order["due"], "")
    return {"receipt": order["receipt"]}


@bp.get("/api/orders")
@scoped("supplier", "answers:read")
def orders(account: str) -> Any:
    """What was sent here, as it stands."""
    rows, following = paged(account, "order", request.args.get("after") or "", 200)
    names = ("number", "at", "currency", "due", "receipt", "lines")
    return {"orders": [{name: row[name] for name in names} for row in rows], "after": following}


def _answer(account: str, order: Doc, code: str, quantities: dict[str, str], due: str, note: str) -> None:
    seller = account_of(account, "supplier")
    lines = "".join(
        LINE.format(
            id=escape(r["id"]),
            unit=r["unit"],
            quantity=escape(quantities.get(r["sku"], r["quantity"])),
            title=escape(r["title"]),
            sku=escape(r["sku"]),
        )
        for r in order["lines"]
    )
    document = ANSWER.format(
        cac=CAC,
        cbc=CBC,
        id=f"OR-{order['number']}",
        day=stamp(store(), account)[:10],
        code=code,
        number=escape(order["number"]),
        seller=escape(seller["name"]),
        buyer=escape(order["buyer"]),
        due=due,
        lines=lines,
        note=f"\n  <cbc:Note>{escape(note)}</cbc:Note>" if note else "",
    )
    store().put(account, "answer", order["number"], {"id": order["number"], "document": document})
    store().put(account, "order", order["number"], {**order, "answered": code})


@bp.get("/api/answers")
@scoped("supplier", "answers:read")
def answers(account: str) -> Any:
    rows = store().rows(account, "answer", int(request.args.get("after") or 0))
    return {"answers": [{"seq": seq, "document": a["document"]} for seq, a in rows]}


@bp.get("/")
def page(account: str) -> Any:
    with store().transaction():
        return render_template(
            "supplier.html",
            account=account,
            supplier=account_of(account, "supplier"),
            orders=store().all(account, "order")[::-1],
            **board_of(account),
            said=request.args.get("said", ""),
        )


@bp.post("/answer")
def answer(account: str) -> Response:
    """The supplier answers by hand: accept, change, or refuse."""
    with store().transaction():
        order = store().get(account, "order", request.form["number"])
        if order and not order["answered"]:
            quantities = {k.removeprefix("q-"): v for k, v in request.form.items() if k.startswith("q-")}
            changed = any(quantities.get(r["sku"], r["quantity"]) != r["quantity"] for r in order["lines"])
            code = "RE" if request.form.get("what") == "refuse" else "CA" if changed else "AP"
            _answer(account, order, code, quantities, request.form.get("due") or order["due"], request.form.get("note", ""))
    return redirect(f"/supplier/{account}/?said=Answered.")


@bp.post("/mode")
def mode(account: str) -> Response:
    """Answer by itself or by hand."""
    with store().transaction():
        body = account_of(account, "supplier")
        store().amend(account, "account", account, {**body, "answers_by_itself": "auto" in request.form})
    return redirect(f"/supplier/{account}/?said=Saved.")
