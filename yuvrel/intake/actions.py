"""Sheets sent in: checked, taken in batch by batch, stopped; any number of times."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import datetime

from django.db import InterfaceError, OperationalError, transaction
from procrastinate.contrib.django.models import ProcrastinateJob

from yuvrel.apart import FILES, SMALL_FILES, StoppedError
from yuvrel.core.errors import BadInputError, NotFoundError, RefusedError, YuvrelError
from yuvrel.core.intake import EMPTY, Checked, Read, check_rows
from yuvrel.core.sheet_reading import Table, check_head
from yuvrel.core.sheets import Cell, write_table
from yuvrel.events.actions import wake
from yuvrel.people.roles import Actor, Role, audit

from .models import Before, Intake
from .registry import Kind, kind_of

log = logging.getLogger("yuvrel.intake")
MOST_BYTES = 16_000_000
BATCH = 200
SHOWN_OF_EACH = 60
TASK = "intake.work"
# By key and column, the text an export has.
Standing = Mapping[str, Mapping[str, str]]


def send(actor: Actor, kind: str, name: str, data: bytes, at: datetime, undoes: Intake | None = None) -> Intake:
    """Keep a file and have it checked: it is read where it can do no harm, and no sooner than that.

    Raises BadInputError when it is larger than what is taken in, or a CSV file that lacks a column it needs."""
    of = kind_of(kind)
    actor.need(of.ability)
    if len(data) > MOST_BYTES:
        raise BadInputError("The file is larger than 16 MB.", field="file")
    check_head(data, of.needed)
    with transaction.atomic():
        row = Intake.objects.create(
            kind=kind,
            name=name[:200],
            data=data,
            by=actor.name,
            role=actor.role.value,
            user_id=actor.user_id,
            made_at=at,
            undoes=undoes,
        )
        wake(TASK, f"{TASK}:{row.pk}", intake_id=row.pk)
    return row


def get(intake_id: int) -> Intake:
    """The file. Raises NotFoundError."""
    row = Intake.objects.defer("data").filter(pk=intake_id).first()
    if row is None:
        raise NotFoundError("There is no such import.")
    return row


@transaction.atomic
def confirm(actor: Actor, intake_id: int, *, whole: bool) -> Intake:
    """Have a checked file taken in: its good rows, or with `whole` all of it or nothing.

    Raises RefusedError when it is not checked, or when a row is wrong and `whole` is asked for.
    """
    row = _locked(actor, intake_id)
    if row.state not in (Intake.State.CHECKED, Intake.State.STOPPED):
        raise RefusedError(f"This file is {row.state}.", field="state")
    if whole and row.counts.get("wrong"):
        raise RefusedError("A row is wrong, so nothing is taken in. Correct it, or take in the rest.", field="whole")
    row.state, row.whole, row.done, row.stop, row.said = Intake.State.APPLYING, whole, 0, False, ""
    row.save(update_fields=["state", "whole", "done", "stop", "said"])
    wake(TASK, f"{TASK}:{row.pk}", intake_id=row.pk)
    return row


def _locked(actor: Actor, intake_id: int) -> Intake:
    row = Intake.objects.select_for_update().defer("data").filter(pk=intake_id).first()
    if row is None:
        raise NotFoundError("There is no such import.")
    actor.need(kind_of(row.kind).ability)
    return row


@transaction.atomic
def stop(actor: Actor, intake_id: int) -> Intake:
    """Have it stop while it is read, or after the batch it is at; what is taken in stays, and it can be taken up again."""
    row = _locked(actor, intake_id)
    if row.state not in Intake.AT_WORK:
        raise RefusedError("Nothing is being taken in.", field="state")
    row.stop = True
    row.save(update_fields=["stop"])
    return row


def take_up_again() -> None:
    """Have files carried on whose work was cut off: nothing is under way for them."""
    for row in Intake.objects.filter(state__in=Intake.AT_WORK).only("pk"):
        lock = f"{TASK}:{row.pk}"
        if not ProcrastinateJob.objects.filter(task_name=TASK, lock=lock, status__in=("todo", "doing")).exists():
            wake(TASK, lock, intake_id=row.pk)


def work(intake_id: int, clock: Callable[[], datetime]) -> None:
    """Check a file, or take it in: whichever it waits for. What was cut off is begun anew; rows that were taken in
    already are unchanged by then. A database that went away ends it, and it is taken up again."""
    row = Intake.objects.get(pk=intake_id)
    if row.state not in Intake.AT_WORK:
        return
    try:
        _work(row, clock)
    except (OperationalError, InterfaceError):
        raise
    except YuvrelError as error:
        _end(row, Intake.State.FAILED, error.detail, clock())
    except StoppedError:
        _end(row, Intake.State.FAILED, "Stopped while it was read; nothing was taken in.", clock())
    except Exception as error:
        _end(row, Intake.State.FAILED, f"{type(error).__name__}: {error}", clock())
        raise


def _work(row: Intake, clock: Callable[[], datetime]) -> None:
    kind = kind_of(row.kind)
    table = _read(row, kind)
    standing = dict(kind.standing())
    checked = check_rows(table, kind.columns, kind.key_of, standing, kind.judge(), kind.known_as())
    _note(row, checked)
    if row.state == Intake.State.CHECKING:
        row.state = Intake.State.CHECKED
        row.save(update_fields=["state"])
        return
    if row.whole and row.wrong:
        raise RefusedError("A row has become wrong since it was checked; nothing was taken in.")
    actor = Actor(row.by, Role(row.role), row.user_id)
    waiting = [read for read in checked.rows if read.outcome in ("new", "changed")]
    take = _apply_whole if row.whole else _apply
    ended = take(row, kind, actor, waiting, standing)
    said = f"{row.done:,} of {len(waiting):,} rows taken in, {row.counts['unchanged']:,} unchanged, {len(row.wrong):,} left out."
    _end(row, Intake.State.DONE if ended else Intake.State.STOPPED, said, clock())


def _read(row: Intake, kind: Kind) -> Table:
    """The rows of a file, read apart. How far it is shows on the row while it is checked. Raises StoppedError."""
    checking = row.state == Intake.State.CHECKING

    def told(done: int, total: int) -> bool:
        if checking:
            row.done, row.total = min(done, total), total
            row.save(update_fields=["done", "total"])
        return _is_stopped(row)

    table: Table = FILES.call("read_any", bytes(row.data), kind.needed, name="file", tell=told)
    if checking:
        row.done = 0
        row.save(update_fields=["done"])
    return table


def _is_stopped(row: Intake) -> bool:
    return Intake.objects.filter(pk=row.pk, stop=True).exists()


def _apply_whole(row: Intake, kind: Kind, actor: Actor, waiting: Sequence[Read], standing: Standing) -> bool:
    """All rows in one transaction; False when somebody stopped it, and then none is taken in."""
    with transaction.atomic():
        for batch in _batches(waiting):
            if _is_stopped(row):
                transaction.set_rollback(True)
                return False
            kind.apply(actor, batch)
        _keep_before(row, kind, waiting, standing)
        _trace(row, actor, len(waiting))
    row.done = len(waiting)
    row.save(update_fields=["done", "undo_rows"])
    return True


def _apply(row: Intake, kind: Kind, actor: Actor, waiting: Sequence[Read], standing: Standing) -> bool:
    """A batch a transaction; False when somebody stopped it."""
    for batch in _batches(waiting):
        if _is_stopped(row):
            return False
        with transaction.atomic():
            left = _take(kind, actor, batch)
            _keep_before(row, kind, [read for read in batch if str(read.line) not in left], standing)
        row.done += len(batch) - len(left)
        row.wrong |= left
        row.counts["wrong"] = len(row.wrong)
        row.save(update_fields=["done", "wrong", "counts", "undo_rows"])
    _trace(row, actor, row.done)
    return True


def _take(kind: Kind, actor: Actor, batch: Sequence[Read]) -> dict[str, str]:
    """Take rows in; where one cannot be, each by itself, so that the others are. Returns line to reason of those left."""
    try:
        with transaction.atomic():
            kind.apply(actor, batch)
    except (OperationalError, InterfaceError):
        raise
    except Exception as error:
        if len(batch) > 1:
            return {line: why for one in batch for line, why in _take(kind, actor, [one]).items()}
        if not isinstance(error, YuvrelError):
            log.exception("a row of a sheet cannot be taken in", extra={"kind": kind.name, "line": batch[0].line})
        why = error.detail if isinstance(error, YuvrelError) else f"cannot be taken in ({type(error).__name__})"
        return {str(batch[0].line): why}
    return {}


@transaction.atomic
def undo(actor: Actor, intake_id: int, at: datetime) -> Intake:
    """A file that says of each changed row what stood there before: it is checked like any other, and taken in when
    somebody says so. Rows that were new stay. Raises RefusedError where nothing was changed, or it was asked for before."""
    row = _locked(actor, intake_id)
    if row.state not in (Intake.State.DONE, Intake.State.STOPPED) or not row.undo_rows:
        raise RefusedError("Nothing was changed by this file.", field="state")
    if Intake.objects.filter(undoes=row).exists():
        raise RefusedError("This was undone already, or is about to be.", field="state")
    names = [column.name for column in kind_of(row.kind).columns]
    cells = list(row.befores.order_by("line").values_list("cells", flat=True))  # type: ignore[attr-defined]
    told = [name for name in names if any(name in one for one in cells)]
    data = write_table(told, cells).encode()
    return send(actor, row.kind, f"Undo {row.name}", data, at, row)


def _keep_before(row: Intake, kind: Kind, rows: Sequence[Read], standing: Standing) -> None:
    """Keep what each changed row is known by, and what stood in the cells that were changed. What was empty and cannot
    be emptied (the cost of what came in) is left out. A row that was changed before a stop keeps what stood there first."""
    known_by = [column.name for column in kind.columns if column.needed or column.tells]
    clearable = {column.name for column in kind.columns if column.empty is not None}
    found = []
    for read in rows:
        if read.outcome == "changed" or (kind.hollow and read.outcome == "new"):
            there = standing.get(read.key) or {name: str(read.values.get(name, "")) for name in known_by}
            cells = {name: there.get(name, "") for name in known_by}
            cells |= {name: before or EMPTY for name, (before, _) in read.changes.items() if before or name in clearable}
            found.append(Before(intake=row, line=read.line, cells=cells))
    Before.objects.bulk_create(found, 2000, ignore_conflicts=True)
    row.undo_rows = Before.objects.filter(intake=row).count()


def _trace(row: Intake, actor: Actor, count: int) -> None:
    audit(actor, f"import {row.kind}", "import", row.pk, after={"file": row.name, "rows": count})


def _batches(rows: Sequence[Read]) -> Iterator[Sequence[Read]]:
    for begin in range(0, len(rows), BATCH):
        yield rows[begin : begin + BATCH]


def _note(row: Intake, checked: Checked) -> None:
    row.counts, row.unknown, row.total = checked.counts, list(checked.unknown), len(checked.rows)
    row.wrong = {str(read.line): "; ".join(str(fault) for fault in read.faults) for read in checked.rows if read.faults}
    needed = kind_of(row.kind).needed
    row.shown = [_shown(read, needed) for name in ("wrong", "changed", "new") for read in _first(checked, name)]
    row.save(update_fields=["counts", "unknown", "total", "wrong", "shown"])


def _first(checked: Checked, outcome: str) -> list[Read]:
    return [read for read in checked.rows if read.outcome == outcome][:SHOWN_OF_EACH]


def _shown(read: Read, needed: Sequence[str]) -> dict[str, object]:
    return {
        "line": read.line,
        "key": " ".join(str(read.values[name]) for name in needed if name in read.values) or read.key,
        "outcome": read.outcome,
        "changes": [[name, before, after] for name, (before, after) in read.changes.items()],
        "faults": [[fault.column, fault.value, fault.reason] for fault in read.faults],
    }


def _end(row: Intake, state: Intake.State, said: str, at: datetime) -> None:
    row.state, row.said, row.ended_at = state, said[:300], at
    row.save(update_fields=["state", "said", "ended_at"])


# The heads of a file, and its rows.
File = tuple[list[str], Iterator[list[Cell]]]


def left_out(intake_id: int) -> File:
    """The wrong rows as they came, with a column that says why: to be put right and sent again."""
    row = Intake.objects.get(pk=get(intake_id).pk)
    table: Table = SMALL_FILES.call("read_any", bytes(row.data), kind_of(row.kind).needed, name="file")
    columns = [name for name in table.columns if name != "why"]
    lines = zip(table.lines, table.rows, strict=True)
    rows = ((values, row.wrong[str(line)]) for line, values in lines if str(line) in row.wrong)
    return [*columns, "why"], ([*(values.get(name, "") for name in columns), why] for values, why in rows)


def template(kind: str) -> File:
    """A file to start from: the columns with an example."""
    of = kind_of(kind)
    return [column.name for column in of.columns], iter([[column.cell(column.example) for column in of.columns]])


def everything(kind: str) -> File:
    """All there is, as a file that can be sent in again and changes nothing, line by line."""
    of = kind_of(kind)
    cells = [(column.name, column.cell) for column in of.columns]
    return [name for name, _ in cells], ([cell(texts.get(name, "")) for name, cell in cells] for _, texts in of.standing())
