"""Reading the journal."""

from __future__ import annotations

from collections import defaultdict
from datetime import date
from decimal import Decimal
from typing import Any

from django.db.models import BooleanField, Case, Count, Max, Min, Q, Sum, When

from yuvrel.catalogue.models import Item
from yuvrel.core.errors import NotFoundError
from yuvrel.core.money import ZERO
from yuvrel.core.working import Step, Working
from yuvrel.documents.registry import Ref
from yuvrel.people.queries import company
from yuvrel.platform.faults import figure_or, sheet_rows
from yuvrel.platform.paging import page

from .actions import clearing_accounts
from .models import Account, JournalEntry, JournalLine
from .schemas import AccountOut, EntryOut


def journal(q: str, kind: str, cursor: str, limit: int) -> dict[str, Any]:
    """A page of entries with their lines, item lines of one account summed, in a fixed number of queries."""
    rows = JournalEntry.objects.select_related("ledger_document__within")
    if kind:
        rows = rows.filter(kind=kind)
    for word in q.split()[:6]:
        rows = rows.filter(
            Q(document__icontains=word)
            | Q(memo__icontains=word)
            | Q(ledger_document__number__icontains=word)
            | Q(ledger_document__within__number__icontains=word)
        )
    found, following = page(rows, ["-id"], cursor, limit)
    lines = _lines([entry.pk for entry in found])
    return {"rows": sheet_rows(EntryOut, found, lambda entry: _entry(entry, lines[entry.pk]), _known), "next": following}


def entries_of(ref: Ref) -> list[EntryOut]:
    """What a document posted, in the order in which it did."""
    found = list(
        JournalEntry.objects.filter(document_kind=ref.kind, document_id=ref.id)
        .select_related("ledger_document__within")
        .order_by("pk")
    )
    lines = _lines([entry.pk for entry in found])
    return sheet_rows(EntryOut, found, lambda entry: _entry(entry, lines[entry.pk]), _known)


def _known(entry: JournalEntry) -> dict[str, Any]:
    known = {"id": entry.pk, "document": entry.document, "date": entry.date, "kind": entry.kind}
    return {**known, "memo": entry.memo, "posted_at": entry.posted_at, "link": entry.link}


def _entry(entry: JournalEntry, lines: list[dict[str, Any]]) -> dict[str, Any]:
    own = getattr(entry, "ledger_document", None)
    document = (own.within or own) if own else None
    return {
        "id": entry.pk,
        "date": entry.date,
        "kind": entry.kind,
        "document": entry.document,
        "link": entry.link,
        "memo": entry.memo,
        "posted_at": entry.posted_at,
        "amount": sum((line["debit"] for line in lines if line["debit"]), ZERO),
        "ledger_kind": document.kind if document else "",
        "ledger_number": document.number if document else "",
        "ledger_state": document.state if document else "",
        "contact": document.contact if document else "",
        "lines": lines,
    }


def _lines(entry_ids: list[int]) -> dict[int, list[dict[str, Any]]]:
    """Lines by entry, debits first; an entry of a year may have a line for each item, so the database sums them.

    Whether a sum is of one item is seen from the lowest and the highest: counting the different ones, or joining
    their names, takes several times as long.
    """
    sums = list(
        JournalLine.objects.filter(entry_id__in=entry_ids)
        .annotate(debit=Case(When(amount__gt=0, then=True), default=False, output_field=BooleanField()))
        .values("entry_id", "account__code", "account__name", "debit")
        .annotate(total=Sum("amount"), lines=Count("pk"), low=Min("item_id"), high=Max("item_id"))
        .order_by("entry_id", "-debit", "account__code")
    )
    alone = {row["low"] for row in sums if row["low"] and row["low"] == row["high"]}
    skus = dict(Item.objects.filter(pk__in=alone).values_list("pk", "sku"))
    found: dict[int, list[dict[str, Any]]] = defaultdict(list)
    for row in sums:
        found[row["entry_id"]].append(
            {
                "account": row["account__code"],
                "name": row["account__name"],
                "item": skus.get(row["low"], "") if row["low"] == row["high"] else f"{row['lines']:,} lines",
                "debit": row["total"] if row["debit"] else None,
                "credit": None if row["debit"] else -row["total"],
            }
        )
    return found


def accounts(today: date) -> dict[str, Any]:
    """Every account with its balance and this month's movement, and what the balances come to."""
    first = today.replace(day=1)
    rows = Account.objects.annotate(
        balance=Sum("lines__amount"), month=Sum("lines__amount", filter=Q(lines__entry__date__gte=first))
    ).order_by("code")
    return {
        "rows": sheet_rows(AccountOut, rows, _account, lambda a: {"code": a.code, "name": a.name, "role": a.role}),
        "total": figure_or(lambda: sum((a.balance or ZERO for a in rows), ZERO), "The sum of all accounts"),
    }


def _account(account: Any) -> dict[str, Any]:
    known = {"code": account.code, "name": account.name, "role": account.role}
    return {**known, "balance": account.balance or ZERO, "month": account.month or ZERO}


def clearing_choices() -> list[tuple[str, str]]:
    """Code and name of every clearing account."""
    return [(row.code, f"{row.code} {row.name}") for row in clearing_accounts()]


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
    steps.append(Step("Balance", balance, "debits positive", kind="result", unit=company().base_currency))
    return Working("What made this balance?", f"{account.code} {account.name}", tuple(steps))


def entry_working(entry_id: int) -> Working:
    """An entry as debits less credits."""
    entry = JournalEntry.objects.prefetch_related("lines__account", "lines__item").filter(pk=entry_id).first()
    if entry is None:
        raise NotFoundError("There is no such entry.")
    steps = [
        Step(f"{row['account']} {row['name']}", row["debit"] or row["credit"], row["item"], op="+" if row["debit"] else "-")
        for row in _lines([entry.pk])[entry.pk]
    ]
    steps.append(Step("Debits less credits", ZERO, "an entry always balances", kind="result"))
    return Working("Does it balance?", f"{entry.document} · {entry.memo}", tuple(steps))
