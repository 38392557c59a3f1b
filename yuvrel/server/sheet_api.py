"""Routes of sheets: named views, how a person last had each, and files of what is seen."""

from __future__ import annotations

from itertools import chain, islice
from typing import Annotated, Any

from django.http import HttpRequest, HttpResponseBase
from django.utils import timezone
from ninja import Router, Schema, Status
from pydantic import Field

from yuvrel.people import views
from yuvrel.people.queries import company_day
from yuvrel.people.schemas import Name, OpensWithIn, SheetOut, SheetSettings, ViewIn
from yuvrel.platform.auth import actor
from yuvrel.platform.files import Form, sheet_file
from yuvrel.platform.wire import Said

from .sheets import lines, narrowed, source

router = Router(tags=["sheets"])


class FileColumn(Schema):
    """A field of the sheet's rows, and what stands at its head in the file."""

    field: Name
    head: str = Field(max_length=80)


class FileIn(Schema):
    """What is seen: columns from left to right, order, filters; `title` names the file."""

    form: Form
    title: str = Field("", max_length=80)
    columns: list[FileColumn] = Field(min_length=1, max_length=60)
    sort: str = Field("", max_length=40)
    filters: dict[Name, Annotated[str, Field(max_length=200)]] = Field(default_factory=dict, max_length=20)


@router.get("/sheets/{sheet}", response=SheetOut, operation_id="get_sheet")
def get_sheet(request: HttpRequest, sheet: str) -> Any:
    """The views of a sheet that the person may look through, and how they last had it."""
    source(sheet)
    return views.of_sheet(actor(request), sheet)


@router.put("/sheets/{sheet}/last", response={204: None}, operation_id="remember_sheet")
def remember(request: HttpRequest, sheet: str, body: SheetSettings) -> Any:
    """Keep how the person has a sheet."""
    narrowed(source(sheet), body.filters, body.sort)
    views.remember(actor(request), sheet, body.model_dump())
    return Status(204, None)


@router.put("/sheets/{sheet}/opens-with", response={204: None}, operation_id="open_sheet_with")
def open_with(request: HttpRequest, sheet: str, body: OpensWithIn) -> Any:
    """Let a sheet open with a view."""
    source(sheet)
    views.open_with(actor(request), sheet, body.view)
    return Status(204, None)


@router.post("/sheets/{sheet}/views", response=Said, operation_id="keep_view")
def keep_view(request: HttpRequest, sheet: str, body: ViewIn) -> Any:
    """Keep what is seen under a name."""
    return _keep(request, sheet, None, body)


@router.put("/sheets/{sheet}/views/{int:view_id}", response=Said, operation_id="change_view")
def change_view(request: HttpRequest, sheet: str, view_id: int, body: ViewIn) -> Any:
    """Change a view of one's own."""
    return _keep(request, sheet, view_id, body)


def _keep(request: HttpRequest, sheet: str, view_id: int | None, body: ViewIn) -> dict[str, Any]:
    of = source(sheet)
    # What could not be looked at is not kept.
    of.route(request, **narrowed(of, body.settings.filters, body.settings.sort), limit=1)
    row = views.keep(
        actor(request),
        sheet,
        view_id,
        name=body.name,
        shared=body.shared,
        settings=body.settings.model_dump(),
        version=body.version,
    )
    return {"said": f"Kept as {row.name}.", "id": row.pk}


@router.delete("/sheets/{sheet}/views/{int:view_id}", response={204: None}, operation_id="take_view_away")
def take_view_away(request: HttpRequest, sheet: str, view_id: int) -> Any:
    """Take a view away."""
    source(sheet)
    views.take_away(actor(request), sheet, view_id)
    return Status(204, None)


@router.post("/sheets/{sheet}/file", operation_id="sheet_file", response={200: bytes})
def file_of(request: HttpRequest, sheet: str, body: FileIn) -> HttpResponseBase:
    """Everything the filters find, in the columns given, as CSV or as a workbook."""
    actor(request)
    of = source(sheet)
    found = lines(request, of, [column.field for column in body.columns], narrowed(of, body.filters, body.sort))
    # The first row is read now, so that what is wrong is said as an answer instead of breaking the file off.
    found = chain(list(islice(found, 1)), found)
    heads = [column.head for column in body.columns]
    title = body.title or sheet.replace("_", " ").capitalize()
    return sheet_file(f"{title} {company_day(timezone.now()).isoformat()}", body.form, heads, found)
