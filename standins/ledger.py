"""The ledger: accounts, documents booked once by number, balances by period, periods that can be locked."""

from __future__ import annotations

from collections import defaultdict
from decimal import Decimal
from typing import Any

from flask import Blueprint, g, redirect, render_template, request
from werkzeug.wrappers import Response

from .common import account_of, board_of, money, paged, refusal, scoped, store
from .faults import stamp
from .store import Doc

bp = Blueprint("ledger", __name__, url_prefix="/ledger/<account>")


@bp.get("/api/books")
@scoped("ledger", "")
def books(account: str) -> Any:
    return {"name": g.account["name"], "scopes": g.scopes}


@bp.get("/api/accounts")
@scoped("ledger", "accounts.read")
def accounts(account: str) -> Any:
    return {"accounts": g.account["chart"]}


@bp.post("/api/documents")
@scoped("ledger", "documents.write")
def book(account: str) -> Any:
    body = request.get_json(silent=True) or {}
    number, date = str(body.get("number", "")), str(body.get("date", ""))
    known = {row["code"] for row in g.account["chart"]}
    postings = [
        {"account": str(p.get("account")), "amount": str(money(p.get("amount"), "amount"))} for p in body.get("postings", [])
    ]
    if not number or len(date) != 10:
        return refusal(422, "A document needs a number and a date.")
    existing = store().get(account, "document", number)
    if existing:
        if existing["postings"] == postings:
            return existing
        return refusal(409, f"Number {number} is booked already with other amounts.")
    unknown = sorted({p["account"] for p in postings} - known)
    if unknown:
        return refusal(422, f"There is no account {', '.join(unknown)}.")
    off = sum((Decimal(p["amount"]) for p in postings), Decimal(0))
    if off or not postings:
        return refusal(422, f"Document {number} is out of balance by {off}.")
    missing = _missing(account, body)
    if missing:
        return refusal(422, missing)
    codes = {row["code"] for row in g.account.get("tax_codes", [])}
    strange = sorted({str(line["tax_code"]) for line in body.get("details", []) if line.get("tax_code")} - codes)
    if strange:
        return refusal(422, f"There is no tax code {', '.join(strange)}.")
    if date[:7] in g.account.get("locked", []):
        return refusal(422, f"The period {date[:7]} is locked.")
    document = {
        "id": f"d-{number}",
        "number": number,
        "kind": body.get("kind", "journal"),
        "date": date,
        "contact": body.get("contact", ""),
        "contact_key": body.get("contact_key", ""),
        "memo": body.get("memo", ""),
        "order": body.get("order", ""),
        "due": body.get("due", ""),
        "postings": postings,
        "details": body.get("details", []),
        "booked_at": stamp(store(), account),
    }
    store().put(account, "document", number, document)
    return document


@bp.get("/api/documents")
@scoped("ledger", "balances.read")
def documents(account: str) -> Any:
    rows, following = paged(account, "document", request.args.get("after") or "", 500)
    return {"documents": [{"by": "program", **d, "debits": str(_debits(d))} for d in rows], "after": following}


def _debits(document: Doc) -> Decimal:
    return sum((Decimal(p["amount"]) for p in document["postings"] if Decimal(p["amount"]) > 0), Decimal(0))


def balances_of(documents: list[Doc]) -> dict[tuple[str, str], Decimal]:
    """Movement by (period, account)."""
    sums: dict[tuple[str, str], Decimal] = defaultdict(Decimal)
    for document in documents:
        for posting in document["postings"]:
            sums[document["date"][:7], posting["account"]] += Decimal(posting["amount"])
    return sums


@bp.get("/api/tax-codes")
@scoped("ledger", "accounts.read")
def tax_codes(account: str) -> Any:
    return {"tax_codes": g.account.get("tax_codes", [])}


@bp.put("/api/orders/<number>")
@scoped("ledger", "documents.write")
def put_order(account: str, number: str) -> Any:
    """A quote or a sales order, as it stands now; it books nothing."""
    body = request.get_json(silent=True) or {}
    if body.get("kind") not in ("quote", "order") or body.get("state") not in ("open", "closed", "cancelled"):
        return refusal(422, "An order is a quote or an order, and open, closed or cancelled.")
    missing = _missing(account, body)
    if missing:
        return refusal(422, missing)
    known = store().get(account, "order", number)
    order = {
        "id": f"o-{number}",
        "number": number,
        **{name: str(body.get(name, "")) for name in ("kind", "state", "date", "contact", "contact_key", "memo")},
        "total": str(money(body.get("total"), "total")),
        "details": body.get("details", []),
        "changed_at": stamp(store(), account),
    }
    (store().amend if known else store().put)(account, "order", number, order)
    return order


def _missing(account: str, body: Doc) -> str:
    """What a document or an order names that is not kept here."""
    key = str(body.get("contact_key") or "")
    if key and store().get(account, "contact", key) is None:
        return f"There is no contact {key}."
    items = [str(line["item"]) for line in body.get("details", []) if line.get("item")]
    return next((f"There is no item {item}." for item in items if store().get(account, "item", item) is None), "")


@bp.put("/api/contacts/<key>")
@scoped("ledger", "documents.write")
def put_contact(account: str, key: str) -> Any:
    """A customer, as it is now."""
    body = request.get_json(silent=True) or {}
    names = ("name", "email", "street", "city", "postcode", "country")
    contact = {name: str(body.get(name) or "") for name in names}
    if not contact["name"]:
        return refusal(422, "A contact needs a name.")
    if contact["country"] and not (len(contact["country"]) == 2 and contact["country"].isalpha()):
        return refusal(422, f"{contact['country']} is no country of two letters.")
    return _kept(account, "contact", key, {**contact, "on_account": bool(body.get("on_account")), "days": body.get("days")})


@bp.put("/api/items/<key>")
@scoped("ledger", "documents.write")
def put_item(account: str, key: str) -> Any:
    """An item, as it is now; a code belongs to one."""
    body = request.get_json(silent=True) or {}
    item = {name: str(body.get(name) or "") for name in ("sku", "title", "unit")}
    if not item["sku"]:
        return refusal(422, "An item needs a code.")
    other = next((row for row in store().all(account, "item") if row["sku"] == item["sku"] and row["key"] != key), None)
    if other:
        return refusal(409, f"The code {item['sku']} belongs to {other['title']}.")
    return _kept(account, "item", key, item)


def _kept(account: str, sort: str, key: str, facts: Doc) -> Doc:
    known = store().get(account, sort, key)
    row = {"id": f"{sort[0]}-{key}", "key": key, **facts, "changed_at": stamp(store(), account)}
    (store().amend if known else store().put)(account, sort, key, row)
    return row


@bp.get("/api/orders")
@scoped("ledger", "balances.read")
def orders(account: str) -> Any:
    rows, following = paged(account, "order", request.args.get("after") or "", 500)
    return {"orders": [{name: row[name] for name in ("number", "state", "total")} for row in rows], "after": following}


@bp.get("/api/balances")
@scoped("ledger", "balances.read")
def balances(account: str) -> Any:
    sums = balances_of(store().all(account, "document"))
    return {"balances": [{"period": p, "account": a, "amount": str(v)} for (p, a), v in sorted(sums.items())]}


@bp.get("/")
def page(account: str) -> Any:
    with store().transaction():
        documents = store().all(account, "document")
        sums: dict[str, Decimal] = defaultdict(Decimal)
        for (_, code), value in balances_of(documents).items():
            sums[code] += value
        return render_template(
            "ledger.html",
            account=account,
            ledger=account_of(account, "ledger"),
            documents=documents[::-1][:60],
            orders=store().all(account, "order")[::-1][:60],
            contacts=store().all(account, "contact")[:60],
            items=store().all(account, "item")[:60],
            count=len(documents),
            sums=sums,
            **board_of(account),
            said=request.args.get("said", ""),
        )


@bp.post("/edit")
def edit(account: str) -> Response:
    """The bookkeeper books something by hand that Yuvrel does not know of."""
    with store().transaction():
        account_of(account, "ledger")
        amount = str(money(request.form["amount"], "amount"))
        number = f"HAND-{len(store().all(account, 'document')) + 1}"
        document = {
            "by": "hand",
            "id": f"d-{number}",
            "number": number,
            "kind": "journal",
            "date": request.form["date"],
            "contact": "",
            "memo": "booked by hand",
            "details": [],
            "booked_at": stamp(store(), account),
            "postings": [
                {"account": request.form["debit"], "amount": amount},
                {"account": request.form["credit"], "amount": str(-Decimal(amount))},
            ],
        }
        store().put(account, "document", number, document)
    return redirect(f"/ledger/{account}/?said=Booked+{number}.")
