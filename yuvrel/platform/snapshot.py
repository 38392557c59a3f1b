"""Several queries that see the same moment."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from django.db import connection, transaction


@contextmanager
def one_moment() -> Iterator[None]:
    """Reads inside see the database as it was at the first of them, whatever is committed meanwhile.

    For figures that are put together from several queries. Nothing can be written inside. Within a transaction
    already begun it changes nothing: that one sees what it sees.
    """
    if connection.in_atomic_block:
        yield
        return
    with transaction.atomic():
        with connection.cursor() as cursor:
            cursor.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY")
        yield
