"""Tills that were closed and counted: read, and taken in each by itself."""

from __future__ import annotations

from datetime import datetime

from yuvrel.connectors.capabilities import Closes
from yuvrel.connectors.messages import Raw, RemoteClose, Unreadable
from yuvrel.core.errors import YuvrelError
from yuvrel.people.roles import SYSTEM
from yuvrel.sales.till_counts import CountedTender, take_count

from .credentials import connector_as
from .inbound import pages_since
from .models import Connection
from .quarantine import attempt, read_row, unreadable
from .runs import raise_snag, run_of, settle_snags
from .schedules import feed_of, read_whole

ODD = "till count"


def take_closes(connection: Connection, at: datetime) -> int:
    """Take in what was closed since the last reading. Returns how many were new; what cannot be taken in becomes one snag,
    the others go on."""
    connector = connector_as(connection, Closes)
    feed = feed_of(connection, "closes")
    new = seen = 0
    odd: list[Unreadable] = []
    with run_of(connection, "closes") as run:
        for page in pages_since(feed, connector.closes, at):
            found = [_take(connection, connector, raw) for raw in page.rows]
            new += sum(one is True for one in found)
            odd += [one for one in found if isinstance(one, Unreadable)]
            seen += len(found)
        run.done = run.total = seen
        run.taken, run.failed, run.unchanged = new, len(odd), seen - new - len(odd)
        read_whole(feed)
        run.note(f"{new} new of {seen}")
    if odd:
        named = "; ".join(f"{row.number or row.external_id or 'one without a number'}: {row.detail}" for row in odd[:5])
        raise_snag(connection, ODD, f"{len(odd)} till counts cannot be taken in", named, field=odd[0].field)
    else:
        settle_snags(ODD, "every till count could be taken in", connection=connection)
    return new


def _take(connection: Connection, connector: Closes, raw: Raw) -> bool | Unreadable:
    """Whether one close was new, or what is known of one that cannot be taken in."""
    close = read_row(connector.read_close, raw)
    if isinstance(close, Unreadable):
        return close
    try:
        return attempt(lambda: _taken(connection, close), f"close {close.number} of {connection.name}")
    except YuvrelError as error:
        return unreadable(raw.body, error.detail, error.field)


def _taken(connection: Connection, close: RemoteClose) -> bool:
    tenders = [CountedTender(one.method, one.opening, one.counted) for one in close.counts]
    number = close.number or close.external_id
    return take_count(SYSTEM, connection, close.external_id, number, close.closed_at, close.currency, tenders)[1]
