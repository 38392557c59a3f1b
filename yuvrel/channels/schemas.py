"""Wire types of connections, listings and snags. Secrets never appear here."""

from __future__ import annotations

from datetime import date, datetime
from typing import Annotated, Any

from ninja import Schema
from pydantic import Field

from yuvrel.connectors.registry import KINDS
from yuvrel.platform.wire import Id, Money, Quantity, SheetRow, words

from .models import Connection, Listing, Run, Snag, Submission


class SignInEntryOut(Schema):
    """One thing to enter to sign in."""

    name: str
    label: str
    help: str
    secret: bool
    optional: bool


class KindOut(Schema):
    """A kind of connection."""

    kind: Annotated[str, words(KINDS)]
    label: str
    can: list[str]
    order_states: list[str]
    sign_in: list[SignInEntryOut]


class ReportOut(Schema):
    """What the account said when it was tested."""

    ok: bool = False
    name: str = ""
    scopes: list[str] = Field(default_factory=list)
    missing: list[str] = Field(default_factory=list)
    fault: str = ""
    accounts: list[list[str]] = Field(default_factory=list)
    tax_codes: list[list[str]] = Field(default_factory=list)
    places: list[list[str]] = Field(default_factory=list)


class ConnectionRow(SheetRow):
    """A connection on the sheet."""

    id: int
    kind: Annotated[str, words(KINDS)]
    label: str
    name: str
    state: Annotated[str, words(Connection.State)]
    listings: int
    linked: int
    unlinked: int
    pending: int
    drifting: int
    snags: int
    last_exchange_at: datetime | None


class RunRow(SheetRow):
    """One exchange with a connection: how long it took in seconds, what came of it, and its last word."""

    id: int
    connection_id: int
    connection: str
    kind: Annotated[str, words(Run.Kind)]
    label: str
    state: Annotated[str, words(Run.State)]
    asked_by: str
    started_at: datetime
    ended_at: datetime | None
    seconds: float | None
    done: int
    taken: int
    changed: int
    unchanged: int
    failed: int
    said: str
    calls: int


class EndOut(Schema):
    """What stops when a connection is disconnected, and what stays, in sentences."""

    stops: list[str]
    stays: list[str]


class RunKindOut(Schema):
    """What runs of a kind are called."""

    kind: Annotated[str, words(Run.Kind)]
    label: str


class RunPage(Schema):
    """A page of runs."""

    rows: list[RunRow]
    next: str
    kinds: list[RunKindOut]


class CallOut(Schema):
    """One call of a run, without secrets."""

    id: int
    at: datetime
    method: str
    path: str
    status: int | None
    milliseconds: int
    sent: str
    received: str
    fault: str


class RunOut(RunRow):
    """A run with its log and the calls that were searched for; not more than 100 of them."""

    log: list[list[str]]
    stoppable: bool
    stopping: bool
    found: list[CallOut]


class PartHealth(Schema):
    """How one part of a connection does; `asked`: it is asked for by a schedule or by hand."""

    kind: Annotated[str, words(Run.Kind)]
    label: str
    part: str
    succeeded_at: datetime | None
    failed_at: datetime | None
    next_at: datetime | None
    asked: bool


class HourOut(Schema):
    """Runs that began in an hour, by how they ended."""

    at: datetime
    done: int
    failed: int


class HealthOut(Schema):
    """How a connection does."""

    parts: list[PartHealth]
    hours: list[HourOut]


class ExchangeIn(Schema):
    """What to ask for now: one part or all; orders also from a moment on."""

    part: str = Field("", max_length=10)
    since: datetime | None = None


class HeardOut(Schema):
    """How many messages came by which way in the last 24 hours, and when the last did."""

    via: str
    count: int
    last_at: datetime


class BatchOut(Schema):
    """A batch that was handed in: how many lines, and how many of them were refused."""

    id: int
    sort: str
    key: str
    state: Annotated[str, words(Submission.State)]
    submitted_at: datetime
    ended_at: datetime | None
    size: int
    refused: int


class PriceListChoice(Schema):
    """A list that a connection may be given."""

    id: int
    name: str


class SurveyGroupOut(Schema):
    """Things of one sort that would come in, with the first of them."""

    label: str
    count: int
    examples: list[list[str]]


class SurveyPartOut(Schema):
    """One part of what would come in."""

    name: str
    label: str
    count: int
    groups: list[SurveyGroupOut]


class SurveyOut(Schema):
    """What would come in, as it was read then."""

    at: datetime
    since: date
    parts: list[SurveyPartOut]
    gives_no: list[str]


class WordOut(Schema):
    """A word that the account uses; `proposed`: what its kind takes it to mean here, where it says so; `title`: what it is
    called there, where the word is a key."""

    sort: str
    word: str
    proposed: str
    title: str = ""


class ConnectionOut(Schema):
    """Everything about a connection but its secrets."""

    id: int
    kind: Annotated[str, words(KINDS)]
    label: str
    can: list[str]
    name: str
    address: str
    sign_in: list[SignInEntryOut]
    account: dict[str, str]
    state: Annotated[str, words(Connection.State)]
    tested_at: datetime | None
    test_report: ReportOut
    words: list[WordOut]
    told_states: list[str]
    fulfils_from: int | None
    their_place: int | None
    feeds: list[int]
    price_list: int | None
    price_lists: list[PriceListChoice]
    pause_until: datetime | None
    accounts: dict[str, str]
    version: int
    counts: dict[str, int]
    removable: bool
    webhooks: bool
    hook_proved_at: datetime | None
    live_since: datetime | None
    survey: SurveyOut | None
    heard: list[HeardOut]
    batches: list[BatchOut]
    health: HealthOut
    runs: list[RunRow]


class ConnectionIn(Schema):
    """A new connection."""

    kind: str = Field(max_length=20)
    name: str = Field(max_length=80)
    address: str = Field(max_length=300)
    sign_in: dict[str, Annotated[str, Field(max_length=300)]] = Field(default_factory=dict, max_length=10)
    copy_from: Id | None = None


class RulesIn(Schema):
    """A change of rules to try out: values to set at a level and those to let inherit again; with a connection's also
    the places that are to feed it."""

    level: str = Field("connection", max_length=30)
    values: dict[str, str | int | bool | None] = Field(default_factory=dict, max_length=60)
    inherit: list[str] = Field(default_factory=list, max_length=60)
    feeds: list[Id] | None = Field(None, max_length=100)


class ShiftOut(Schema):
    """A listing that would show something else; `at_stake`: margin of the units no longer shown."""

    listing_id: int
    item_id: int
    title: str
    sku: str
    now: Quantity
    then: Quantity
    at_stake: Money


class RulesRehearsal(Schema):
    """What a change of rules would do to all linked listings; `rows`: those it matters most for."""

    listings: int
    rising: int
    falling: int
    to_zero: int
    from_zero: int
    units_now: Quantity
    units_then: Quantity
    at_stake: Money
    currency: str
    prices_changing: int
    prices_held: int
    retold: int
    warning: str
    rows: list[ShiftOut]


class SettingsIn(Schema):
    """Changed settings; what is left out stays. `price_list` or `their_place` 0: none."""

    version: int
    feeds: list[Id] | None = Field(None, max_length=100)
    name: str | None = Field(None, max_length=80)
    address: str | None = Field(None, max_length=300)
    price_list: Annotated[int, Field(ge=0, lt=2**63)] | None = None
    fulfils_from: Id | None = None
    their_place: Annotated[int, Field(ge=0, lt=2**63)] | None = None
    accounts: dict[str, str] | None = None
    sign_in: dict[str, Annotated[str, Field(max_length=300)]] | None = Field(None, max_length=10)


class SurveyIn(Schema):
    """From which day on orders are looked at."""

    since: date


class IntakeIn(Schema):
    """What to take in before going live: listings (`match`, `create`, or empty for none), past orders from a day on."""

    listings: str = Field("", max_length=10)
    since: date | None = None


class LiveIn(Schema):
    """From which day on open orders are taken in as well."""

    orders_from: date | None = None


class FirstPushOut(Schema):
    """What would change there: what each listing shows now and what it would be told; `silent`: those that nothing goes
    out for."""

    listings: int
    rising: int
    falling: int
    to_zero: int
    from_zero: int
    units_now: Quantity
    units_then: Quantity
    at_stake: Money
    silent: int
    currency: str
    rows: list[ShiftOut]


class TakeListingsIn(Schema):
    """Take in listings: with `create`, what matches nothing becomes products and items."""

    create: bool = False


class CandidateOut(Schema):
    """An item a listing may be, how many units of it one listing seems to be, and what speaks against it."""

    item_id: int
    sku: str
    title: str
    price: Money | None
    picture: int | None = None
    score: float
    reason: str
    units: int = 1
    doubts: list[str] = Field(default_factory=list)


class PairedItem(Schema):
    """The item a listing is."""

    id: int
    sku: str
    title: str


class BenchRow(SheetRow):
    """A listing on the pairing bench."""

    id: int
    connection: str
    sku: str
    barcode: str
    title: str
    price: Money | None
    shown: Quantity | None
    link: Annotated[str, words(Listing.Link)]
    why: str
    clash: bool
    version: int
    options: dict[str, str]
    item: PairedItem | None
    units: int
    candidates: list[CandidateOut]


class BenchPage(Schema):
    """A page of the bench."""

    rows: list[BenchRow]
    next: str
    counts: dict[str, int]


class LinkIn(Schema):
    """Which item a listing is, and how many units of it one stands for."""

    item_id: Id
    version: int | None = None
    units: Annotated[int, Field(ge=1, le=10_000)] = 1


class SnagOut(SheetRow):
    """A snag with its way out."""

    id: int
    connection: str
    kind: Annotated[str, words(Snag.Kind)]
    title: str
    detail: str
    field: str
    made_at: datetime
    order_id: int | None
    listing_id: int | None
    payload: dict[str, Any] | None


class SnagGroup(Schema):
    """Open snags of one cause: of one kind, at one connection."""

    kind: Annotated[str, words(Snag.Kind)]
    label: str
    connection_id: int | None
    connection: str
    count: int


class SnagPage(Schema):
    """A page of open snags."""

    rows: list[SnagOut]
    next: str
    groups: list[SnagGroup]


class SnagsIn(Schema):
    """Which snags: those of one cause."""

    kind: str = Field(max_length=20)
    connection_id: Id | None = None


class SnagsAsideIn(SnagsIn):
    """With the reason for setting them aside."""

    why: str = Field(max_length=200)


class AsideIn(Schema):
    """Why a snag can be set aside."""

    why: str = Field(max_length=200)
