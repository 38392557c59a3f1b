"""Canonical messages: what every connector translates its account's words into."""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import date, datetime
from decimal import Decimal
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, AwareDatetime, BaseModel, BeforeValidator, ConfigDict, Field

from yuvrel.core import bounds
from yuvrel.core.errors import BadInputError


def _bounded(check: Callable[..., Any], **limits: Any) -> AfterValidator:
    """A bound of the core as a message's own: what it refuses is named by the field it stands in."""

    def validate(value: Any) -> Any:
        try:
            return check(value, "", **limits)
        except BadInputError as error:
            raise ValueError(error.detail) from error

    return AfterValidator(validate)


def _as_text(value: Any) -> Any:
    """Numbers where a text belongs (an id, a postcode) are its digits; nothing is an empty text."""
    if value is None:
        return ""
    return str(value) if isinstance(value, (int, float)) and not isinstance(value, bool) else value


Key = Annotated[str, BeforeValidator(_as_text), _bounded(bounds.check_text, most=80)]
Code = Annotated[str, BeforeValidator(_as_text), _bounded(bounds.check_text, most=bounds.CODE)]
Title = Annotated[str, BeforeValidator(_as_text), _bounded(bounds.check_text, most=bounds.TITLE)]
Name = Annotated[str, BeforeValidator(_as_text), _bounded(bounds.check_text, most=bounds.NAME)]
Note = Annotated[str, BeforeValidator(_as_text), _bounded(bounds.check_text, most=bounds.NOTE)]
Units = Annotated[Decimal, _bounded(bounds.check_quantity)]
Amount = Annotated[Decimal, _bounded(bounds.check_money)]
Total = Annotated[Decimal, _bounded(bounds.check_total)]
MOST_DESCRIPTION, MOST_TAGS, MOST_ATTRIBUTES, MOST_GRAMS = 20_000, 50, 60, 10**8
MOST_PICTURES, MOST_KEY = 12, 80
MOST_SEND_DAYS = 365
Moment = Annotated[AwareDatetime, _bounded(bounds.check_happened)]


def _short(value: Any, most: int) -> str:
    """A text of at most so many characters that a column can hold; nothing for what is no text."""
    text = _as_text(value)
    return re.sub("[\x00\ud800-\udfff]", "", text)[:most].strip() if isinstance(text, str) else ""


def _cut(most: int) -> BeforeValidator:
    """What an account says beside what a listing needs is taken as far as it can be: it never sets the listing aside."""
    return BeforeValidator(lambda value: _short(value, most))


def _as_count(value: Any) -> int:
    whole = isinstance(value, (int, str)) and not isinstance(value, bool) and str(value).isdecimal()
    return min(int(value), MOST_GRAMS) if whole and len(str(value)) < 12 else 0


def _as_moment(value: Any) -> datetime | None:
    try:
        found = datetime.fromisoformat(str(value))
        return bounds.check_happened(found, "") if found.tzinfo else None
    except (ValueError, OverflowError, BadInputError):
        return None


def _as_tags(value: Any) -> list[str]:
    texts = [_short(one, bounds.NAME) for one in value[:MOST_TAGS]] if isinstance(value, list) else []
    return [text for text in texts if text]


def _as_attributes(value: Any) -> dict[str, str]:
    rows = list(value.items())[:MOST_ATTRIBUTES] if isinstance(value, dict) else []
    found = {_short(name, bounds.CODE): _short(said, bounds.NAME) for name, said in rows}
    return {name: said for name, said in found.items() if name and said}


def _as_pictures(value: Any) -> list[dict[str, str]]:
    rows = [row for row in value if isinstance(row, dict)] if isinstance(value, list) else []
    found = [{"key": _short(row.get("key"), MOST_KEY), "alt": _short(row.get("alt"), bounds.NAME)} for row in rows]
    return [row for row in found if row["key"]][:MOST_PICTURES]


def _as_day(value: Any) -> date | None:
    """A day as an account writes it; None for what is none, or none that can be."""
    try:
        return bounds.check_day(date.fromisoformat(str(value)[:10]), "")
    except (ValueError, BadInputError):
        return None


def _as_charge(value: Any) -> Decimal:
    try:
        found = bounds.check_money(Decimal(str(value)), "")
    except (ArithmeticError, BadInputError):
        return Decimal(0)
    return max(found, Decimal(0))


class Message(BaseModel):
    """Frozen; checks the fields it knows and ignores the others."""

    model_config = ConfigDict(frozen=True, extra="ignore")


class Identity(Message):
    """Who answered, and what the token may do."""

    name: str
    scopes: list[str]
    missing: list[str] = Field(default_factory=list)


class RemotePicture(Message):
    """A picture that the account shows, by the account's own key."""

    key: Key = Field(min_length=1)
    alt: Name = ""


class RemoteListing(Message):
    """One thing the channel shows for sale; `said_at`: when it changed, by the channel's own clock."""

    external_id: Key = Field(min_length=1)
    group_id: Key = ""
    sku: Code = ""
    barcode: Annotated[Code, Field(max_length=40)] = ""
    title: Title = Field(min_length=1)
    product_title: Title = ""
    options: dict[Code, Name] = Field(default_factory=dict, max_length=20)
    category: Code = ""
    tax: Annotated[str, _cut(40)] = ""
    price: Amount | None = None
    quantity: Units | None = None
    service: bool = False
    kept_there: bool = False
    description: Annotated[str, _cut(MOST_DESCRIPTION)] = ""
    brand: Annotated[str, _cut(bounds.NAME)] = ""
    weight_grams: Annotated[int, BeforeValidator(_as_count)] = 0
    tags: Annotated[list[str], BeforeValidator(_as_tags)] = Field(default_factory=list)
    attributes: Annotated[dict[str, str], BeforeValidator(_as_attributes)] = Field(default_factory=dict)
    pictures: Annotated[list[RemotePicture], BeforeValidator(_as_pictures)] = Field(default_factory=list)
    state: Literal["live", "hidden", "ended", "draft"] = "live"
    said_at: Annotated[AwareDatetime | None, BeforeValidator(_as_moment)] = None

    def told(self) -> dict[str, Any]:
        """What it says beside codes, options and price, as JSON; what it leaves out is left out."""
        names = {"description", "brand", "weight_grams", "tags", "tax", "attributes", "pictures", "state"}
        return self.model_dump(include=names, exclude_defaults=True)


class RemoteLine(Message):
    """A line of an order; the amount includes tax and is negative for a discount."""

    external_id: Key = ""
    kind: Literal["item", "service", "shipping", "discount", "surcharge"]
    listing_id: Key = ""
    sku: Code = ""
    title: Title
    quantity: Units = Decimal(1)
    amount: Amount
    tax_percent: Decimal = Field(Decimal(0), ge=0, le=100, decimal_places=2)


class RemoteCustomer(Message):
    """Who bought; whatever else the channel says of them is not kept."""

    name: Name = ""
    email: Annotated[Name, Field(max_length=100)] = ""
    group: Annotated[Code, Field(max_length=40)] = ""
    on_account: bool = False


class RemoteAddress(Message):
    """Where it goes."""

    name: Name = ""
    company: Name = ""
    street: Name = ""
    street2: Name = ""
    city: Name = ""
    region: Name = ""
    postcode: Code = ""
    country: Code = ""
    phone: Code = ""


class RemotePayment(Message):
    """How a part of an order is paid; an authorised part is taken when the goods go."""

    external_id: Key = ""
    method: Annotated[Code, Field(max_length=40)] = Field(min_length=1)
    amount: Annotated[Total, Field(ge=0)]
    state: Literal["paid", "authorised"] = "paid"


class RemoteRefundLine(Message):
    """What of an order's line was paid back, with tax; `quantity`: none where the price alone was lowered."""

    line_id: Key = Field(min_length=1)
    quantity: Annotated[Units, Field(ge=0)] = Decimal(0)
    amount: Annotated[Amount, Field(ge=0)]


class RemoteRefund(Message):
    """What an account has paid back of an order. `key`: by which we asked for it, where it was us; `goods`: what the account
    says of the goods, nothing where our rule is to say; `amount`: what was paid, where that is less than its lines come to
    because something was kept for taking the goods back."""

    external_id: Key = Field(min_length=1)
    at: Moment
    amount: Annotated[Total, Field(ge=0)] | None = None
    key: Key = ""
    goods: Literal["", "expected", "stock", "nothing"] = ""
    method: Annotated[Code, Field(max_length=40)] = ""
    note: Annotated[str, _cut(300)] = ""
    lines: list[RemoteRefundLine] = Field(min_length=1, max_length=bounds.LINES)

    @property
    def paid(self) -> Decimal:
        """What was paid back."""
        return sum((line.amount for line in self.lines), Decimal(0)) if self.amount is None else self.amount


class RemoteParcel(Message):
    """What has left of an order, as its channel was told: by which key, when, and how many of which line."""

    key: Key = Field(min_length=1)
    at: Moment
    carrier: Code = ""
    tracking: Code = ""
    lines: list[tuple[Key, Annotated[Units, Field(gt=0)]]] = Field(default_factory=list, max_length=bounds.LINES)


class RemotePurchaseLine(Message):
    """A line of an order that a supplier holds of ours; the price is per unit."""

    sku: Code
    title: Annotated[str, Field(max_length=400)] = ""
    quantity: Annotated[Units, Field(gt=0)]
    price: Annotated[Decimal, Field(ge=0)] = Decimal(0)


class RemotePurchase(Message):
    """An order of ours that a supplier holds."""

    number: Code = Field(min_length=1)
    at: Moment
    currency: Annotated[Code, Field(max_length=3)]
    expected_on: Annotated[date | None, BeforeValidator(_as_day)] = None
    receipt: Code = ""
    lines: list[RemotePurchaseLine] = Field(min_length=1, max_length=bounds.LINES)


class RemoteDocument(Message):
    """A document that a ledger holds: by account code what was booked, debits positive. `ours`: it came by this door."""

    number: Code = Field(min_length=1)
    kind: Code = "journal"
    day: date
    contact: Annotated[str, Field(max_length=200)] = ""
    memo: Annotated[str, Field(max_length=400)] = ""
    ours: bool = True
    id: Key = Field(min_length=1)
    lines: list[tuple[Code, Decimal]] = Field(max_length=bounds.LINES)


class RemoteOrder(Message):
    """One version of an order, or one till sale; `sent_by_channel`: it has gone out of the channel's own store;
    `done`: nothing of it is left to be sent; `send_by`: the day until which it has to leave; `penalty`: what the channel
    charges because it was late or cancelled; `refunds`: all that was paid back of it so far; `refund_of`: the sale that this
    one takes back, where it is itself a refund, as a till writes one: its lines are what came back, named by that sale's;
    `place`: which of the account's places it leaves from, where it has several."""

    external_id: Key = Field(min_length=1)
    number: Code
    version: int = Field(ge=0, lt=2**62)
    status: Annotated[Code, Field(max_length=40)]
    paid: bool = True
    sent_by_channel: bool = False
    done: bool = False
    send_by: Annotated[date | None, BeforeValidator(_as_day)] = None
    penalty: Annotated[Decimal, BeforeValidator(_as_charge)] = Decimal(0)
    placed_at: Moment
    currency: Annotated[Code, Field(max_length=3)] = "EUR"
    total: Total
    customer: RemoteCustomer = RemoteCustomer()
    ship_to: RemoteAddress = RemoteAddress()
    lines: list[RemoteLine] = Field(max_length=bounds.LINES)
    payments: list[RemotePayment] = Field(default_factory=list, max_length=20)
    refunds: list[RemoteRefund] = Field(default_factory=list, max_length=100)
    refund_of: Key = ""
    place: Key = ""
    parcels: list[RemoteParcel] = Field(default_factory=list, max_length=200)


class RemoteCount(Message):
    """What was counted of one way to pay when a till was closed; `opening`: what lay there at the start."""

    method: Annotated[Code, Field(max_length=40)] = Field(min_length=1)
    opening: Annotated[Total, Field(ge=0)] = Decimal(0)
    counted: Annotated[Total, Field(ge=0)]


class RemoteClose(Message):
    """A till that was closed and counted."""

    external_id: Key = Field(min_length=1)
    number: Code
    closed_at: Moment
    currency: Annotated[Code, Field(max_length=3)] = "EUR"
    counts: list[RemoteCount] = Field(min_length=1, max_length=20)


class Unreadable(Message):
    """One thing on a page that cannot be read: kept as it came, so that the rest of the page goes on."""

    external_id: str = ""
    number: str = ""
    detail: str
    field: str = ""
    body: dict[str, Any]


class Raw(Message):
    """One thing on a page as it came; `at` is the account's own time of its change, where it has one."""

    body: Any
    at: str = ""


class Page(Message):
    """One page of things as they came; `cursor` is empty on the last."""

    rows: list[Raw]
    cursor: str = ""


def _as_json(value: Any) -> Any:
    """However many zeros somebody wrote behind a number, it is the same number."""
    if isinstance(value, dict):
        return {name: _as_json(one) for name, one in value.items()}
    if isinstance(value, Decimal):
        return f"{value.normalize():f}"
    return value.isoformat() if isinstance(value, date) else value


class LineLimits(Message):
    """The fewest and the most of it that one order may hold, and the steps in between; None: no limit of that sort."""

    least: Annotated[Units, Field(gt=0)] | None = None
    step: Annotated[Units, Field(gt=0)] | None = None
    most: Annotated[Units, Field(gt=0)] | None = None


class SellingTerms(LineLimits):
    """How a listing may be sold: of the quantity, `past_zero` units beyond what is there, with what the shopper is told
    while the next unit would be one of them; a text when fewer than `low_below` are left; the limits of one order, and those
    of the account's customer groups that have others; how many of the quantity lie at which of its places; within how
    many days it is sent, None as is usual there; whether it is for sale at all."""

    past_zero: Annotated[Units, Field(ge=0)] = Decimal(0)
    badge: Name = ""
    text: Name = ""
    promised_on: date | None = None
    low_below: Annotated[Units, Field(ge=0)] = Decimal(0)
    low_text: Name = ""
    show_stock: bool = True
    groups: dict[Key, LineLimits] = Field(default_factory=dict, max_length=50)
    places: dict[Key, Annotated[Units, Field(ge=0)]] = Field(default_factory=dict, max_length=50)
    send_days: Annotated[int, Field(ge=0, le=MOST_SEND_DAYS)] | None = None
    state: Literal["live", "hidden", "ended"] = "live"

    def kept(self) -> dict[str, Any]:
        """What is not as usual, as JSON; nothing for a listing that is sold as usual."""
        return {name: _as_json(value) for name, value in self.model_dump(exclude_defaults=True).items()}


class RemotePlace(Message):
    """A place with stock within an account."""

    key: Key = Field(min_length=1)
    title: Name = ""


class RemoteQuantity(Message):
    """What a channel shows for a listing: how many, and how they may be sold."""

    external_id: Key = Field(min_length=1)
    quantity: Units
    terms: SellingTerms = SellingTerms()


class QuantityPush(Message):
    """Show this many, and sell them so."""

    external_id: str
    quantity: Decimal
    terms: SellingTerms = SellingTerms()


class PricePush(Message):
    """Show this price, and this higher one as what it was before; None: none."""

    external_id: str
    price: Decimal
    previous: Decimal | None = None


class RemotePrice(Message):
    """The price a channel shows for a listing."""

    external_id: Key = Field(min_length=1)
    price: Amount = Field(ge=0, lt=bounds.MOST_PRICE)
    previous: Amount | None = None


class RemoteGroup(Message):
    """A group of customers of the account, who see prices of their own."""

    key: Annotated[Code, Field(min_length=1, max_length=40)]
    title: Name = Field(min_length=1)


class GroupPricePush(Message):
    """Show this price to the customers of a group; None: what everybody is shown."""

    external_id: str
    price: Decimal | None


class PushResult(Message):
    """What the channel said of one line of a push; `made`: the id of the listing that a publication became."""

    external_id: str
    ok: bool
    error: str = ""
    made: Key = ""


class RemoteAttribute(Message):
    """What a category asks of what is listed in it; without `values` any text will do."""

    name: Code = Field(min_length=1)
    label: Name
    required: bool = False
    values: list[Name] = Field(default_factory=list, max_length=500)


class RemoteCategory(Message):
    """A category of the channel's own."""

    id: Code = Field(min_length=1)
    title: Name
    attributes: list[RemoteAttribute] = Field(default_factory=list, max_length=60)


class NewListing(Message):
    """What is to be listed: `key` is ours, `entry` the channel's own catalogue entry where there is one already."""

    key: str
    sku: str
    barcode: str = ""
    title: str
    description: str = ""
    category: str
    attributes: dict[str, str] = Field(default_factory=dict)
    price: Decimal
    entry: str = ""


class ListingText(Message):
    """What a listing that is there already is to say."""

    external_id: str
    title: str
    description: str = ""


class Submitted(Message):
    """The account has taken a batch and will work on it; what came of it is asked for by this key."""

    key: Key = Field(min_length=1)


class SubmittedAnswer(Message):
    """What came of a submitted batch: nothing yet, or a result for each line it says something of."""

    done: bool
    results: list[PushResult] = Field(default_factory=list)


class ShipmentNotice(Message):
    """What left, for the channel to tell the customer; `invoice`: the number under which it is claimed."""

    order_id: str
    key: str
    carrier: str
    tracking: str
    invoice: str
    lines: list[tuple[str, Decimal]]
    complete: bool


class StateNotice(Message):
    """How an order stands here, in a word of the account's; `why`: what somebody said who cancelled or held it."""

    order_id: str
    state: str
    why: str


class CaptureNotice(Message):
    """What is to be taken of an authorised payment, because so much has left."""

    order_id: str
    payment_id: str
    key: str
    amount: Decimal


class RefundNotice(Message):
    """What is to be paid back of an order: the amount, and what of each line it is for, with tax."""

    order_id: str
    key: str
    amount: Decimal
    note: str = ""
    lines: list[tuple[str, Decimal, Decimal]]


class LedgerDoc(Message):
    """A document for the outside ledger: signed amounts by its own account codes."""

    number: str
    kind: str
    date: str
    contact: str = ""
    contact_key: str = ""
    memo: str = ""
    order: str = ""
    due: str = ""
    lines: list[tuple[str, Decimal]]
    details: list[dict[str, Any]] = Field(default_factory=list)


class LedgerOrder(Message):
    """An order for the outside ledger, which books nothing: as a quote or as a sales order, and how it stands. In the
    company's currency, with tax."""

    number: str
    kind: Literal["quote", "order"]
    date: str
    contact: str = ""
    contact_key: str = ""
    memo: str = ""
    state: Literal["open", "closed", "cancelled"]
    total: Decimal
    details: list[dict[str, Any]] = Field(default_factory=list)


class RemoteLedgerOrder(Message):
    """An order as the ledger holds it."""

    number: Annotated[Code, Field(min_length=1, max_length=60)]
    state: Annotated[Code, Field(max_length=20)]
    total: Total


class LedgerContact(Message):
    """A customer as the ledger keeps it, by a key of ours that stays; `days`: their own terms, where they have some."""

    key: str
    name: str
    email: str = ""
    street: str = ""
    city: str = ""
    postcode: str = ""
    country: str = ""
    on_account: bool = False
    days: int | None = None


class LedgerItem(Message):
    """An item as the ledger keeps it, by a key of ours that stays."""

    key: str
    sku: str
    title: str
    unit: str = ""


class TaxCode(Message):
    """A tax code of the ledger and its rate in per cent."""

    code: Annotated[Code, Field(min_length=1, max_length=20)]
    title: Name = ""
    percent: Decimal = Field(ge=0, le=100, decimal_places=2)


class SupplierAnswer(Message):
    """An order response: accepted, changed or refused, line by line."""

    order_number: Code = Field(min_length=1)
    reference: Key
    accepted: bool
    note: Note = ""
    lines: dict[Code, Annotated[Units, Field(ge=0)]] = Field(default_factory=dict)
    expected_on: Annotated[date, _bounded(bounds.check_day)] | None = None
