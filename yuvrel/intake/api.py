"""Routes of sheets in and out: one set for every kind."""

from __future__ import annotations

from typing import Any

from django.http import HttpRequest
from django.utils import timezone
from ninja import File, Router
from ninja.files import UploadedFile

from yuvrel.core.errors import BadInputError
from yuvrel.platform.auth import actor
from yuvrel.platform.files import Form, sheet_file

from . import actions
from .models import Intake
from .registry import KINDS
from .schemas import ConfirmIn, IntakeKind, IntakeOut

router = Router(tags=["sheets"])


@router.get("/imports/kinds", response=list[IntakeKind], operation_id="import_kinds")
def kinds(request: HttpRequest) -> Any:
    """What can be sent in, and in which columns."""
    actor(request)
    return list(KINDS.values())


@router.get("/imports", response=list[IntakeOut], operation_id="list_imports")
def newest(request: HttpRequest) -> Any:
    """The newest files."""
    actor(request)
    return list(Intake.objects.defer("data").select_related("undone_by").order_by("-pk")[:20])


@router.get("/imports/{int:import_id}", response=IntakeOut, operation_id="get_import")
def one(request: HttpRequest, import_id: int) -> Any:
    """One file, and how far it has come."""
    actor(request)
    return actions.get(import_id)


@router.post("/imports/{kind}", response=IntakeOut, operation_id="send_import")
def send(request: HttpRequest, kind: str, file: UploadedFile = File(...)) -> Any:
    """Send a file in: it is checked, and nothing is changed yet."""
    if (file.size or 0) > actions.MOST_BYTES:
        raise BadInputError("The file is larger than 16 MB.", field="file")
    return actions.send(actor(request), kind, file.name or "a file", bytes(file.read()), timezone.now())


@router.post("/imports/{int:import_id}/confirm", response=IntakeOut, operation_id="confirm_import")
def confirm(request: HttpRequest, import_id: int, body: ConfirmIn) -> Any:
    """Take the rows in."""
    return actions.confirm(actor(request), import_id, whole=body.whole)


@router.post("/imports/{int:import_id}/stop", response=IntakeOut, operation_id="stop_import")
def stop(request: HttpRequest, import_id: int) -> Any:
    """Stop taking rows in."""
    return actions.stop(actor(request), import_id)


@router.post("/imports/{int:import_id}/undo", response=IntakeOut, operation_id="undo_import")
def undo(request: HttpRequest, import_id: int) -> Any:
    """A file that puts back what this one changed; it is checked first, like any other."""
    return actions.undo(actor(request), import_id, timezone.now())


@router.get("/imports/{int:import_id}/left-out", operation_id="import_left_out", response={200: str})
def left_out(request: HttpRequest, import_id: int, form: Form = "csv") -> Any:
    """The wrong rows, each with what is wrong with it."""
    actor(request)
    return sheet_file("left out", form, *actions.left_out(import_id))


@router.get("/imports/{kind}/template", operation_id="import_template", response={200: str})
def template(request: HttpRequest, kind: str, form: Form = "csv") -> Any:
    """The columns, with an example."""
    actor(request)
    return sheet_file(f"{kind} template", form, *actions.template(kind))


@router.get("/imports/{kind}/everything", operation_id="export_everything", response={200: str})
def everything(request: HttpRequest, kind: str, form: Form = "csv") -> Any:
    """All there is, as a file that can be sent in again."""
    actor(request)
    return sheet_file(kind, form, *actions.everything(kind))
