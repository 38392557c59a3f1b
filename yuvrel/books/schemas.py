"""Wire types of the books."""

from __future__ import annotations

from datetime import date, datetime
from typing import Annotated

from ninja import Schema
from pydantic import Field

from yuvrel.core.postings import Role
from yuvrel.platform.wire import DayIn, Money, SheetRow, UnitCost, words

from .models import JournalEntry, LedgerDocument


class JournalLineOut(Schema):
    """One side of an entry: either debit or credit is set."""

    account: str
    name: str
    item: str
    debit: Money | None
    credit: Money | None


class EntryOut(SheetRow):
    """A journal entry with its lines."""

    id: int
    date: date
    kind: Annotated[str, words(JournalEntry.Kind)]
    document: str
    link: str
    memo: str
    posted_at: datetime
    amount: Money
    ledger_kind: Annotated[str, words(("", *LedgerDocument.Kind))]
    ledger_number: str
    ledger_state: Annotated[str, words(("", *LedgerDocument.State))]
    contact: str
    lines: list[JournalLineOut]


class JournalPage(Schema):
    """A page of entries, newest first."""

    rows: list[EntryOut]
    next: str


class AccountOut(SheetRow):
    """An account and its balance; debits positive."""

    code: str
    name: str
    role: Annotated[str, words(Role)]
    balance: Money
    month: Money


class AccountsOut(Schema):
    """All accounts, and what they come to together: nothing, or the books are broken."""

    rows: list[AccountOut]
    total: Money | None


class ClearingIn(Schema):
    """A clearing account to open."""

    code: str = Field(max_length=10)
    name: str = Field(max_length=60)


class RateRow(Schema):
    """What one of base currency is worth in another, from a day on."""

    currency: str
    day: date
    rate: UnitCost


class PeriodIn(Schema):
    """A month to close or reopen."""

    month: DayIn
    closed: bool


class PeriodOut(Schema):
    """A month and whether it is closed."""

    month: date
    closed_at: datetime | None
