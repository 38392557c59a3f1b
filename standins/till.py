"""The till: sells offline, uploads its receipts later in a batch, shows a stock figure it is told."""

from __future__ import annotations

import secrets
from collections.abc import Callable
from decimal import Decimal
from typing import Any

from flask import Blueprint, g, redirect, render_template, request
from werkzeug.wrappers import Response

from .common import account_of, board_of, money, paged, refused_line, scoped, store
from .faults import stamp
from .store import Doc

CENT = Decimal("0.01")
bp = Blueprint("till", __name__, url_prefix="/till/<account>")


@bp.get("/api/self")
@scoped("till", "")
def self_(account: str) -> Any:
    return {"name": g.account["name"], "scopes": g.scopes, "outlets": [one["key"] for one in g.account.get("outlets", [])]}


def stock_at(article: Doc, outlet: str) -> Any:
    """The stock figure of an article: at an outlet where the account has several."""
    return (
        (article.get("stocks") or {}).get(outlet, article["stock"] if article["stock"] is None else "0")
        if outlet
        else article["stock"]
    )


@bp.get("/api/articles")
@scoped("till", "articles:read")
def articles(account: str) -> Any:
    rows, following = paged(account, "article", request.args.get("after") or "", 100)
    outlet = request.args.get("outlet", "")
    return {"articles": [{**row, "stock": stock_at(row, outlet)} for row in rows], "after": following}


@bp.get("/api/stock")
@scoped("till", "articles:read")
def read_stock(account: str) -> Any:
    wanted = request.args.get("plu", "").split(",")
    found = {plu: store().get(account, "article", plu) for plu in wanted}
    outlet = request.args.get("outlet", "")
    return {"stock": {plu: stock_at(a, outlet) for plu, a in found.items() if a}}


def _amended(account: str, field: str, change: Callable[[Doc, Any], Doc]) -> Any:
    """Change the articles that a batch names; what is refused, by its number."""
    refused = {}
    for number, (plu, value) in enumerate((request.get_json(silent=True) or {}).get(field, {}).items()):
        article = store().get(account, "article", plu)
        if number == 0 and refused_line(account):
            refused[plu] = "this line was not taken"
        elif article is None:
            refused[plu] = "no such article"
        else:
            store().amend(account, "article", plu, {**article, **change(article, value)})
    return {"refused": refused}


@bp.put("/api/stock")
@scoped("till", "articles:write")
def write_stock(account: str) -> Any:
    outlet = request.args.get("outlet", "")

    def change(article: Doc, value: Any) -> Doc:
        figure = str(money(value, "stock"))
        return {"stocks": {**(article.get("stocks") or {}), outlet: figure}} if outlet else {"stock": figure}

    return _amended(account, "stock", change)


@bp.get("/api/prices")
@scoped("till", "articles:read")
def read_prices(account: str) -> Any:
    wanted = request.args.get("plu", "").split(",")
    found = {plu: store().get(account, "article", plu) for plu in wanted}
    return {"prices": {plu: str(a["price"]) for plu, a in found.items() if a}}


@bp.put("/api/prices")
@scoped("till", "articles:write")
def write_prices(account: str) -> Any:
    return _amended(account, "prices", lambda article, value: {"price": str(money(value, "price").quantize(CENT))})


@bp.get("/api/price-changes")
@scoped("till", "articles:read")
def price_changes(account: str) -> Any:
    """What was changed at the till itself, not what it was told."""
    rows, following = paged(account, "price", request.args.get("after") or "", 100, request.args.get("since", "") or "0")
    return {"changes": rows, "after": following}


@bp.get("/api/receipts")
@scoped("till", "sales:read")
def receipts(account: str) -> Any:
    # What was not uploaded yet has no time of change, and every real time sorts after "0".
    since = request.args.get("since", "") or "0"
    rows, following = paged(account, "receipt", request.args.get("after") or "", 100, since)
    outlet = request.args.get("outlet", "")
    return {"receipts": [row for row in rows if not outlet or row.get("outlet") == outlet], "after": following}


@bp.get("/api/closes")
@scoped("till", "sales:read")
def closes(account: str) -> Any:
    rows, following = paged(account, "close", request.args.get("after") or "", 100, request.args.get("since", "") or "0")
    outlet = request.args.get("outlet", "")
    return {"closes": [row for row in rows if not outlet or row.get("outlet") == outlet], "after": following}


@bp.post("/close")
def close(account: str) -> Response:
    """Close the till for the day: what is in the drawer and what the card terminal says are counted."""
    with store().transaction():
        till = account_of(account, "till")
        number = int(till.get("next_close", 1))
        store().amend(account, "account", account, {**till, "next_close": number + 1})
        at = stamp(store(), account)
        close: Doc = {
            "id": secrets.token_hex(6),
            "number": f"Z{number:04d}",
            "outlet": request.form.get("outlet", ""),
            "closed_at": at,
            "updated_at": at,
            "currency": "EUR",
            "tenders": [
                {
                    "tender": tender,
                    "float": str(money(request.form.get(f"float-{tender}") or "0", "float")),
                    "counted": str(money(request.form[f"counted-{tender}"], "counted")),
                }
                for tender in ("cash", "card")
                if request.form.get(f"counted-{tender}", "").strip()
            ],
        }
        if not close["tenders"]:
            return redirect(f"/till/{account}/?said=Count+something+first.")
        store().put(account, "close", close["id"], close)
    return redirect(f"/till/{account}/?said=Closed,+{close['number']}.")


@bp.get("/")
def page(account: str) -> Any:
    with store().transaction():
        rows = store().all(account, "receipt")
        return render_template(
            "till.html",
            account=account,
            till=account_of(account, "till"),
            articles=store().all(account, "article"),
            outlet=request.args.get("outlet", ""),
            stock_at=stock_at,
            waiting=[r for r in rows if not r["uploaded_at"]],
            sold=rows[::-1][:15],
            **board_of(account),
            said=request.args.get("said", ""),
        )


@bp.post("/sell")
def sell(account: str) -> Response:
    """Ring up a sale; it stays in the till until the batch is uploaded, whatever the stock figure says."""
    rows: list[Doc] = []
    with store().transaction():
        till = account_of(account, "till")
        for key, text in request.form.items():
            if key.startswith("q-") and text.isdigit() and int(text):
                article = store().get(account, "article", key.removeprefix("q-"))
                if article:
                    amount = Decimal(str(article["price"])) * int(text)
                    rows.append(
                        {
                            "pos": len(rows) + 1,
                            "plu": article["plu"],
                            "code": article["code"],
                            "label": article["label"],
                            "count": int(text),
                            "sum": str(amount),
                            "vat": article["vat"],
                        }
                    )
        if not rows:
            return redirect(f"/till/{account}/?said=Nothing+was+rung+up.")
        receipt = _receipt(account, till, rows, request.form.get("tender", "cash"), request.form.get("outlet", ""))
    return redirect(f"/till/{account}/?said=Sold:+{receipt['total']}+EUR.+It+waits+in+the+till.")


def _receipt(account: str, till: Doc, rows: list[Doc], tender: str, outlet: str, refund_of: str = "") -> Doc:
    """The next receipt; it waits in the till until the batch is uploaded."""
    number = int(till.get("next_number", 1))
    store().amend(account, "account", account, {**till, "next_number": number + 1})
    receipt: Doc = {
        "id": secrets.token_hex(6),
        "number": f"{number:05d}",
        "sold_at": stamp(store(), account),
        "uploaded_at": "",
        "currency": "EUR",
        "tender": tender,
        "outlet": outlet,
        "rows": rows,
        "total": str(sum(Decimal(r["sum"]) for r in rows)),
    }
    if refund_of:
        receipt["refund_of"] = refund_of
    store().put(account, "receipt", receipt["id"], receipt)
    return receipt


@bp.post("/refund")
def refund(account: str) -> Response:
    """Take goods of a receipt back over the counter: one of its rows, all of it or so many."""
    with store().transaction():
        till = account_of(account, "till")
        sale = next((r for r in store().all(account, "receipt") if r["number"] == request.form.get("number", "").strip()), None)
        at = max(0, int(request.form.get("row") or "1") - 1)
        if sale is None or sale.get("refund_of") or at >= len(sale["rows"]):
            return redirect(f"/till/{account}/?said=There+is+no+such+receipt+or+row.")
        row = sale["rows"][at]
        earlier = [r for r in store().all(account, "receipt") if r.get("refund_of") == sale["id"]]
        left = row["count"] + sum(r["count"] for one in earlier for r in one["rows"] if r["of"] == row["pos"])
        count = int(request.form.get("count") or left)
        if not 0 < count <= left:
            return redirect(f"/till/{account}/?said=Of+that+row+{left}+can+come+back.")
        amount = (Decimal(row["sum"]) * count / row["count"]).quantize(CENT)
        back = {**row, "pos": 1, "of": row["pos"], "count": -count, "sum": str(-amount)}
        made = _receipt(account, till, [back], request.form.get("tender", "cash"), sale["outlet"], sale["id"])
    return redirect(f"/till/{account}/?said=Paid+back:+{-Decimal(made['total'])}+EUR.+It+waits+in+the+till.")


@bp.post("/price")
def edit_price(account: str) -> Response:
    """Someone changes a price at the till."""
    with store().transaction():
        account_of(account, "till")
        plu = request.form["plu"]
        article = store().get(account, "article", plu)
        if article is None:
            return redirect(f"/till/{account}/?said=There+is+no+such+article.")
        price = str(max(Decimal(0), money(request.form["price"], "price")).quantize(CENT))
        store().amend(account, "article", plu, {**article, "price": price})
        at = stamp(store(), account)
        store().put(account, "price", plu, {"id": plu, "plu": plu, "price": price, "changed_at": at, "updated_at": at})
    return redirect(f"/till/{account}/?said={article['label']}+costs+{price}+now.")


@bp.post("/upload")
def upload(account: str) -> Response:
    """Send the waiting receipts up."""
    with store().transaction():
        waiting = [r for r in store().all(account, "receipt") if not r["uploaded_at"]]
        for receipt in waiting:
            store().put(account, "receipt", receipt["id"], {**receipt, "uploaded_at": stamp(store(), account)})
    return redirect(f"/till/{account}/?said={len(waiting)}+receipts+uploaded.")
