"""Posting to the journal. Other apps call this inside the transaction of their own event."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from decimal import Decimal
from functools import lru_cache
from typing import Any

from django.db import transaction
from django.db.models import Q, Sum

from yuvrel.core.bounds import check_text
from yuvrel.core.errors import BadInputError, RefusedError
from yuvrel.core.postings import FURTHER_CLEARING, Line, Role, balanced
from yuvrel.documents.columns import from_document
from yuvrel.documents.registry import Ref
from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.ownership import company_id
from yuvrel.people.roles import Ability, Actor, audit
from yuvrel.platform.bulk import insert_many

from .models import Account, JournalEntry, JournalLine, LedgerDocument, Period

State = LedgerDocument.State
# A day's number is this name, the day, and a count where there are several.
MOST_GATHERED = 44
# What stands for the ledger's answer where there was nothing to tell it.
NOTHING = "nothing"

CHART: tuple[tuple[Role, str, str], ...] = (
    (Role.INVENTORY, "1300", "Inventory"),
    (Role.IN_TRANSIT, "1310", "Goods in transit"),
    (Role.CLEARING, "1150", "Channel clearing"),
    (Role.RECEIVABLE, "1100", "Accounts receivable"),
    (Role.BANK, "1000", "Bank"),
    (Role.INPUT_TAX, "1450", "Input tax"),
    (Role.PAYABLE, "2000", "Accounts payable"),
    (Role.RECEIVED_NOT_BILLED, "2050", "Goods received not billed"),
    (Role.PREPAYMENTS, "2100", "Customer prepayments"),
    (Role.OUTPUT_TAX, "2200", "Output tax"),
    (Role.OPENING, "3000", "Opening balances"),
    (Role.SALES, "4000", "Sales"),
    (Role.SHIPPING_INCOME, "4100", "Shipping income"),
    (Role.SURCHARGE_INCOME, "4150", "Surcharge income"),
    (Role.DISCOUNTS, "4300", "Discounts given"),
    (Role.SALES_RETURNS, "4400", "Sales returns"),
    (Role.COST_OF_SALES, "5000", "Cost of sales"),
    (Role.PRICE_DIFFERENCE, "5200", "Price difference"),
    (Role.EXCHANGE_DIFFERENCE, "5250", "Exchange difference"),
    (Role.SHRINKAGE, "5400", "Shrinkage"),
    (Role.DAMAGE, "5410", "Damaged goods"),
    (Role.WRITE_OFF, "5420", "Written off"),
    (Role.CASH_DIFFERENCE, "5430", "Cash differences"),
)


@dataclass(frozen=True)
class Posting:
    """One entry to post; `ref` is the document that causes it. `ledger_kind`, `number`, `contact` and `details` shape what
    the outside ledger is told; without a kind it is a journal numbered by the entry. `gather`: with what it is told in one
    journal a day, instead of by itself."""

    kind: str
    day: date
    document: str
    lines: tuple[Line, ...]
    ref: Ref | None = None
    memo: str = ""
    ledger_kind: str = LedgerDocument.Kind.JOURNAL
    number: str = ""
    contact: str = ""
    gather: str = ""
    details: list[dict[str, Any]] = field(default_factory=list)
    due: date | None = None


def open_chart() -> None:
    """Create the accounts that are missing."""
    have = set(Account.objects.values_list("role", flat=True))
    Account.objects.bulk_create(Account(role=role, code=code, name=name) for role, code, name in CHART if role not in have)
    accounts_of.cache_clear()


def found_stock() -> Role:
    """The account through which documents found after a restore pass: theirs is the stock, and here no item is known for
    it. It is opened when it is first needed, and comes to nothing."""
    if not Account.objects.filter(role=Role.FOUND).exists():
        taken = set(Account.objects.values_list("code", flat=True))
        code = next(str(code) for code in range(1320, 10_000) if str(code) not in taken)
        Account.objects.create(role=Role.FOUND, code=code, name="Stock of documents found after a restore")
        accounts_of.cache_clear()
    return Role.FOUND


def account_ids() -> dict[str, int]:
    """Account id by role, of the company that is worked for."""
    return accounts_of(company_id())


@lru_cache(maxsize=64)
def accounts_of(company: int) -> dict[str, int]:
    """Account id by role, of one company; each process keeps them."""
    return dict(Account._base_manager.filter(company=company).values_list("role", "id"))


def clearing_accounts() -> list[Account]:
    """Every clearing account, the one that each company has first."""
    rows = Account.objects.filter(Q(role=Role.CLEARING) | Q(role__startswith=FURTHER_CLEARING)).order_by("code")
    return sorted(rows, key=lambda row: row.role != Role.CLEARING)


@transaction.atomic
def add_clearing(actor: Actor, code: str, name: str) -> Account:
    """Open a further clearing account, for what one way of paying brings in: card terminal, cash, a payment service.

    Raises BadInputError for a code that is taken or none, ForbiddenError.
    """
    actor.need(Ability.KEEP_BOOKS)
    code, name = code.strip(), name.strip()
    if not code.isalnum() or len(code) > 10:
        raise BadInputError("A code is up to ten letters and digits.", field="code")
    if not name:
        raise BadInputError("Give the account a name.", field="name")
    if Account.objects.filter(code=code).exists():
        raise BadInputError(f"There is an account {code} already.", field="code")
    row = Account.objects.create(role=f"{FURTHER_CLEARING}{code}", code=code, name=check_text(name, "name", most=60))
    # Every process keeps the accounts by role; one that does not know this one yet looks again when it is asked for it.
    accounts_of.cache_clear()
    audit(actor, "open account", "account", row.pk, after={"code": code, "name": row.name})
    return row


def open_day(day: date) -> date:
    """`day`, or when its month is closed the first day of the next month that is open.

    For what has happened and cannot be refused, as a sale at a till that is heard of late.
    """
    closed = set(Period.objects.filter(month__gte=day.replace(day=1), closed_at__isnull=False).values_list("month", flat=True))
    while day.replace(day=1) in closed:
        day = (day.replace(day=28) + timedelta(days=4)).replace(day=1)
    return day


def post(posting: Posting) -> JournalEntry | None:
    """Write one balanced entry and its ledger document; nothing when there is nothing to post.

    Raises RefusedError when the period is closed.
    """
    lines = balanced(posting.lines)
    if not lines:
        return None
    if Period.objects.filter(month=posting.day.replace(day=1), closed_at__isnull=False).exists():
        raise RefusedError(f"The period {posting.day:%B %Y} is closed. Date it into an open period.", field="date")
    ids = account_ids()
    if any(line.role not in ids for line in lines):
        # Books that were opened before there was such an account get it when something is first posted to it.
        open_chart()
        ids = account_ids()
    entry = JournalEntry.objects.create(
        kind=posting.kind,
        date=posting.day,
        document=posting.document,
        memo=posting.memo[:200],
        **from_document(posting.ref),
    )
    rows = [
        JournalLine(entry=entry, account_id=ids[line.role], item_id=line.item_id, amount=line.amount, memo=line.memo)
        for line in lines
    ]
    insert_many(rows)
    document = LedgerDocument.objects.create(
        entry=entry,
        kind=posting.ledger_kind,
        number=posting.number or f"J-{entry.pk}",
        contact=posting.contact,
        details=posting.details,
        due_on=posting.due,
        gather=posting.gather[:MOST_GATHERED],
        state=State.GATHERED if posting.gather else State.PENDING,
    )
    if not posting.gather:
        record(Event.Kind.LEDGER, [document.pk], posting.document)
    return entry


@transaction.atomic
def gather_days(today: date) -> int:
    """Make one document of everything that was gathered on each day before `today`, for each that gathers. Returns how many.

    What is dated into a day whose document was made already gets one more for that day.
    """
    waiting = LedgerDocument.objects.filter(state=State.GATHERED, within=None, entry__date__lt=today)
    days = sorted(set(waiting.values_list("gather", "entry__date")))
    for gather, day in days:
        number = f"{gather} {day}"
        before = LedgerDocument.objects.filter(gather=gather, day=day).count()
        whole = LedgerDocument.objects.create(
            kind=LedgerDocument.Kind.JOURNAL,
            number=f"{number} {before + 1}" if before else number,
            gather=gather,
            day=day,
        )
        waiting.filter(gather=gather, entry__date=day).update(within=whole)
        if not any(total for _, total in account_sums(whole)):
            # What was sold was taken back the same day: there is nothing to tell.
            whole.state, whole.external_id = State.SENT, NOTHING
            whole.save(update_fields=["state", "external_id"])
            continue
        record(Event.Kind.LEDGER, [whole.pk], whole.number)
    return len(days)


def account_sums(document: LedgerDocument) -> list[tuple[str, Decimal]]:
    """What a document comes to by the role of our accounts: its entry, or everything that lies within it."""
    told = Q(entry__ledger_document=document) if document.entry_id else Q(entry__ledger_document__within=document)
    lines = JournalLine.objects.filter(told)
    return list(lines.values_list("account__role").annotate(total=Sum("amount")).order_by("account__role"))


@transaction.atomic
def mark_sent(document_id: int, external_id: str, at: datetime) -> None:
    """The ledger took it. Saying so twice changes nothing."""
    LedgerDocument.objects.filter(pk=document_id).exclude(state=LedgerDocument.State.SENT).update(
        state=LedgerDocument.State.SENT, external_id=external_id, sent_at=at
    )


def mark_refused(document_ids: Iterable[int]) -> None:
    """The ledger refused it; a Snag says why."""
    LedgerDocument.objects.filter(pk__in=list(document_ids), state=LedgerDocument.State.PENDING).update(
        state=LedgerDocument.State.REFUSED
    )


@transaction.atomic
def set_period(actor: Actor, month: date, *, closed: bool, at: datetime) -> Period:
    """Close or reopen a month."""
    actor.need(Ability.KEEP_BOOKS)
    if month.day != 1:
        raise RefusedError("A period is named by the first day of its month.", field="month")
    period, _ = Period.objects.get_or_create(month=month)
    period.closed_at = at if closed else None
    period.save()
    audit(actor, "close period" if closed else "reopen period", "period", period.pk, after={"month": str(month)})
    return period
