"""How the tables are emptied after a test that was not in a transaction of its own.

Django truncates all of them and fills in anew what it keeps of the models: 0.7 s for our 118 tables, of which most hold
nothing. Here rows are deleted where there are any, without the triggers that forbid it: 0.02 s.
"""

from __future__ import annotations

from typing import Any

from django.db import connections, transaction
from django.test import TransactionTestCase
from psycopg import sql

# What says which models there are: no test changes it, and nothing else would write it again.
KEPT = {"django_content_type", "auth_permission", "django_migrations"}


def empty(using: str = "default") -> None:
    """Delete all rows of a database's tables. Nobody else may be at work in it."""
    connection = connections[using]
    names = sorted(set(connection.introspection.django_table_names(only_existing=True, include_views=False)) - KEPT)
    tables = [sql.Identifier(name) for name in names]
    asked = [
        sql.SQL("SELECT {} WHERE EXISTS (SELECT FROM {})").format(sql.Literal(n), t) for n, t in zip(names, tables, strict=True)
    ]
    with transaction.atomic(using), connection.cursor() as cursor:
        cursor.execute(sql.SQL(" UNION ALL ").join(asked))
        filled = [name for (name,) in cursor.fetchall()]
        cursor.execute("SET LOCAL session_replication_role = replica")
        for name in filled:
            cursor.execute(sql.SQL("DELETE FROM {}").format(sql.Identifier(name)))


def _fixture_teardown(self: Any) -> None:
    for using in self._databases_names(include_mirrors=False):
        empty(using)


def install() -> None:
    """For this process."""
    TransactionTestCase._fixture_teardown = _fixture_teardown  # type: ignore[attr-defined]
