"""The API as a whole."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import Any

from django.http import HttpRequest, HttpResponse
from django.utils import timezone
from ninja import NinjaAPI

from yuvrel.agreement.api import router as agreement
from yuvrel.books.api import router as books
from yuvrel.buying.api import router as buying
from yuvrel.catalogue.api import router as catalogue
from yuvrel.channels.api import router as channels
from yuvrel.channels.differences_api import router as differences
from yuvrel.channels.group_api import router as channel_groups
from yuvrel.channels.ledger_api import router as ledgers
from yuvrel.channels.listing_api import router as listing
from yuvrel.channels.publishing_api import router as publishing
from yuvrel.documents.printing import printed
from yuvrel.documents.queries import get_document as get
from yuvrel.documents.queries import ref_of
from yuvrel.intake.api import router as intake
from yuvrel.people.queries import company_day
from yuvrel.planning.api import router as planning
from yuvrel.planning.forecast_api import router as forecasts
from yuvrel.platform.auth import AUTH, actor
from yuvrel.platform.wire import WorkingOut
from yuvrel.pricing.api import router as pricing
from yuvrel.recovery.api import router as recovery
from yuvrel.rules.api import router as rules
from yuvrel.sales.api import router as sales
from yuvrel.sales.customers_api import router as customers
from yuvrel.sales.return_api import router as returns
from yuvrel.stock.api import router as stock
from yuvrel.stock.transfer_api import router as transfers

from . import document_page, item_page, problems, reads, today, workings
from .account_api import router as account
from .first_steps import FirstStepsOut, first_steps
from .session import router as people
from .sheet_api import router as sheets


def _signed_in(view: Callable[..., HttpResponse]) -> Callable[..., HttpResponse]:
    """What the API can do is told to who is signed in."""

    @wraps(view)
    def checked(request: HttpRequest, **options: Any) -> HttpResponse:
        if not (request.user.is_authenticated and request.user.is_active):
            return problems.problem(401, "Sign in to read the description of the API.")
        return view(request, **options)

    return checked


api = NinjaAPI(
    title="Yuvrel",
    version="1",
    auth=AUTH,
    urls_namespace="api",
    docs_decorator=_signed_in,
    description="Stock, costs and orders in agreement. Money and quantities are decimal strings.",
)
problems.install(api)
ROUTERS = (people, account, sheets, stock, sales, buying, planning, forecasts, books, channels, agreement, rules)
for router in (
    *ROUTERS,
    catalogue,
    pricing,
    customers,
    intake,
    channel_groups,
    differences,
    ledgers,
    listing,
    publishing,
    recovery,
    returns,
    transfers,
):
    api.add_router("", router)


@api.get("/bar", response=today.BarOut, operation_id="get_bar", tags=["today"])
def get_bar(request: HttpRequest) -> Any:
    """What waits in each station."""
    actor(request)
    return today.bar()


@api.get("/today", response=today.TodayOut, operation_id="get_today", tags=["today"])
def get_today(request: HttpRequest) -> Any:
    """The morning sheet."""
    actor(request)
    return today.morning()


@api.get("/changes", response=dict[str, int], operation_id="get_changes", tags=["today"])
def get_changes(request: HttpRequest) -> Any:
    """How often each table has been written to. An answer names those it was read from in its header X-Reads: it is out of
    date when one of their numbers differs."""
    actor(request)
    return reads.written()


@api.get(
    "/documents/{kind}/{int:document_id}", response=document_page.DocumentOut, operation_id="get_document", tags=["documents"]
)
def get_document(request: HttpRequest, kind: str, document_id: int) -> Any:
    """A document of any kind: what it moved and posted, and what happened to it."""
    actor(request)
    return document_page.document_page(kind, document_id)


@api.get(
    "/documents/{kind}/{int:document_id}/forms/{form}",
    response={200: bytes},
    operation_id="print_document",
    tags=["documents"],
)
def print_document(request: HttpRequest, kind: str, document_id: int, form: str) -> HttpResponse:
    """A document on paper, as PDF."""
    actor(request)
    found, _ = ref_of(kind, document_id)
    row = get(found, document_id)
    response = HttpResponse(printed(found, form, document_id), content_type="application/pdf")
    response["Content-Disposition"] = f'inline; filename="{row.number}-{form}.pdf"'
    return response


@api.get("/items/{int:item_id}/around", response=item_page.AroundOut, operation_id="get_item_around", tags=["range"])
def get_item_around(request: HttpRequest, item_id: int) -> Any:
    """What surrounds an item: suppliers, what comes, who waits, what moved, who changed what."""
    actor(request)
    return item_page.around(item_id, company_day(timezone.now()))


@api.get("/first-steps", response=FirstStepsOut, operation_id="get_first_steps", tags=["today"])
def get_first_steps(request: HttpRequest) -> Any:
    """The way from an empty company to books that agree, and how far each step has come."""
    return first_steps(actor(request))


@api.get("/workings/{kind}/{key}", response=WorkingOut, operation_id="get_working", tags=["today"])
def get_working(request: HttpRequest, kind: str, key: str) -> Any:
    """How a number came about."""
    actor(request)
    return workings.working(kind, key)
