"""Reading the journal."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from typing import Any

from django.db.models import Q, Sum

from yuvrel.core.errors import NotFoundError
from yuvrel.core.money import ZERO
from yuvrel.core.working import Step, Working
from yuvrel.kit.paging import page

from .models import Account, JournalEntry, JournalLine


def journal(q: str, kind: str, cursor: str, limit: int) -> dict[str, Any]:
    """A page of entries with their lines, item lines of one account summed."""
    rows = JournalEntry.objects.select_related("ledger_document").prefetch_related("lines__account", "lines__item")
    if kind:
        rows = rows.filter(kind=kind)
    for word in q.split()[:6]:
        rows = rows.filter(Q(document__icontains=word) | Q(memo__icontains=word) | Q(ledger_document__number__icontains=word))
    found, following = page(rows, ["-id"], cursor, limit)
    return {"rows": [_entry(entry) for entry in found], "next": following}


def _entry(entry: JournalEntry) -> dict[str, Any]:
    document = getattr(entry, "ledger_document", None)
    return {
        "id": entry.pk,
        "date": entry.date,
        "kind": entry.kind,
        "document": entry.document,
        "link": entry.link,
        "memo": entry.memo,
        "posted_at": entry.posted_at,
        "amount": sum((line.amount for line in entry.lines.all() if line.amount > 0), ZERO),
        "ledger_kind": document.kind if document else "",
        "ledger_number": document.number if document else "",
        "ledger_state": document.state if document else "",
        "contact": document.contact if document else "",
        "lines": _lines(entry),
    }


def _lines(entry: JournalEntry) -> list[dict[str, Any]]:
    grouped: dict[tuple[str, bool], list[JournalLine]] = {}
    for line in entry.lines.all():
        grouped.setdefault((line.account.code, line.amount > 0), []).append(line)
    rows = []
    for (code, debit), lines in sorted(grouped.items(), key=lambda pair: (not pair[0][1], pair[0][0])):
        amount = sum((abs(line.amount) for line in lines), ZERO)
        items = sorted({line.item.sku for line in lines if line.item})
        text = items[0] if len(items) == 1 else f"{len(items)} items" if items else ""
        rows.append(
            {
                "account": code,
                "name": lines[0].account.name,
                "item": text,
                "debit": amount if debit else None,
                "credit": None if debit else amount,
            }
        )
    return rows


def accounts(today: date) -> list[dict[str, Any]]:
    """Every account with its balance and this month's movement."""
    first = today.replace(day=1)
    rows = Account.objects.annotate(
        balance=Sum("lines__amount"), month=Sum("lines__amount", filter=Q(lines__entry__date__gte=first))
    )
    return [
        {"code": a.code, "name": a.name, "role": a.role, "balance": a.balance or ZERO, "month": a.month or ZERO} for a in rows
    ]


def account_working(code: str) -> Working:
    """An account's balance as the sum of its movement by kind of entry."""
    account = Account.objects.filter(code=code).first()
    if account is None:
        raise NotFoundError("There is no such account.")
    sums = (
        JournalLine.objects.filter(account=account)
        .values_list("entry__kind")
        .annotate(total=Sum("amount"))
        .order_by("entry__kind")
    )
    steps = [
        Step(kind.capitalize(), total, op="+" if total >= 0 else "", link=f"/books/journal?kind={kind}") for kind, total in sums
    ]
    balance = sum((total for _, total in sums), Decimal(0))
    steps.append(Step("Balance", balance, "debits positive", kind="result", unit="EUR"))
    return Working("What made this balance?", f"{account.code} {account.name}", tuple(steps))


def entry_working(entry_id: int) -> Working:
    """An entry as debits less credits."""
    entry = JournalEntry.objects.prefetch_related("lines__account", "lines__item").filter(pk=entry_id).first()
    if entry is None:
        raise NotFoundError("There is no such entry.")
    steps = [
        Step(f"{row['account']} {row['name']}", row["debit"] or row["credit"], row["item"], op="+" if row["debit"] else "-")
        for row in _lines(entry)
    ]
    steps.append(Step("Debits less credits", ZERO, "an entry always balances", kind="result"))
    return Working("Does it balance?", f"{entry.document} · {entry.memo}", tuple(steps))
