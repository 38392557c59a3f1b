"""The till: sells offline, uploads its receipts later in a batch, shows a stock figure it is told."""

from __future__ import annotations

import secrets
from decimal import Decimal
from typing import Any

from flask import Blueprint, g, redirect, render_template, request
from werkzeug.wrappers import Response

from . import faults
from .common import account_of, money, scoped, store
from .store import Doc, now

bp = Blueprint("till", __name__, url_prefix="/till/<account>")


@bp.get("/api/self")
@scoped("till", "")
def self_(account: str) -> Any:
    return {"name": g.account["name"], "scopes": g.scopes}


@bp.get("/api/articles")
@scoped("till", "articles:read")
def articles(account: str) -> Any:
    rows = store().rows(account, "article", int(request.args.get("after") or 0), 100)
    return {"articles": [a for _, a in rows], "after": str(rows[-1][0]) if len(rows) == 100 else None}


@bp.get("/api/stock")
@scoped("till", "articles:read")
def read_stock(account: str) -> Any:
    wanted = request.args.get("plu", "").split(",")
    found = {plu: store().get(account, "article", plu) for plu in wanted}
    return {"stock": {plu: a["stock"] for plu, a in found.items() if a}}


@bp.put("/api/stock")
@scoped("till", "articles:write")
def write_stock(account: str) -> Any:
    refused = {}
    for plu, value in (request.get_json(silent=True) or {}).get("stock", {}).items():
        article = store().get(account, "article", plu)
        if article is None:
            refused[plu] = "no such article"
        else:
            store().amend(account, "article", plu, {**article, "stock": str(money(value, "stock"))})
    return {"refused": refused}


@bp.get("/api/receipts")
@scoped("till", "sales:read")
def receipts(account: str) -> Any:
    since = request.args.get("since", "")
    rows = store().rows(account, "receipt", int(request.args.get("after") or 0))
    rows = [(seq, r) for seq, r in rows if r["uploaded_at"] and r["uploaded_at"] >= since][:100]
    return {"receipts": [r for _, r in rows], "after": str(rows[-1][0]) if len(rows) == 100 else None}


@bp.get("/")
def page(account: str) -> Any:
    with store().transaction():
        rows = store().all(account, "receipt")
        return render_template(
            "till.html",
            account=account,
            till=account_of(account, "till"),
            articles=store().all(account, "article"),
            waiting=[r for r in rows if not r["uploaded_at"]],
            sold=rows[::-1][:15],
            faults=faults.FAULTS,
            on=faults.active(store(), account),
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
        number = int(till.get("next_number", 1))
        store().amend(account, "account", account, {**till, "next_number": number + 1})
        receipt: Doc = {
            "id": secrets.token_hex(6),
            "number": f"{number:05d}",
            "sold_at": now(),
            "uploaded_at": "",
            "currency": "EUR",
            "tender": request.form.get("tender", "cash"),
            "rows": rows,
            "total": str(sum(Decimal(r["sum"]) for r in rows)),
        }
        store().put(account, "receipt", receipt["id"], receipt)
    return redirect(f"/till/{account}/?said=Sold:+{receipt['total']}+EUR.+It+waits+in+the+till.")


@bp.post("/upload")
def upload(account: str) -> Response:
    """Send the waiting receipts up."""
    with store().transaction():
        waiting = [r for r in store().all(account, "receipt") if not r["uploaded_at"]]
        for receipt in waiting:
            store().put(account, "receipt", receipt["id"], {**receipt, "uploaded_at": now()})
    return redirect(f"/till/{account}/?said={len(waiting)}+receipts+uploaded.")
