"""The sub-ledger: accounts, entries that are never edited, and what was told to the outside ledger."""

from typing import ClassVar

import pgtrigger
from django.db import models

from yuvrel.documents.columns import FromDocument
from yuvrel.ownership import owned, owner
from yuvrel.platform.columns import MONEY, RATE


class Account(models.Model):
    """One account of ours; each role of the postings has exactly one."""

    company = owner()
    role = models.CharField(max_length=30)
    code = models.CharField(max_length=10)
    name = models.CharField(max_length=60)

    objects: ClassVar[models.Manager["Account"]] = owned()

    class Meta:
        ordering = ["code"]
        constraints = [
            models.UniqueConstraint(fields=["company", "role"], name="account_role_once"),
            models.UniqueConstraint(fields=["company", "code"], name="account_code_once"),
        ]


class ExchangeRate(models.Model):
    """Units of `currency` for one unit of base currency, from a day on."""

    company = owner()
    currency = models.CharField(max_length=3)
    day = models.DateField()
    rate = models.DecimalField(**RATE)

    objects: ClassVar[models.Manager["ExchangeRate"]] = owned()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["company", "currency", "day"], name="rate_once"),
            models.CheckConstraint(condition=models.Q(rate__gt=0), name="rate_positive"),
        ]


class Period(models.Model):
    """A month of the books; nothing is posted into a closed one."""

    company = owner()
    month = models.DateField(help_text="First day of the month")
    closed_at = models.DateTimeField(null=True)

    objects: ClassVar[models.Manager["Period"]] = owned()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["company", "month"], name="period_once")]


class JournalEntry(FromDocument):
    """One event in the books. Never updated, never deleted; put right by a reversal."""

    class Kind(models.TextChoices):
        RECEIPT = "receipt"
        INVOICE = "invoice"
        COST = "cost"
        PREPAYMENT = "prepayment"
        ADJUSTMENT = "adjustment"
        OPENING = "opening"
        BILL = "bill"
        TRANSFER = "transfer"
        SUMMARY = "summary"
        TILL_COUNT = "till count"
        RETURN = "return"
        CREDIT = "credit note"
        RESTORED = "restored"

    company = owner()
    kind = models.CharField(max_length=12, choices=Kind.choices)
    date = models.DateField(db_index=True)
    memo = models.CharField(max_length=200, blank=True)
    reverses = models.OneToOneField("self", on_delete=models.PROTECT, null=True, related_name="reversed_by")
    posted_at = models.DateTimeField(auto_now_add=True)

    objects: ClassVar[models.Manager["JournalEntry"]] = owned()

    class Meta:
        verbose_name_plural = "journal entries"
        indexes = [models.Index(fields=["document_kind", "document_id"], name="entry_document")]
        triggers = [
            pgtrigger.Protect(name="entry_append_only", operation=pgtrigger.Update | pgtrigger.Delete),
            pgtrigger.Trigger(
                name="entry_open_period",
                when=pgtrigger.Before,
                operation=pgtrigger.Insert,
                func="""
                    IF EXISTS (SELECT 1 FROM books_period WHERE closed_at IS NOT NULL
                               AND company_id = NEW.company_id AND month = date_trunc('month', NEW.date)::date) THEN
                        RAISE EXCEPTION 'period closed: %', to_char(NEW.date, 'YYYY-MM')
                            USING ERRCODE = 'check_violation';
                    END IF;
                    RETURN NEW;
                """,
            ),
        ]


class JournalLine(models.Model):
    """A debit (positive) or credit (negative) in base currency."""

    entry = models.ForeignKey(JournalEntry, on_delete=models.PROTECT, related_name="lines")
    account = models.ForeignKey(Account, on_delete=models.PROTECT, related_name="lines")
    item = models.ForeignKey("catalogue.Item", on_delete=models.PROTECT, null=True)
    amount = models.DecimalField(**MONEY)
    memo = models.CharField(max_length=200, blank=True)

    objects: ClassVar[models.Manager["JournalLine"]] = owned("account__company")

    class Meta:
        constraints = [models.CheckConstraint(condition=~models.Q(amount=0), name="journal_line_not_empty")]
        indexes = [models.Index(fields=["account", "item"], name="line_account_item")]
        triggers = [
            pgtrigger.Protect(name="line_append_only", operation=pgtrigger.Update | pgtrigger.Delete),
            pgtrigger.Trigger(
                name="entry_balances",
                when=pgtrigger.After,
                operation=pgtrigger.Insert,
                timing=pgtrigger.Deferred,
                # An entry of opening stock has a line for each item, and this runs for each of them at the commit: the
                # first looks at the whole and notes, for this transaction, up to which line the entry is in balance.
                declare=[("seen", "text"), ("total", "numeric"), ("newest", "bigint")],
                func="""
                    seen := current_setting('yuvrel.balanced', true);
                    IF split_part(seen, ':', 1) = NEW.entry_id::text AND NEW.id <= split_part(seen, ':', 2)::bigint THEN
                        RETURN NULL;
                    END IF;
                    SELECT sum(amount), max(id) INTO total, newest FROM books_journalline WHERE entry_id = NEW.entry_id;
                    IF total <> 0 THEN
                        RAISE EXCEPTION 'journal entry % does not balance', NEW.entry_id
                            USING ERRCODE = 'check_violation';
                    END IF;
                    PERFORM set_config('yuvrel.balanced', NEW.entry_id || ':' || newest, true);
                    RETURN NULL;
                """,
            ),
        ]


class LedgerDocument(models.Model):
    """What the outside ledger is told, at most once, and what it answered: of one entry, or of a day's entries that are
    gathered. An entry that is gathered has a document of its own all the same, which lies within that of its day."""

    class Kind(models.TextChoices):
        INVOICE = "invoice"
        JOURNAL = "journal"
        BILL = "bill"
        CREDIT = "credit"

    class State(models.TextChoices):
        PENDING = "pending"
        GATHERED = "gathered"
        SENT = "sent"
        REFUSED = "refused"

    company = owner()
    entry = models.OneToOneField(JournalEntry, on_delete=models.PROTECT, null=True, related_name="ledger_document")
    gather = models.CharField(max_length=48, blank=True, help_text="What it is gathered with, a day at a time")
    within = models.ForeignKey("self", on_delete=models.PROTECT, null=True, related_name="gathered")
    day = models.DateField(null=True, help_text="Of a document that gathers a day's")
    made_at = models.DateTimeField(auto_now_add=True)
    kind = models.CharField(max_length=10, choices=Kind.choices)
    number = models.CharField(max_length=60)
    contact = models.CharField(max_length=120, blank=True)
    due_on = models.DateField(null=True, help_text="When an invoice has to be paid")
    details = models.JSONField(default=list, help_text="Lines as the customer or supplier sees them")
    state = models.CharField(max_length=10, choices=State.choices, default=State.PENDING)
    external_id = models.CharField(max_length=80, blank=True)
    sent_at = models.DateTimeField(null=True)

    objects: ClassVar[models.Manager["LedgerDocument"]] = owned()

    class Meta:
        indexes = [
            models.Index(fields=["state", "id"], name="ledger_state"),
            models.Index(fields=["gather", "id"], name="ledger_to_gather", condition=models.Q(state="gathered", within=None)),
        ]
        constraints = [
            models.UniqueConstraint(fields=["company", "number"], name="ledger_number_once"),
            models.CheckConstraint(condition=models.Q(state="sent") ^ models.Q(external_id=""), name="ledger_sent_has_id"),
            models.CheckConstraint(condition=models.Q(entry=None) ^ models.Q(day=None), name="ledger_of_an_entry_or_a_day"),
            models.CheckConstraint(
                condition=~models.Q(state="gathered") | (~models.Q(gather="") & models.Q(entry__isnull=False)),
                name="ledger_gathered_with_something",
            ),
        ]
