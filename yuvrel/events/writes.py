"""How often each table has been written to: what the database counts for itself, so that nobody has to write it down.

Its processes pass their counts on when they have been idle for a while; who has just written something that others wait
to see asks for it at once (`tell_writes`).
"""

from __future__ import annotations

from contextlib import suppress

from django.db import Error, connection

# All SQL of this file. Counts begin anew after a crash of the database; who compares them sees that they differ.
WRITES = """
    SELECT relname, n_tup_ins + n_tup_upd + n_tup_del FROM pg_stat_user_tables WHERE schemaname = current_schema()
"""
TELL = "SELECT pg_stat_force_next_flush()"


def writes() -> dict[str, int]:
    """Rows put in, changed and taken away since the counts began, by table."""
    with connection.cursor() as cursor:
        cursor.execute(WRITES)
        return {name: int(count) for name, count in cursor.fetchall()}


def tell_writes() -> None:
    """Have what this connection wrote counted now, not some seconds later. Inside a transaction it says nothing yet; a
    database that went away has nothing to tell."""
    if not connection.in_atomic_block:
        with suppress(Error), connection.cursor() as cursor:
            cursor.execute(TELL)
