"""Tills that were closed and counted, beside what was sold there: the difference is booked, and follows sales that are
heard of late."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal
from typing import Any, cast

from django.db import transaction
from django.db.models import Q, QuerySet, Sum

from yuvrel.books.actions import Posting, clearing_accounts, open_day, post
from yuvrel.books.models import JournalEntry
from yuvrel.core import postings
from yuvrel.core.errors import BadInputError, NotFoundError
from yuvrel.core.money import ZERO
from yuvrel.core.postings import Role
from yuvrel.core.till_count import Counted
from yuvrel.core.working import Step, Working
from yuvrel.documents.registry import Ref
from yuvrel.people.queries import company, company_day, start_of_day
from yuvrel.people.roles import Actor, audit
from yuvrel.platform.faults import sheet_rows
from yuvrel.platform.paging import in_order, page

from .documents import TILL_COUNT
from .models import CreditNote, Payment, SalesOrder, TillCount, TillCountLine
from .rules import order_rules
from .schemas import TillCountRow

MOST_STEPS = 60
SORTS = {"closed": "count__closed_at", "till": "count__connection__name", "counted": "counted"}


@dataclass(frozen=True)
class CountedTender:
    """What was counted of one way to pay; `opening`: what lay there at the start."""

    method: str
    opening: Decimal
    counted: Decimal


@transaction.atomic
def take_count(
    actor: Actor,
    connection: Any,
    external_id: str,
    number: str,
    closed_at: datetime,
    currency: str,
    tenders: Sequence[CountedTender],
) -> tuple[TillCount, bool]:
    """Take in a close once, and book what differs. Returns it, and whether it was new.

    Raises BadInputError for a till that counts another currency, or one way to pay twice.
    """
    _take_turns(connection)
    known = TillCount.objects.filter(connection=connection, external_id=external_id).first()
    if known is not None:
        return known, False
    if currency != company().base_currency:
        raise BadInputError(f"It was counted in {currency}; the books are kept in {company().base_currency}.", field="currency")
    if len({one.method for one in tenders}) != len(tenders):
        raise BadInputError("One way to pay was counted twice.", field="tenders")
    before = TillCount.objects.filter(connection=connection, closed_at__lt=closed_at).order_by("-closed_at").first()
    since = before.closed_at if before else _first_since(connection, closed_at)
    count = TillCount.objects.create(
        connection=connection, external_id=external_id, number=number, closed_at=closed_at, since=since
    )
    roles = _roles(connection)
    TillCountLine.objects.bulk_create(
        TillCountLine(
            count=count, method=one.method, role=roles.get(one.method, Role.CLEARING), opening=one.opening, counted=one.counted
        )
        for one in tenders
    )
    settle(count)
    after = TillCount.objects.filter(connection=connection, closed_at__gt=closed_at).order_by("closed_at").first()
    if after is not None and after.since < closed_at:
        # It was heard of after the one that follows it.
        after.since = closed_at
        after.save(update_fields=["since"])
        settle(after)
    audit(actor, "take in till count", TILL_COUNT.code, count.pk, after={"number": number})
    return count, True


def _first_since(connection: Any, closed_at: datetime) -> datetime:
    """Where the first close begins: when the till was tied in, or with its day."""
    if connection.live_since is not None and connection.live_since < closed_at:
        return cast(datetime, connection.live_since)
    return start_of_day(company_day(closed_at))


def _take_turns(connection: Any) -> None:
    """A sale and a close of one till wait for each other: either sees the other."""
    type(connection)._default_manager.select_for_update(no_key=True).get(pk=connection.pk)


def _roles(connection: Any) -> dict[str, str]:
    """The clearing account of each way to pay, as the rule says."""
    roles = {row.code: row.role for row in clearing_accounts()}
    return {method: roles.get(code, Role.CLEARING) for method, code in order_rules(connection).accounts.items()}


def _paid(count: TillCount) -> QuerySet[Payment]:
    """What was paid at the till since the close before."""
    return Payment.objects.filter(
        order__connection=count.connection_id,
        order__kind=SalesOrder.Kind.TILL,
        order__state=SalesOrder.State.CLOSED,
        order__placed_at__gt=count.since,
        order__placed_at__lte=count.closed_at,
    )


def _paid_back(count: TillCount) -> QuerySet[CreditNote]:
    """What was paid back at the till since the close before."""
    return CreditNote.objects.exclude(external_id="").filter(
        order__connection=count.connection_id,
        order__kind=SalesOrder.Kind.TILL,
        issued_at__gt=count.since,
        issued_at__lte=count.closed_at,
    )


def _taken(count: TillCount) -> dict[str, Decimal]:
    """What came in of each way to pay since the close before, less what was paid back."""
    taken = dict(_paid(count).values_list("method").annotate(total=Sum("amount")).order_by())
    for method, back in _paid_back(count).values_list("method").annotate(total=Sum("refunded")).order_by():
        taken[method] = taken.get(method, ZERO) - back
    return taken


def settle(count: TillCount) -> None:
    """Bring what is booked of a close to what our sales say by now."""
    taken = _taken(count)
    lines = list(count.lines.select_for_update().order_by("pk"))
    changes: dict[str, Decimal] = {}
    for line in lines:
        difference = Counted(line.opening, taken.get(line.method, ZERO), line.counted).difference
        changes[line.role] = changes.get(line.role, ZERO) + difference - line.posted
        line.posted = difference
    TillCountLine.objects.bulk_update(lines, ["posted"])
    if any(changes.values()):
        connection = count.connection
        post(
            Posting(
                JournalEntry.Kind.TILL_COUNT,
                open_day(company_day(count.closed_at)),
                count.number,
                postings.till_count(changes),
                ref=Ref(TILL_COUNT.code, count.pk),
                memo=f"{connection.name} counted",
                gather=order_rules(connection).gather(connection),
            )
        )


def heard_late(order: SalesOrder) -> None:
    """A till sale that was made before a close we know of belongs into it."""
    if order.kind != SalesOrder.Kind.TILL or order.state != SalesOrder.State.CLOSED:
        return
    _settle_at(order, order.placed_at)


def refunded_late(order: SalesOrder, at: datetime) -> None:
    """What was paid back at a till before a close we know of belongs into it."""
    if order.kind == SalesOrder.Kind.TILL:
        _settle_at(order, at)


def _settle_at(order: SalesOrder, at: datetime) -> None:
    _take_turns(order.connection)
    within = TillCount.objects.filter(connection=order.connection_id, since__lt=at, closed_at__gte=at)
    for count in within.select_for_update():
        settle(count)


def _known(line: TillCountLine) -> dict[str, Any]:
    count = line.count
    known = {"id": line.pk, "count_id": count.pk, "number": count.number, "till": count.connection.name}
    return {**known, "method": line.method, "closed_at": count.closed_at}


def sheet(q: str, connection: int | None, show: str, cursor: str, limit: int, sort: str = "") -> dict[str, Any]:
    """A page of what was counted, a row for each way to pay, the newest first. `show`: *all*, or *differing* alone."""
    rows = TillCountLine.objects.select_related("count__connection")
    if connection:
        rows = rows.filter(count__connection_id=connection)
    if show == "differing":
        rows = rows.exclude(posted=0)
    for word in q.split()[:6]:
        rows = rows.filter(Q(count__number__icontains=word) | Q(method__icontains=word))
    rows, order = in_order(rows, sort, SORTS, ["-count__closed_at", "-id"])
    found, following = page(rows, order, cursor, limit)

    def shown(line: TillCountLine) -> dict[str, Any]:
        worked = Counted(line.opening, line.taken, line.counted)
        return {
            "id": line.pk,
            "count_id": line.count_id,
            "number": line.count.number,
            "till": line.count.connection.name,
            "since_at": line.count.since,
            "closed_at": line.count.closed_at,
            **{name: getattr(line, name) for name in ("method", "opening", "taken", "counted")},
            "expected": worked.expected,
            "difference": worked.difference,
        }

    return {
        "rows": sheet_rows(TillCountRow, found, shown, _known),
        "next": following,
    }


def count_working(line_id: int) -> Working:
    """What should have been in a till: what lay there at the start and each sale since. Raises NotFoundError."""
    line = TillCountLine.objects.select_related("count__connection").filter(pk=line_id).first()
    if line is None:
        raise NotFoundError("There is no such count.")
    count, worked = line.count, Counted(line.opening, line.taken, line.counted)
    paid = _paid(count).filter(method=line.method).select_related("order").order_by("-order__placed_at", "-pk")
    steps = [Step("At the start", line.opening, kind="fact")]
    latest = list(paid[:MOST_STEPS])
    steps += [Step(one.order.number, one.amount, op="+", link=f"/orders/{one.order_id}") for one in latest]
    further = paid.count() - len(latest)
    back = _paid_back(count).filter(method=line.method)
    paid_back = back.aggregate(total=Sum("refunded"))["total"] or ZERO
    if further:
        rest = line.taken + paid_back - sum((one.amount for one in latest), ZERO)
        steps.append(Step(f"{further} earlier sales", rest, op="+"))
    if paid_back:
        steps.append(Step("Paid back", paid_back, ", ".join(back.values_list("number", flat=True)[:5]), op="-"))
    steps += [
        Step("Should be there", worked.expected, kind="result"),
        Step("Counted", line.counted, kind="fact"),
        Step("Difference", worked.difference, "booked as a cash difference" if line.posted else "", kind="result"),
    ]
    title = f"{count.connection.name} · {count.number} · {line.method.replace('_', ' ')}"
    return Working("What should be in the till?", title, tuple(steps))
