"""What a connector is: what it can do, and the calls behind each capability.

A kind implements the calls of its capabilities against the canonical messages and nothing else;
scheduling, paging, retries, idempotency and read-back belong to the engine in channels.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation
from enum import StrEnum
from typing import Any, ClassVar, NoReturn, TypeVar

from pydantic import ValidationError

from .http import Caller, NonsenseError
from .messages import (
    Identity,
    LedgerDoc,
    Message,
    Page,
    PricePush,
    PushResult,
    QuantityPush,
    Raw,
    RemoteListing,
    RemoteOrder,
    RemotePrice,
    RemoteQuantity,
    ShipmentNotice,
    SupplierAnswer,
)

M = TypeVar("M", bound=Message)
MOST_PAGES = 20_000
ASK_AGAIN = 4


class Capability(StrEnum):
    """One thing a kind of connection may be able to do."""

    LISTINGS = "listings"
    QUANTITIES = "quantities"
    TERMS = "terms"
    PRICES = "prices"
    PRICE_CHANGES = "price_changes"
    ORDERS = "orders"
    FULFILMENTS = "fulfilments"
    WEBHOOKS = "webhooks"
    DOCUMENTS = "documents"
    PURCHASES = "purchases"


@dataclass(frozen=True)
class Account:
    """Where and as whom to call."""

    address: str
    token: str
    allow_private: bool
    attempts: int = 3


class Connector(ABC):
    """One kind of outside system. Every call may raise a ConnectorError."""

    kind: ClassVar[str]
    label: ClassVar[str]
    can: ClassVar[frozenset[Capability]]
    scopes: ClassVar[tuple[str, ...]]
    order_states: ClassVar[tuple[str, ...]] = ()
    sales_already_happened: ClassVar[bool] = False
    calls_per_second: ClassVar[float] = 20.0

    def __init__(self, account: Account) -> None:
        self.caller = Caller(
            account.address,
            account.token,
            allow_private=account.allow_private,
            attempts=account.attempts,
            per_second=self.calls_per_second,
        )

    @abstractmethod
    def identify(self) -> Identity:
        """Who answers and what the token may do; what is missing is named."""

    def listings(self, cursor: str) -> Page:
        """A page of what is for sale."""
        self._cannot("listings")

    def read_listing(self, body: Any) -> RemoteListing:
        """A listing in the account's own format. Raises NonsenseError naming the field."""
        self._cannot("read_listing")

    def read_quantities(self, external_ids: Sequence[str]) -> dict[str, Decimal]:
        """What the channel shows now, by listing."""
        self._cannot("read_quantities")

    def read_shown(self, external_ids: Sequence[str]) -> dict[str, RemoteQuantity]:
        """What the channel shows now and how it may be sold, by listing; of a kind without terms the quantities alone."""
        found = self.read_quantities(external_ids)
        return {key: RemoteQuantity(external_id=key, quantity=quantity) for key, quantity in found.items()}

    def push_quantities(self, pushes: Sequence[QuantityPush]) -> list[PushResult]:
        """Set absolute quantities, and how they may be sold where the kind knows it; one result a line."""
        self._cannot("push_quantities")

    def read_prices(self, external_ids: Sequence[str]) -> dict[str, RemotePrice]:
        """The prices the channel shows now, by listing."""
        self._cannot("read_prices")

    def push_prices(self, pushes: Sequence[PricePush]) -> list[PushResult]:
        """Set prices; one result a line."""
        self._cannot("push_prices")

    def price_changes(self, since: str, cursor: str) -> Page:
        """A page of prices changed there since a mark of the account's, oldest first; `at` is the mark of each."""
        self._cannot("price_changes")

    def read_price(self, body: Any) -> RemotePrice:
        """A changed price in the account's own format. Raises NonsenseError naming the field."""
        self._cannot("read_price")

    def orders(self, since: str, cursor: str) -> Page:
        """A page of (the account's time, RemoteOrder or Unreadable) changed since a time of the account's, oldest first."""
        self._cannot("orders")

    def read_order(self, body: Any) -> RemoteOrder:
        """An order in the account's own format. Raises NonsenseError naming the field."""
        self._cannot("read_order")

    def register_webhook(self, url: str) -> str:
        """Ask for events at `url`; returns the signing secret."""
        self._cannot("register_webhook")

    def order_in(self, event: dict[str, Any]) -> Raw | None:
        """The order inside a webhook's body, as it came, or None for an event we do not use."""
        self._cannot("order_in")

    def fulfil(self, notice: ShipmentNotice) -> str:
        """Tell the channel what was shipped; returns its id of the shipment."""
        self._cannot("fulfil")

    def post_document(self, document: LedgerDoc) -> str:
        """Book a document at most once (by its number); returns the ledger's id."""
        self._cannot("post_document")

    def accounts(self) -> list[tuple[str, str]]:
        """(code, name) of the ledger's accounts."""
        self._cannot("accounts")

    def balances(self) -> dict[tuple[str, str], Decimal]:
        """Movement by (period YYYY-MM, account code), debits positive."""
        self._cannot("balances")

    def document_totals(self) -> dict[str, Decimal]:
        """Sum of debits by document number, of everything the ledger holds."""
        self._cannot("document_totals")

    def place_order(self, number: str, document: bytes) -> str:
        """Deliver a UBL Order at most once; returns the supplier's receipt."""
        self._cannot("place_order")

    def answers(self, cursor: str) -> Page:
        """A page of a supplier's answers; `at` of each is where the next reading begins."""
        self._cannot("answers")

    def read_answer(self, body: Any) -> SupplierAnswer:
        """An answer as the supplier wrote it. Raises NonsenseError naming the field."""
        self._cannot("read_answer")

    def _cannot(self, what: str) -> NoReturn:
        raise NotImplementedError(f"{self.label} has no {what}.")

    def _identity(self, data: Any) -> Identity:
        found = read(Identity, data)
        return found.model_copy(update={"missing": [scope for scope in self.scopes if scope not in found.scopes]})


def read(kind: type[M], data: Any) -> M:
    """A message from what an account sent. Raises NonsenseError naming the first bad field."""
    try:
        return kind.model_validate(data)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        said = first["msg"].removeprefix("Value error, ")
        raise NonsenseError(f"{where}: {said}" if where else said, field=where[:60]) from error


def sound(kind: type[M], rows: Iterable[Any]) -> list[M]:
    """The rows that can be read; one that cannot is missing, and the caller sees which."""
    found = []
    for row in rows:
        try:
            found.append(kind.model_validate(row))
        except ValidationError:
            continue
    return found


def raw_rows(rows: Sequence[Any], at: str = "") -> list[Raw]:
    """Things of a page as they came; `at` names the field that holds the time of their change, if there is one."""
    return [Raw(body=row, at=str(row.get(at) or "")[:80] if at and isinstance(row, dict) else "") for row in rows]


def part(body: Any, name: str) -> Any:
    """A field of what should be an object. Raises NonsenseError when it is none, or lacks the field."""
    if not isinstance(body, dict):
        raise NonsenseError("It is not built as it should be.", field=name)
    if name not in body:
        raise NonsenseError(f"It lacks {name}.", field=name)
    return body[name]


def objects(body: Any, name: str) -> list[dict[str, Any]]:
    """A field that should be a list of objects; none is an empty one. Raises NonsenseError."""
    found = body.get(name) or [] if isinstance(body, dict) else None
    if not isinstance(found, list) or not all(isinstance(one, dict) for one in found):
        raise NonsenseError(f"{name} is not a list of objects.", field=name)
    return found


def number(value: Any, what: str) -> Decimal:
    """A finite decimal from what an account sent. Raises NonsenseError."""
    try:
        found = Decimal(str(value))
    except InvalidOperation as error:
        raise NonsenseError(f"{what} is not a number.", field=what) from error
    if not found.is_finite():
        raise NonsenseError(f"{what} is not a number.", field=what)
    return found


def pages(fetch: Callable[[str], Page], cursor: str = "") -> Iterator[Page]:
    """Every page from `cursor` (the first) to the last. A page that leads back to one already read is asked for again.

    Raises NonsenseError when the account keeps leading back, or never ends.
    """
    seen = {"", cursor}
    for _ in range(MOST_PAGES):
        for _ in range(ASK_AGAIN):
            page = fetch(cursor)
            if page.cursor not in seen or not page.cursor:
                break
        else:
            raise NonsenseError("The account gives the same page again and again.")
        yield page
        if not page.cursor:
            return
        cursor = page.cursor
        seen.add(cursor)
    raise NonsenseError(f"The account has more than {MOST_PAGES} pages.")
