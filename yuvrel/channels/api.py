"""Routes of connections, the pairing bench and snags; and the door for webhooks."""

from __future__ import annotations

import json
import logging
from typing import Any

from django.core.serializers.json import DjangoJSONEncoder
from django.http import HttpRequest, HttpResponse
from django.utils import timezone
from django.views.decorators.csrf import csrf_exempt
from ninja import Router, Status
from standardwebhooks import Webhook, WebhookVerificationError

from yuvrel.buying.models import PurchaseOrder
from yuvrel.connectors.base import order_states
from yuvrel.connectors.http import ConnectorError, read_json
from yuvrel.connectors.registry import KINDS
from yuvrel.connectors.ubl import build_order
from yuvrel.core.errors import BadInputError, NotFoundError
from yuvrel.ownership import working_for
from yuvrel.platform.auth import actor
from yuvrel.platform.wire import Said
from yuvrel.rules.actions import rung_at
from yuvrel.rules.queries import INHERIT

from . import actions, ending, inbound, linking, outbound, queries, rehearsal, run_queries, runs, snags, survey
from .credentials import unseal
from .jobs import apply_inbound, wake_exchange
from .models import Connection
from .schemas import (
    AsideIn,
    BenchPage,
    ConnectionIn,
    ConnectionOut,
    ConnectionRow,
    EndOut,
    ExchangeIn,
    FirstPushOut,
    IntakeIn,
    KindOut,
    LinkIn,
    LiveIn,
    RulesIn,
    RulesRehearsal,
    RunOut,
    RunPage,
    SettingsIn,
    SnagPage,
    SnagsAsideIn,
    SnagsIn,
    SurveyIn,
    TakeListingsIn,
)

router = Router(tags=["connections"])
log = logging.getLogger("yuvrel.hooks")
MOST_HOOK_BYTES = 2_000_000


@router.get("/kinds", response=list[KindOut], operation_id="list_kinds")
def list_kinds(request: HttpRequest) -> Any:
    """Kinds of connections and what each can do."""
    actor(request)
    return [
        {
            "kind": c.kind,
            "label": c.label,
            "can": sorted(c.can),
            "order_states": list(order_states(c)),
            "sign_in": c.sign_in.entries,
        }
        for c in KINDS.values()
    ]


@router.get("/connections", response=list[ConnectionRow], operation_id="list_connections")
def list_connections(request: HttpRequest) -> Any:
    """All connections."""
    actor(request)
    return queries.connection_sheet()


@router.post("/connections", response=ConnectionOut, operation_id="add_connection")
def add(request: HttpRequest, body: ConnectionIn) -> Any:
    """Add a draft connection."""
    row = actions.add(
        actor(request),
        kind=body.kind,
        name=body.name,
        address=body.address,
        sign_in=body.sign_in,
        copy_from=body.copy_from,
    )
    return queries.connection_page(row)


@router.get("/connections/{int:connection_id}", response=ConnectionOut, operation_id="get_connection")
def get(request: HttpRequest, connection_id: int) -> Any:
    """One connection."""
    actor(request)
    return queries.connection_page(actions.get_connection(connection_id))


@router.patch("/connections/{int:connection_id}", response=ConnectionOut, operation_id="change_connection")
def change(request: HttpRequest, connection_id: int, body: SettingsIn) -> Any:
    """Change settings."""
    changes = _given(body)
    version = changes.pop("version")
    row = actions.change_settings(actor(request), connection_id, version, changes)
    return queries.connection_page(row)


@router.post("/settings/{way}/{key}/rehearsal", response=RulesRehearsal, operation_id="rehearse_settings")
def rehearse(request: HttpRequest, way: str, key: str, body: RulesIn) -> Any:
    """What a change of rules would show; nothing is changed."""
    changes = {**body.values, **dict.fromkeys(body.inherit, INHERIT)}
    return rehearsal.rehearse_rules(actor(request), rung_at(way, key, body.level), changes, body.feeds)


def _given(body: SettingsIn) -> dict[str, Any]:
    """What was sent."""
    return {k: v for k, v in body.model_dump(exclude_unset=True).items() if v is not None}


@router.delete("/connections/{int:connection_id}", response={204: None}, operation_id="remove_connection")
def remove(request: HttpRequest, connection_id: int) -> Any:
    """Take away a connection that never exchanged anything."""
    actions.remove(actor(request), connection_id)
    return Status(204, None)


@router.post("/connections/{int:connection_id}/test", response=ConnectionOut, operation_id="test_connection")
def test(request: HttpRequest, connection_id: int) -> Any:
    """Talk to the account."""
    return queries.connection_page(actions.test(actor(request), connection_id, timezone.now()))


@router.post("/connections/{int:connection_id}/live", response=ConnectionOut, operation_id="go_live")
def live(request: HttpRequest, connection_id: int, body: LiveIn | None = None) -> Any:
    """Start to exchange."""
    since = body.orders_from if body else None
    return queries.connection_page(actions.go_live(actor(request), connection_id, timezone.now(), since))


@router.post("/connections/{int:connection_id}/pause", response=ConnectionOut, operation_id="pause_connection")
def pause(request: HttpRequest, connection_id: int) -> Any:
    """Stop exchanging."""
    return queries.connection_page(actions.pause(actor(request), connection_id))


@router.get("/connections/{int:connection_id}/end", response=EndOut, operation_id="what_would_stop")
def what_would_stop(request: HttpRequest, connection_id: int) -> Any:
    """What stops when it is disconnected, and what stays."""
    actor(request)
    return {"stops": ending.what_stops(actions.get_connection(connection_id)), "stays": list(ending.STAYS)}


@router.post("/connections/{int:connection_id}/disconnect", response=ConnectionOut, operation_id="disconnect")
def disconnect(request: HttpRequest, connection_id: int) -> Any:
    """Take it out of use; its history stays."""
    return queries.connection_page(ending.disconnect(actor(request), connection_id))


@router.post("/connections/{int:connection_id}/exchange", response=Said, operation_id="exchange_now")
def exchange_now(request: HttpRequest, connection_id: int, body: ExchangeIn | None = None) -> Any:
    """Ask for news now: for one part or for all, for orders also from a moment on."""
    asked = body or ExchangeIn(part="", since=None)
    row = actions.ask_now(actor(request), connection_id, asked.part, asked.since)
    wake_exchange(row.pk, asked.part)
    return {"said": f"Asking {row.name} for news.", "id": row.pk}


@router.post("/connections/{int:connection_id}/survey", response=Said, operation_id="survey_connection")
def look_around(request: HttpRequest, connection_id: int, body: SurveyIn) -> Any:
    """Look at what would come in, in the background; answers with the run."""
    run = survey.ask_survey(actor(request), connection_id, body.since)
    return {"said": f"Looking at what {run.connection.name} has.", "id": run.pk}


@router.post("/connections/{int:connection_id}/intake", response=Said, operation_id="first_intake")
def first_intake(request: HttpRequest, connection_id: int, body: IntakeIn) -> Any:
    """Take in listings and past orders before going live, in the background; answers with the run."""
    run = survey.ask_intake(actor(request), connection_id, listings=body.listings, since=body.since)
    return {"said": f"Taking in what {run.connection.name} has. A mail tells when it is done.", "id": run.pk}


@router.get("/connections/{int:connection_id}/first-push", response=FirstPushOut, operation_id="first_push")
def first_push(request: HttpRequest, connection_id: int) -> Any:
    """What would change there when it goes live; nothing is changed."""
    actor(request)
    return rehearsal.first_push(actions.get_connection(connection_id))


@router.get("/runs", response=RunPage, operation_id="list_runs")
def list_runs(
    request: HttpRequest,
    q: str = "",
    connection: int | None = None,
    kind: str = "",
    state: str = "",
    cursor: str = "",
    limit: int = 80,
) -> Any:
    """Every exchange with every connection, the newest first."""
    actor(request)
    return run_queries.runs(q, connection, kind, state, cursor, limit)


@router.get("/runs/{int:run_id}", response=RunOut, operation_id="get_run")
def get_run(request: HttpRequest, run_id: int, q: str = "") -> Any:
    """A run with its log and what was sent and answered."""
    actor(request)
    return run_queries.one_run(run_id, q)


@router.post("/runs/{int:run_id}/stop", response=Said, operation_id="stop_run")
def stop_run(request: HttpRequest, run_id: int) -> Any:
    """Stop a run at the next page."""
    runs.stop(actor(request), run_id)
    return {"said": "It stops after the page it is at; what was done is kept.", "id": run_id}


@router.get("/runs/{int:run_id}/calls", operation_id="run_calls", response={200: dict})
def run_calls(request: HttpRequest, run_id: int, q: str = "") -> HttpResponse:
    """What was sent and answered in a run, as a JSON file."""
    actor(request)
    told = run_queries.one_run(run_id)
    rows = list(
        run_queries.calls_of(run_id, q).values("at", "method", "path", "status", "milliseconds", "sent", "received", "fault")
    )
    body = json.dumps({"connection": told["connection"], "run": told["label"], "calls": rows}, cls=DjangoJSONEncoder, indent=2)
    response = HttpResponse(body, content_type="application/json")
    response["Content-Disposition"] = f'attachment; filename="run-{run_id}.json"'
    return response


@router.post("/connections/{int:connection_id}/listings", response=Said, operation_id="take_listings")
def take_listings(request: HttpRequest, connection_id: int, body: TakeListingsIn) -> Any:
    """Take in listings in the background, matching only or building the range from them; answers with the run."""
    run = linking.ask_listings(actor(request), connection_id, create=body.create)
    return {"said": f"Reading the listings of {run.connection.name}.", "id": run.pk}


@router.get("/listings", response=BenchPage, operation_id="list_listings", tags=["range"])
def list_listings(
    request: HttpRequest, link: str = "unlinked", connection: int | None = None, q: str = "", cursor: str = "", limit: int = 100
) -> Any:
    """The pairing bench."""
    actor(request)
    return queries.bench(link, connection, q, cursor, limit)


@router.post("/listings/{int:listing_id}/link", response=Said, operation_id="link_listing", tags=["range"])
def link(request: HttpRequest, listing_id: int, body: LinkIn) -> Any:
    """Say which item a listing is."""
    row = linking.link(actor(request), listing_id, body.item_id, body.version, body.units)
    return {"said": f"Linked to {row.item.sku if row.item else ''}.", "id": row.pk}


@router.post("/listings/{int:listing_id}/item", response=Said, operation_id="make_item", tags=["range"])
def make_item(request: HttpRequest, listing_id: int) -> Any:
    """Make a new item of a listing."""
    row = linking.make_item(actor(request), listing_id)
    return {"said": f"{row.item.sku if row.item else ''} is a new item.", "id": row.pk}


@router.post("/listings/{int:listing_id}/ignore", response=Said, operation_id="ignore_listing", tags=["range"])
def ignore(request: HttpRequest, listing_id: int) -> Any:
    """Leave a listing alone."""
    row = linking.ignore(actor(request), listing_id)
    return {"said": "Ignored; nothing is pushed to it.", "id": row.pk}


@router.post("/listings/{int:listing_id}/unlink", response=Said, operation_id="unlink_listing", tags=["range"])
def unlink(request: HttpRequest, listing_id: int) -> Any:
    """Back to the bench."""
    row = linking.unlink(actor(request), listing_id)
    return {"said": "Back on the pairing bench.", "id": row.pk}


@router.get("/snags", response=SnagPage, operation_id="list_snags")
def list_snags(
    request: HttpRequest, q: str = "", kind: str = "", connection: int | None = None, cursor: str = "", limit: int = 100
) -> Any:
    """Open snags, and how many there are of each cause."""
    actor(request)
    return queries.snags(q, kind, connection, cursor, limit)


@router.post("/snags/retry", response=Said, operation_id="retry_snags")
def retry_snags(request: HttpRequest, body: SnagsIn) -> Any:
    """Try every snag of one cause again."""
    return {"said": snags.try_all_again(actor(request), body.kind, body.connection_id)}


@router.post("/snags/aside", response=Said, operation_id="set_snags_aside")
def set_snags_aside(request: HttpRequest, body: SnagsAsideIn) -> Any:
    """Set every snag of one cause aside, with one reason."""
    count = snags.set_all_aside(actor(request), body.kind, body.connection_id, body.why)
    return {"said": f"{count} set aside."}


@router.post("/snags/{int:snag_id}/retry", response=Said, operation_id="retry_snag")
def retry_snag(request: HttpRequest, snag_id: int) -> Any:
    """Try again."""
    return {"said": snags.try_again(actor(request), snag_id), "id": snag_id}


@router.post("/snags/{int:snag_id}/aside", response=Said, operation_id="set_snag_aside")
def aside(request: HttpRequest, snag_id: int, body: AsideIn) -> Any:
    """Set aside with a reason."""
    snags.set_aside(actor(request), snag_id, body.why)
    return {"said": "Set aside.", "id": snag_id}


@router.get("/purchase-orders/{int:order_id}/ubl", operation_id="purchase_order_ubl", response={200: bytes}, tags=["buying"])
def ubl(request: HttpRequest, order_id: int) -> HttpResponse:
    """The order as UBL 2.1, the very document the supplier gets."""
    actor(request)
    order = PurchaseOrder.objects.select_related("supplier", "location").filter(pk=order_id).first()
    if order is None:
        raise NotFoundError("There is no such purchase order.")
    if not order.lines.exists():
        raise BadInputError("There is nothing on this order.", field="lines")
    response = HttpResponse(build_order(outbound.purchase_document(order)), content_type="application/xml")
    response["Content-Disposition"] = f'attachment; filename="{order.number}.xml"'
    return response


@csrf_exempt
def hook(request: HttpRequest, key: str) -> HttpResponse:
    """A channel tells us something. Verified, kept, answered; worked on later by a job.

    Nothing that goes wrong leaves here: it would be logged with the address, and with it the key that it holds.
    """
    try:
        return _take_hook(request, key)
    except Exception as error:
        log.error("a webhook could not be taken", exc_info=error)
        return _refused(500)


def _take_hook(request: HttpRequest, key: str) -> HttpResponse:
    if request.method != "POST":
        return _refused(405)
    # The address alone says whose it is.
    everyone = Connection._base_manager.select_related("company")
    connection = everyone.filter(hook_key=key).first() if "\0" not in key else None
    if connection is None or connection.state != Connection.State.LIVE or not connection.webhook_secret_sealed:
        return _refused(404)
    if int(request.headers.get("Content-Length") or 0) > MOST_HOOK_BYTES or len(request.body) > MOST_HOOK_BYTES:
        return _refused(413)
    with working_for(connection.company):
        return _take_message(request, connection)


def _take_message(request: HttpRequest, connection: Connection) -> HttpResponse:
    try:
        Webhook(unseal(connection.webhook_secret_sealed)).verify(request.body, dict(request.headers.items()))
        body = read_json(request.body)
        if isinstance(body, dict) and body.get("type") == "test":
            actions.hook_proved(connection, timezone.now())
            return HttpResponse(status=204)
        message = inbound.take_event(connection, body) if isinstance(body, dict) else None
    except (WebhookVerificationError, ConnectorError, ValueError, TypeError, AttributeError, RuntimeError):
        return _refused(400)
    if message and message.state == message.State.NEW:
        apply_inbound.defer(message_id=message.pk, company=connection.company_id)
    return HttpResponse(status=204)


def _refused(status: int) -> HttpResponse:
    """Django would log the address, and with it the key that it holds."""
    log.warning("a webhook was refused with %s", status)
    response = HttpResponse(status=status)
    response._has_been_logged = True  # type: ignore[attr-defined]
    return response
