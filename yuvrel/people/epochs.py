"""Epochs of an installation: a restore begins a new one, so that no number and no key is ever given out a second time."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

from django.contrib.sessions.models import Session
from django.db import connection, transaction
from django.db.models import Max
from django_scopes import get_scope

from yuvrel.ownership import company_id

from .models import AuditRow, Company, Epoch, OpenSession

# How far every row's id moves on: past any that was given out after the backup and is forgotten now.
IDS = 1_000_000
HELD = "Nothing is sent: this installation was restored from a backup. Look under After a restore, and let it send again."
# The tables whose first id in an epoch is kept: what is sent of them carries the epoch.
KEPT = ("buying_purchaseorder", "channels_publication")


@transaction.atomic
def begin_epoch(at: datetime) -> Epoch:
    """A restored database goes on as another installation: ids move past all that may have been given out, nothing goes
    out until somebody agrees, and everybody signs in anew."""
    number = (Epoch.objects.aggregate(n=Max("number"))["n"] or 1) + 1
    until = AuditRow.objects.aggregate(at=Max("at"))["at"]
    firsts = {}
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT s.schemaname, s.sequencename, coalesce(s.last_value, 0), t.relname FROM pg_sequences s"
            " JOIN pg_class c ON c.relname = s.sequencename JOIN pg_depend d ON d.objid = c.oid AND d.deptype IN ('a', 'i')"
            " JOIN pg_class t ON t.oid = d.refobjid WHERE s.schemaname = 'public'"
        )
        for schema, name, last, table in cursor.fetchall():
            first = (last // IDS + 2) * IDS
            if table.startswith(("django_", "auth_", "procrastinate_")):
                continue
            cursor.execute("SELECT setval(format('%%I.%%I', %s::text, %s::text)::regclass, %s, false)", [schema, name, first])
            if table in KEPT:
                firsts[table] = first
    Session.objects.all().delete()
    OpenSession.objects.all().delete()
    Company.objects.update(held_at=at)
    return Epoch.objects.create(number=number, begun_at=at, data_until=until, firsts=firsts)


def keys_of(table: str) -> Callable[[str, int], str]:
    """What makes of a key and a row's id the key by which another end knows again what is sent of it: with the epoch in which
    the row was made, if that is not the first. Raises ValueError for a table of which no first id is kept."""
    if table not in KEPT:
        raise ValueError(f"no first id is kept of {table}")
    firsts = [(row.firsts[table], row.number) for row in Epoch.objects.order_by("number") if table in row.firsts]

    def keyed(key: str, pk: int) -> str:
        made_in = [number for first, number in firsts if pk >= first]
        return f"{key}-e{made_in[-1]}" if made_in else key

    return keyed


def why_held() -> str:
    """Why nothing is sent just now; empty when it is. Where nobody has said for whom, one company that is held is enough."""
    asked = Company.objects.filter(held_at__isnull=False)
    here = get_scope().get("company")
    return HELD if (asked.filter(pk=int(here)) if here is not None else asked).exists() else ""


def is_held() -> bool:
    """Whether the company that is worked for sends nothing, as it was restored and nobody has agreed yet."""
    return Company.objects.filter(pk=company_id(), held_at__isnull=False).exists()
