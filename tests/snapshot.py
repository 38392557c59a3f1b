"""What a test begins with, built once in a process and put back for each further one, inside the test's transaction.

Rows go in as they came out, without triggers: what these keep (balances, commitments) is among the rows.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from django.db import connection
from psycopg import sql

from .world import forget_accounts

TABLES = "SELECT relname FROM pg_class WHERE relkind = 'r' AND relnamespace = 'public'::regnamespace ORDER BY relname"


def _filled() -> dict[str, int]:
    """Rows by table, of those that have any."""
    with connection.cursor() as cursor:
        cursor.execute(TABLES)
        names = [name for (name,) in cursor.fetchall()]
        cursor.execute(" UNION ALL ".join(f"SELECT '{name}', count(*) FROM \"{name}\"" for name in names))  # noqa: S608
        return {name: count for name, count in cursor.fetchall() if count}


@dataclass(frozen=True)
class Snapshot:
    """All rows of the tables that were empty before."""

    rows: dict[str, bytes]

    @classmethod
    def before(cls) -> dict[str, int]:
        """How things stand before anything is built."""
        return _filled()

    @classmethod
    def of(cls, before: dict[str, int]) -> Snapshot:
        """What was built since. Nothing may have been added where something was already."""
        now = _filled()
        assert all(now.get(name) == count for name, count in before.items()), (before, now)
        rows = {}
        with connection.cursor() as cursor:
            for name in sorted(set(now) - set(before)):
                with cursor.copy(sql.SQL("COPY {} TO STDOUT").format(sql.Identifier(name))) as copied:
                    rows[name] = b"".join(bytes(block) for block in copied)
        return cls(rows)

    def restore(self) -> None:
        """Put it all back into empty tables."""
        with connection.cursor() as cursor:
            cursor.execute("SET LOCAL session_replication_role = replica")
            for name, rows in self.rows.items():
                with cursor.copy(sql.SQL("COPY {} FROM STDIN").format(sql.Identifier(name))) as into:
                    into.write(rows)
            cursor.execute("SET LOCAL session_replication_role = origin")


_kept: dict[str, tuple[Snapshot, Any]] = {}


def once(what: str, build: Callable[[], Any]) -> Any:
    """Build what a test begins with, or put it back if this process has built it before. Returns what `build` returned
    then: plain facts, such as keys, since rows it read may not be as they were."""
    if what in _kept:
        forget_accounts()
        _kept[what][0].restore()
    else:
        before = Snapshot.before()
        facts = build()
        _kept[what] = Snapshot.of(before), facts
    return _kept[what][1]
