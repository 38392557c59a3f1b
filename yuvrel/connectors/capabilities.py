"""What a kind of connection may be able to do: one small protocol for each capability.

A kind inherits the protocols of what it can do and implements their calls against the canonical messages; that it can
do it follows from the inheritance. Every call may raise a ConnectorError.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from decimal import Decimal
from enum import StrEnum
from typing import Any, ClassVar

from .messages import (
    CaptureNotice,
    GroupPricePush,
    LedgerContact,
    LedgerDoc,
    LedgerItem,
    LedgerOrder,
    ListingText,
    NewListing,
    Page,
    PricePush,
    PushResult,
    QuantityPush,
    Raw,
    RefundNotice,
    RemoteCategory,
    RemoteClose,
    RemoteDocument,
    RemoteGroup,
    RemoteLedgerOrder,
    RemoteListing,
    RemoteOrder,
    RemotePlace,
    RemotePrice,
    RemotePurchase,
    RemoteQuantity,
    ShipmentNotice,
    StateNotice,
    Submitted,
    SubmittedAnswer,
    SupplierAnswer,
    TaxCode,
)


class Capability(StrEnum):
    """One thing a kind of connection may be able to do."""

    LISTINGS = "listings"
    PICTURES = "pictures"
    QUANTITIES = "quantities"
    TERMS = "terms"
    STATES = "states"
    PLACES = "places"
    DISPATCH = "dispatch"
    PRICES = "prices"
    PRICE_CHANGES = "price_changes"
    GROUP_PRICES = "group_prices"
    FEEDS = "feeds"
    PUBLISHING = "publishing"
    TEXTS = "texts"
    ORDERS = "orders"
    CLOSES = "closes"
    SHIPMENTS = "shipments"
    ORDER_STATES = "order_states"
    CAPTURES = "captures"
    REFUNDS = "refunds"
    WEBHOOKS = "webhooks"
    DOCUMENTS = "documents"
    LEDGER_ORDERS = "ledger_orders"
    LEDGER_CONTACTS = "ledger_contacts"
    LEDGER_ITEMS = "ledger_items"
    TAX_CODES = "tax_codes"
    PURCHASES = "purchases"


class Listings(ABC):
    """What is for sale can be read."""

    @abstractmethod
    def listings(self, cursor: str) -> Page:
        """A page of what is for sale."""

    @abstractmethod
    def read_listing(self, body: Any) -> RemoteListing:
        """A listing in the account's own format. Raises NonsenseError naming the field."""


class Pictures(Listings):
    """The account gives away the pictures of its listings."""

    @abstractmethod
    def picture(self, key: str) -> bytes:
        """A picture as it lies there."""


class Quantities(ABC):
    """Quantities can be set and read."""

    most_pushed: ClassVar[int] = 100

    @abstractmethod
    def read_quantities(self, external_ids: Sequence[str]) -> dict[str, Decimal]:
        """What the channel shows now, by listing."""

    def read_shown(self, external_ids: Sequence[str]) -> dict[str, RemoteQuantity]:
        """What the channel shows now and how it may be sold, by listing; of a kind without terms the quantities alone."""
        found = self.read_quantities(external_ids)
        return {key: RemoteQuantity(external_id=key, quantity=quantity) for key, quantity in found.items()}

    @abstractmethod
    def push_quantities(self, pushes: Sequence[QuantityPush]) -> list[PushResult] | Submitted:
        """Set absolute quantities, and how they may be sold where the kind knows it: one result a line, or that the
        account will say so later. The engine gives no more than `most_pushed` at once."""


class Terms(Quantities):
    """The account can tell the shopper how a thing is sold: `push_quantities` and `read_shown` carry the terms."""


class States(Quantities):
    """Listings can be hidden and ended, and be for sale again: `push_quantities` and `read_shown` carry the state with the
    terms."""


class Places(Terms):
    """The account has several places with stock: `push_quantities` and `read_shown` carry with the terms how many lie at
    which, and orders say from which they leave."""

    @abstractmethod
    def places(self) -> list[RemotePlace]:
        """The account's places; none where it has one alone."""


class Dispatch(Quantities):
    """Listings say how soon they are sent: `push_quantities` and `read_shown` carry the days with the terms."""


class Prices(ABC):
    """Prices can be set and read."""

    most_pushed: ClassVar[int] = 100

    @abstractmethod
    def read_prices(self, external_ids: Sequence[str]) -> dict[str, RemotePrice]:
        """The prices the channel shows now, by listing."""

    @abstractmethod
    def push_prices(self, pushes: Sequence[PricePush]) -> list[PushResult] | Submitted:
        """Set prices: one result a line, or that the account will say so later."""


class PriceChanges(Prices):
    """Prices may be kept there: what was changed can be read."""

    @abstractmethod
    def price_changes(self, since: str, cursor: str) -> Page:
        """A page of prices changed there since a mark of the account's, oldest first; `at` is the mark of each."""

    @abstractmethod
    def read_price(self, body: Any) -> RemotePrice:
        """A changed price in the account's own format. Raises NonsenseError naming the field."""


class GroupPrices(Prices):
    """Groups of customers can be shown prices of their own."""

    @abstractmethod
    def customer_groups(self) -> list[RemoteGroup]:
        """The account's groups of customers."""

    @abstractmethod
    def read_group_prices(self, group: str, external_ids: Sequence[str]) -> dict[str, Decimal | None]:
        """What a group is shown now, by listing; None where it sees what everybody does."""

    @abstractmethod
    def push_group_prices(self, group: str, pushes: Sequence[GroupPricePush]) -> list[PushResult]:
        """Set what a group is shown: one result a line. Raises RefusedThereError for a group that there is not."""


class Feeds(ABC):
    """What is pushed is worked on later; what came of it is asked for."""

    @abstractmethod
    def read_feed(self, key: str) -> SubmittedAnswer:
        """What came of what was submitted, line by line once it is done. Raises RefusedThereError where it is not known."""


class Publishing(ABC):
    """New listings can be made, in categories that ask for attributes."""

    most_title: ClassVar[int] = 150
    most_published: ClassVar[int] = 1000

    @abstractmethod
    def categories(self) -> list[RemoteCategory]:
        """The channel's categories with what each asks for."""

    @abstractmethod
    def find_entries(self, barcodes: Sequence[str]) -> dict[str, str]:
        """The channel's own catalogue entry of each barcode that it knows."""

    @abstractmethod
    def publish(self, rows: Sequence[NewListing]) -> list[PushResult] | Submitted:
        """Make listings: one result a line by our key, or that the account will say so later."""


class Texts(ABC):
    """Titles and descriptions of listings can be set."""

    most_title: ClassVar[int] = 150

    @abstractmethod
    def push_texts(self, rows: Sequence[ListingText]) -> list[PushResult] | Submitted:
        """Set them: one result a line, or that the account will say so later."""


class Orders(ABC):
    """Orders, or sales that have happened, can be read.

    `order_states`: the account's words for where an order stands, each with what it proposes for it here: *taken* in,
    *held*, *left* there, or *cancelled*. `payment_methods`: its words for ways to pay, as far as they are known.
    """

    order_states: ClassVar[Mapping[str, str]] = {}
    payment_methods: ClassVar[tuple[str, ...]] = ()
    sales_already_happened: ClassVar[bool] = False

    @abstractmethod
    def orders(self, since: str, cursor: str) -> Page:
        """A page of orders changed since a time of the account's, oldest first; `at` is that time of each."""

    @abstractmethod
    def read_order(self, body: Any) -> RemoteOrder:
        """An order in the account's own format. Raises NonsenseError naming the field."""


class Closes(Orders):
    """The account is closed and counted, as a till at the end of the day."""

    @abstractmethod
    def closes(self, since: str, cursor: str) -> Page:
        """A page of closes since a time of the account's, oldest first; `at` is that time of each."""

    @abstractmethod
    def read_close(self, body: Any) -> RemoteClose:
        """A close in the account's own format. Raises NonsenseError naming the field."""


class Shipments(ABC):
    """The channel tells its customer what was shipped."""

    @abstractmethod
    def fulfil(self, notice: ShipmentNotice) -> str:
        """Tell the channel what was shipped; returns its id of the shipment."""


class OrderStates(Orders):
    """The account can be told how an order stands here. `told_states`: its words for that."""

    told_states: ClassVar[tuple[str, ...]] = ()

    @abstractmethod
    def tell_state(self, notice: StateNotice) -> None:
        """Say how an order stands; told again, it changes nothing. Raises RefusedThereError where it cannot stand so."""


class Captures(ABC):
    """Payments that are authorised can be taken when the goods go."""

    @abstractmethod
    def capture(self, notice: CaptureNotice) -> str:
        """Take a part of an authorised payment, once for each key; returns the account's id of it."""


class Refunds(Orders):
    """The account can be asked to pay a customer back; what it has paid back stands in its orders, ours with the key it was
    asked by."""

    @abstractmethod
    def refund(self, notice: RefundNotice) -> str:
        """Pay back, once for each key; returns the account's id of the refund."""


class Webhooks(Orders):
    """The account tells of orders by itself, and may tell of goods."""

    @abstractmethod
    def register_webhook(self, url: str) -> str:
        """Ask for events at `url`; returns the signing secret."""

    @abstractmethod
    def send_test(self) -> None:
        """Have the account send an event of the type `test` to where it was asked to."""

    @abstractmethod
    def order_in(self, event: dict[str, Any]) -> Raw | None:
        """The order inside a webhook's body, as it came, or None for an event we do not use."""

    def goods_in(self, event: dict[str, Any]) -> list[Raw]:
        """The listings inside a webhook's body, as `listings` gives them; none for an event about something else."""
        return []


class Documents(ABC):
    """A ledger that takes documents and tells its balances."""

    @abstractmethod
    def post_document(self, document: LedgerDoc) -> str:
        """Book a document at most once (by its number); returns the ledger's id."""

    @abstractmethod
    def accounts(self) -> list[tuple[str, str]]:
        """(code, name) of the ledger's accounts."""

    @abstractmethod
    def balances(self) -> dict[tuple[str, str], Decimal]:
        """Movement by (period YYYY-MM, account code), debits positive."""

    @abstractmethod
    def document_totals(self) -> dict[str, Decimal]:
        """Sum of debits by document number, of everything the ledger holds."""

    @abstractmethod
    def documents_there(self) -> list[RemoteDocument]:
        """Every document that the ledger holds, with what was booked."""


class LedgerOrders(Documents):
    """The ledger also keeps quotes and sales orders, which book nothing."""

    @abstractmethod
    def put_order(self, order: LedgerOrder) -> str:
        """Keep an order as it stands now, by its number, however often it is told; returns the ledger's id."""

    @abstractmethod
    def orders_there(self) -> dict[str, RemoteLedgerOrder]:
        """Every order that the ledger holds, by its number."""


class LedgerContacts(Documents):
    """The ledger also keeps the customers that its documents name."""

    @abstractmethod
    def put_contact(self, contact: LedgerContact) -> str:
        """Keep a contact as it is now, by its key, however often it is told; returns the ledger's id."""


class LedgerItems(Documents):
    """The ledger also keeps the items that its lines name."""

    @abstractmethod
    def put_item(self, item: LedgerItem) -> str:
        """Keep an item as it is now, by its key, however often it is told; returns the ledger's id."""


class TaxCodes(Documents):
    """The ledger names tax rates by codes of its own."""

    @abstractmethod
    def tax_codes(self) -> list[TaxCode]:
        """The ledger's tax codes."""


class Purchases(ABC):
    """A supplier that takes orders and answers them."""

    @abstractmethod
    def place_order(self, key: str, document: bytes) -> str:
        """Deliver a UBL Order at most once by its key; returns the supplier's receipt. Another order of a number that is
        there already is refused."""

    @abstractmethod
    def orders_there(self) -> list[RemotePurchase]:
        """Every order of ours that the supplier holds."""

    @abstractmethod
    def answers(self, cursor: str) -> Page:
        """A page of a supplier's answers; `at` of each is where the next reading begins."""

    @abstractmethod
    def read_answer(self, body: Any) -> SupplierAnswer:
        """An answer as the supplier wrote it. Raises NonsenseError naming the field."""


PROTOCOLS: dict[Capability, type] = {
    Capability.LISTINGS: Listings,
    Capability.PICTURES: Pictures,
    Capability.QUANTITIES: Quantities,
    Capability.TERMS: Terms,
    Capability.STATES: States,
    Capability.PLACES: Places,
    Capability.DISPATCH: Dispatch,
    Capability.PRICES: Prices,
    Capability.PRICE_CHANGES: PriceChanges,
    Capability.GROUP_PRICES: GroupPrices,
    Capability.FEEDS: Feeds,
    Capability.PUBLISHING: Publishing,
    Capability.TEXTS: Texts,
    Capability.ORDERS: Orders,
    Capability.CLOSES: Closes,
    Capability.SHIPMENTS: Shipments,
    Capability.ORDER_STATES: OrderStates,
    Capability.CAPTURES: Captures,
    Capability.REFUNDS: Refunds,
    Capability.WEBHOOKS: Webhooks,
    Capability.DOCUMENTS: Documents,
    Capability.LEDGER_ORDERS: LedgerOrders,
    Capability.LEDGER_CONTACTS: LedgerContacts,
    Capability.LEDGER_ITEMS: LedgerItems,
    Capability.TAX_CODES: TaxCodes,
    Capability.PURCHASES: Purchases,
}
