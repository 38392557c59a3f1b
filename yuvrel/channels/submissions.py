"""Batches that an account works on later: handed in, remembered, asked for until it says what came of each line.

A listing whose batch is under way is not handed in again; what is worked out anew meanwhile stays pending and goes with
the next batch. Should this process die, the batch is known here and asked for by the next; should it die between the
account's answer and our writing it down, the same absolute figures are handed in once more, and the later batch counts.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from django.db import transaction
from django.db.models import Count, Q, QuerySet
from django.utils import timezone

from yuvrel.connectors.capabilities import Feeds
from yuvrel.connectors.http import RefusedThereError
from yuvrel.connectors.messages import PushResult, Submitted
from yuvrel.platform.bulk import update_many

from .credentials import connector_as
from .models import Connection, Submission, SubmittedLine
from .runs import raise_snag, run_of, settle_snags
from .schedules import feed_of, read_whole

# After so long an account that still says nothing has lost the batch.
LONGEST = timedelta(hours=6)
SNAG = "feeds"
UNSAID = "The account said nothing of this line."


@dataclass(frozen=True)
class Handed:
    """A line of a batch: the listing or publication, what it was to show, and when that was worked out."""

    listing_id: int | None
    wanted: dict[str, Any]
    stamp: datetime
    publication_id: int | None = None


# What is done with the results of a batch: the connection, its lines, and for each refused listing or publication why.
Settler = Callable[[Connection, Sequence[SubmittedLine], Mapping[int, str]], object]
SETTLERS: dict[str, Settler] = {}


def under_way(connection: Connection, sort: str) -> QuerySet[SubmittedLine, Any]:
    """The listings of a connection whose last batch of a sort the account still works on."""
    waiting = {"submission__connection": connection, "submission__sort": sort, "submission__state": Submission.State.WAITING}
    return SubmittedLine.objects.filter(**waiting).values("listing")


@transaction.atomic
def remember(connection: Connection, sort: str, answer: Submitted, lines: Sequence[Handed]) -> Submission:
    """Write down a batch that the account has taken."""
    row = Submission.objects.create(connection=connection, sort=sort, key=answer.key, submitted_at=timezone.now())
    SubmittedLine.objects.bulk_create(
        [
            SubmittedLine(
                submission=row,
                listing_id=one.listing_id,
                publication_id=one.publication_id,
                wanted=one.wanted,
                stamp=one.stamp,
            )
            for one in lines
        ],
        2000,
    )
    return row


def are_waiting(connection: Connection) -> bool:
    """Whether the account works on anything of ours."""
    return connection.submissions.filter(state=Submission.State.WAITING).exists()  # type: ignore[attr-defined]


def collect(connection: Connection) -> int:
    """Ask what came of every batch that is under way, the oldest first. Returns how many have ended."""
    waiting = list(Submission.objects.filter(connection=connection, state=Submission.State.WAITING).order_by("pk"))
    if not waiting:
        return 0
    connector, feed = connector_as(connection, Feeds), feed_of(connection, "feeds")
    ended = 0
    with run_of(connection, "feeds") as run:
        for row in waiting:
            try:
                answer = connector.read_feed(row.key)
            except RefusedThereError as error:
                _lose(row, str(error))
                run.step(failed=row.lines.count())  # type: ignore[attr-defined]
                ended += 1
                continue
            if answer.done:
                taken, refused = _end(row, answer.results)
                run.step(done=taken + refused, total=taken + refused, changed=taken, failed=refused)
                run.note(f"{row.sort} handed in at {row.submitted_at:%H:%M:%S}: {taken} taken, {refused} refused")
                ended += 1
            elif timezone.now() - row.submitted_at > LONGEST:
                _lose(row, f"It was handed in at {row.submitted_at:%Y-%m-%d %H:%M} UTC and is not worked on yet.")
                ended += 1
        run.note(f"{ended} of {len(waiting)} batches have ended")
        read_whole(feed)
    return ended


def _end(row: Submission, results: Sequence[PushResult]) -> tuple[int, int]:
    """Note what came of each line, and let the sort's own settling follow. Returns how many were taken and refused."""
    lines = list(row.lines.select_related("listing__connection", "publication__item").order_by("pk"))  # type: ignore[attr-defined]
    said = {result.external_id: result for result in results}
    refused: dict[int, str] = {}
    for line in lines:
        result = said.get(line.key)
        line.taken = result is not None and result.ok
        line.said = "" if line.taken else (result.error if result and result.error else UNSAID)[:300]
        line.made = result.made if result and result.ok else ""
        if not line.taken:
            refused[line.listing_id or line.publication_id or 0] = line.said
    SETTLERS[row.sort](row.connection, lines, refused)
    with transaction.atomic():
        update_many(lines, ["taken", "said", "made"])
        Submission.objects.filter(pk=row.pk).update(state=Submission.State.DONE, ended_at=timezone.now())
    settle_snags(SNAG, "a later batch was worked on", connection=row.connection)
    return len(lines) - len(refused), len(refused)


def _lose(row: Submission, why: str) -> None:
    """The account knows nothing of a batch any more: its lines are free to be handed in again."""
    Submission.objects.filter(pk=row.pk).update(state=Submission.State.LOST, ended_at=timezone.now())
    raise_snag(
        row.connection, SNAG, f"{row.connection.name} lost a batch of {row.sort}", f"{why} What it held is handed in again."
    )


def newest(connection: Connection, count: int = 12) -> list[dict[str, Any]]:
    """The newest batches of a connection with their counts, for its page."""
    rows = Submission.objects.filter(connection=connection).annotate(
        size=Count("lines"), refused=Count("lines", filter=Q(lines__taken=False))
    )
    names = ("pk", "sort", "key", "state", "submitted_at", "ended_at", "size", "refused")
    return [{**row, "id": row.pop("pk")} for row in rows.order_by("-pk").values(*names)[:count]]
