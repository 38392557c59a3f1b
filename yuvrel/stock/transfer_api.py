"""Routes of transfers between places."""

from __future__ import annotations

from typing import Any, Literal

from django.http import HttpRequest
from django.utils import timezone
from ninja import Router

from yuvrel.people.queries import company_day
from yuvrel.platform.auth import actor
from yuvrel.platform.wire import Said, VersionIn

from . import transfer_queries, transfers
from .schemas import (
    LineUnitsIn,
    NewLoadIn,
    TransferArrivedIn,
    TransferChangeIn,
    TransferIn,
    TransferLostIn,
    TransferOut,
    TransferPage,
)

router = Router(tags=["shelf"])
TransferState = Literal["", "open", "draft", "sent", "part-received", "received", "cancelled"]


def _page(transfer_id: int) -> Any:
    return transfer_queries.transfer_page(transfer_id, company_day(timezone.now()))


def _units(lines: list[LineUnitsIn]) -> dict[int, Any]:
    return {line.line_id: line.quantity for line in lines}


@router.get("/transfers", response=TransferPage, operation_id="list_transfers")
def list_transfers(
    request: HttpRequest,
    q: str = "",
    state: TransferState = "",
    location: int | None = None,
    sort: str = "",
    cursor: str = "",
    limit: int = 100,
) -> Any:
    """Transfers between places, newest first."""
    actor(request)
    return transfer_queries.sheet(q, state, location, cursor, limit, company_day(timezone.now()), sort)


@router.post("/transfers", response=Said, operation_id="draft_transfer")
def draft_transfer(request: HttpRequest, body: TransferIn) -> Any:
    """A transfer that has not left yet."""
    loads = [transfers.Load(row.item_id, row.quantity) for row in body.lines]
    row = transfers.draft(actor(request), body.source_id, body.destination_id, loads, body.expected_on, body.note)
    return {"said": f"Drafted as {row.number}.", "id": row.pk}


@router.get("/transfers/{int:transfer_id}", response=TransferOut, operation_id="get_transfer")
def get_transfer(request: HttpRequest, transfer_id: int) -> Any:
    """One transfer."""
    actor(request)
    return _page(transfer_id)


@router.patch("/transfers/{int:transfer_id}", response=TransferOut, operation_id="change_transfer")
def change_transfer(request: HttpRequest, transfer_id: int, body: TransferChangeIn) -> Any:
    """Change a draft; a quantity of zero takes its line off."""
    transfers.change_draft(actor(request), transfer_id, body.version, _units(body.lines), body.expected_on, body.note)
    return _page(transfer_id)


@router.post("/transfers/{int:transfer_id}/lines", response=TransferOut, operation_id="add_transfer_line")
def add_line(request: HttpRequest, transfer_id: int, body: NewLoadIn) -> Any:
    """An item more on a draft."""
    transfers.add_load(actor(request), transfer_id, body.version, transfers.Load(body.item_id, body.quantity))
    return _page(transfer_id)


@router.post("/transfers/{int:transfer_id}/reserve", response=TransferOut, operation_id="reserve_transfer")
def reserve_transfer(request: HttpRequest, transfer_id: int, body: VersionIn) -> Any:
    """Reserve a draft's goods where they leave from."""
    row, short = transfers.reserve(actor(request), transfer_id, body.version)
    said = f"Reserved what is free at {row.source.name}; not free: {', '.join(short)}." if short else "Reserved."
    return {**_page(transfer_id), "said": said}


@router.post("/transfers/{int:transfer_id}/release", response=TransferOut, operation_id="release_transfer")
def release_transfer(request: HttpRequest, transfer_id: int, body: VersionIn) -> Any:
    """What was reserved for it is for everybody again."""
    transfers.release(actor(request), transfer_id, body.version)
    return _page(transfer_id)


@router.post("/transfers/{int:transfer_id}/send", response=TransferOut, operation_id="send_transfer")
def send_transfer(request: HttpRequest, transfer_id: int, body: VersionIn) -> Any:
    """The goods leave."""
    transfers.send(actor(request), transfer_id, body.version, timezone.now())
    return _page(transfer_id)


@router.post("/transfers/{int:transfer_id}/receive", response=TransferOut, operation_id="receive_transfer")
def receive_transfer(request: HttpRequest, transfer_id: int, body: TransferArrivedIn) -> Any:
    """Goods arrive, all or a part."""
    transfers.receive(actor(request), transfer_id, _units(body.lines), timezone.now())
    return _page(transfer_id)


@router.post("/transfers/{int:transfer_id}/give-up", response=TransferOut, operation_id="give_up_transfer")
def give_up_transfer(request: HttpRequest, transfer_id: int, body: TransferLostIn) -> Any:
    """Goods on the way will not arrive."""
    transfers.give_up(actor(request), transfer_id, body.version, _units(body.lines), body.reason, timezone.now())
    return _page(transfer_id)


@router.post("/transfers/{int:transfer_id}/cancel", response=TransferOut, operation_id="cancel_transfer")
def cancel_transfer(request: HttpRequest, transfer_id: int, body: VersionIn) -> Any:
    """Give a draft up, or have what is on the way brought back."""
    transfers.cancel(actor(request), transfer_id, body.version, timezone.now())
    return _page(transfer_id)
