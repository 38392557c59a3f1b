"""Ties to the outside: connections, their listings, and every message that came or goes."""

from typing import ClassVar

from django.db import models

from yuvrel.connectors.capabilities import Capability
from yuvrel.connectors.registry import KINDS
from yuvrel.ownership import owned, owner
from yuvrel.platform.columns import MONEY, QUANTITY


class Connection(models.Model):
    """A configured tie to one outside account, with its own rules."""

    class State(models.TextChoices):
        DRAFT = "draft"
        TESTED = "tested"
        LIVE = "live"
        PAUSED = "paused"
        DISCONNECTED = "disconnected"

    company = owner()
    kind = models.CharField(max_length=20)
    name = models.CharField(max_length=80)
    address = models.CharField(max_length=300)
    account = models.JSONField(default=dict, help_text="What was entered to sign in and is no secret")
    secrets_sealed = models.TextField(blank=True, help_text="What was entered and is one, as sealed JSON")
    webhook_secret_sealed = models.TextField(blank=True)
    hook_key = models.CharField(max_length=40, unique=True)
    state = models.CharField(max_length=12, choices=State.choices, default=State.DRAFT)
    tested_at = models.DateTimeField(null=True)
    test_report = models.JSONField(default=dict)
    fulfils_from = models.ForeignKey("people.Location", on_delete=models.PROTECT, null=True, related_name="+")
    their_place = models.ForeignKey(
        "people.Location",
        on_delete=models.PROTECT,
        null=True,
        related_name="+",
        help_text="Stands for a store of the channel's own, out of which it sends orders itself",
    )
    feeds = models.ManyToManyField("people.Location", related_name="fed_connections")
    price_list = models.ForeignKey(
        "pricing.PriceList",
        on_delete=models.PROTECT,
        null=True,
        related_name="connections",
        help_text="Its own; else the place's",
    )
    categories = models.JSONField(default=list, help_text="Of a channel that listings are made on: as it last told them")
    live_since = models.DateTimeField(null=True)
    survey = models.JSONField(default=dict, help_text="What would come in, as it was read before going live")
    hook_proved_at = models.DateTimeField(null=True, help_text="When a test message came through the webhook")
    read_at = models.DateTimeField(null=True, help_text="When all that it shows was last read")
    faults = models.PositiveSmallIntegerField(default=0, help_text="Calls that failed in a row; each lengthens the pause")
    pause_until = models.DateTimeField(null=True, help_text="Nothing is called before; the account is at fault")
    version = models.PositiveIntegerField(default=1)
    created_at = models.DateTimeField(auto_now_add=True)

    objects: ClassVar[models.Manager["Connection"]] = owned()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["company", "name"], name="connection_name_once")]

    def __str__(self) -> str:
        return self.name

    @property
    def pays_back(self) -> bool:
        """Whether the account can be asked to pay a customer back."""
        return Capability.REFUNDS in KINDS[self.kind].can

    def has_history(self) -> bool:
        """Whether anything was ever exchanged, so that the row must stay."""
        rows = (self.orders, self.listings, self.inbound, self.outbound)  # type: ignore[attr-defined]
        return self.live_since is not None or any(related.exists() for related in rows)


class HeardWord(models.Model):
    """A word that an account uses for where an order stands, how it is paid or how it is sent, or for its goods."""

    class Sort(models.TextChoices):
        STATES = "order_states"
        PAYMENTS = "payment_methods"
        SHIPPING = "shipping_methods"
        CATEGORIES = "categories"
        ATTRIBUTES = "attributes"
        VALUES = "attribute_values"
        TAXES = "taxes"

    connection = models.ForeignKey(Connection, on_delete=models.CASCADE, related_name="words")
    sort = models.CharField(max_length=20, choices=Sort.choices)
    word = models.CharField(max_length=80)
    heard_at = models.DateTimeField(auto_now_add=True)

    objects: ClassVar[models.Manager["HeardWord"]] = owned("connection__company")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["connection", "sort", "word"], name="word_once")]


class MappedAccount(models.Model):
    """Which account of an outside ledger one of ours is."""

    company = owner()
    connection = models.ForeignKey(Connection, on_delete=models.CASCADE, related_name="mapped")
    account = models.ForeignKey("books.Account", on_delete=models.PROTECT, related_name="+")
    code = models.CharField(max_length=40)

    objects: ClassVar[models.Manager["MappedAccount"]] = owned()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["connection", "account"], name="account_mapped_once"),
            models.CheckConstraint(condition=~models.Q(code=""), name="account_mapped_to_one"),
        ]


class Feed(models.Model):
    """One thing that a connection is asked for, and how far it has been read."""

    connection = models.ForeignKey(Connection, on_delete=models.CASCADE, related_name="parts")
    part = models.CharField(max_length=10)
    watermark = models.CharField(max_length=80, blank=True, help_text="The account's own mark of the last that was read")
    resume = models.JSONField(default=dict, help_text="Where an exchange broke off: what was asked for, and the next page")
    asked_at = models.DateTimeField(null=True)
    succeeded_at = models.DateTimeField(null=True, help_text="When it was last read to its end")

    objects: ClassVar[models.Manager["Feed"]] = owned("connection__company")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["connection", "part"], name="feed_once")]


class Listing(models.Model):
    """What a channel shows for sale, the item it is, and what we want it to show."""

    class Link(models.TextChoices):
        UNLINKED = "unlinked"
        LINKED = "linked"
        IGNORED = "ignored"

    class Offer(models.TextChoices):
        NONE = ""
        PENDING = "pending"
        AGREED = "agreed"
        DRIFTING = "drifting"
        HELD = "held"

    connection = models.ForeignKey(Connection, on_delete=models.CASCADE, related_name="listings")
    external_id = models.CharField(max_length=80)
    group_id = models.CharField(max_length=80, blank=True, help_text="The channel's product")
    sku = models.CharField(max_length=60, blank=True)
    barcode = models.CharField(max_length=40, blank=True)
    title = models.CharField(max_length=200)
    product_title = models.CharField(max_length=200, blank=True)
    options = models.JSONField(default=dict)
    category = models.CharField(max_length=60, blank=True)
    price = models.DecimalField(**MONEY, null=True)
    service = models.BooleanField(default=False)
    kept_there = models.BooleanField(default=False, help_text="The channel ships it from a store of its own")
    told = models.JSONField(default=dict, help_text="What else the channel says of it, in its own words")
    settled = models.JSONField(default=dict, help_text="What it said when that was last the same here, or kept apart by hand")
    says_otherwise = models.BooleanField(default=False, help_text="Somebody has to choose between what it says and we do")
    link = models.CharField(max_length=8, choices=Link.choices, default=Link.UNLINKED)
    item = models.ForeignKey("catalogue.Item", on_delete=models.PROTECT, null=True, related_name="listings")
    units = models.PositiveIntegerField(default=1, help_text="Units of the item that one of it stands for: a tray of twelve")
    link_reason = models.CharField(max_length=120, blank=True)
    shown = models.DecimalField(**QUANTITY, null=True)
    said_at = models.DateTimeField(null=True, help_text="When it changed last, by the channel's own clock")
    shown_at = models.DateTimeField(null=True)
    offered = models.DecimalField(**QUANTITY, null=True)
    offered_at = models.DateTimeField(null=True)
    offer_state = models.CharField(max_length=8, choices=Offer.choices, default=Offer.NONE, blank=True)
    terms = models.JSONField(default=dict, help_text="How it is to be sold where that is not as usual")
    rests = models.BooleanField(default=False, help_text="Hidden or ended at zero; it waits to be resumed by hand")
    terms_shown = models.JSONField(default=dict, help_text="What the channel says of it")
    texts_due_at = models.DateTimeField(null=True, help_text="Since when a title or description waits to be told by itself")
    offer_cause = models.CharField(max_length=120, blank=True)
    pushed_at = models.DateTimeField(null=True)
    agreed_at = models.DateTimeField(null=True)
    refusals = models.PositiveSmallIntegerField(default=0, help_text="In a row; each lengthens the pause")
    retry_at = models.DateTimeField(null=True, help_text="When a held offer is tried again")
    version = models.PositiveIntegerField(default=1)

    objects: ClassVar[models.Manager["Listing"]] = owned("connection__company")

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["connection", "external_id"], name="listing_once"),
            models.CheckConstraint(
                condition=models.Q(link="linked", item__isnull=False) | (~models.Q(link="linked") & models.Q(item=None)),
                name="linked_has_item",
            ),
            models.CheckConstraint(condition=models.Q(units__gte=1), name="listing_stands_for_units"),
        ]
        indexes = [
            models.Index(fields=["connection", "offer_state"], name="listing_offer_state"),
            models.Index(fields=["link", "id"], name="listing_link"),
            models.Index(fields=["id"], name="listing_otherwise", condition=models.Q(says_otherwise=True)),
            models.Index(fields=["connection", "id"], name="listing_texts_due", condition=models.Q(texts_due_at__isnull=False)),
        ]


class ListingNote(models.Model):
    """Something that became of a listing, never edited: who did it, what, and why."""

    listing = models.ForeignKey(Listing, on_delete=models.CASCADE, related_name="notes")
    at = models.DateTimeField()
    by = models.CharField(max_length=150)
    what = models.CharField(max_length=80)
    why = models.CharField(max_length=200, blank=True)

    objects: ClassVar[models.Manager["ListingNote"]] = owned("listing__connection__company")

    class Meta:
        indexes = [models.Index(fields=["listing", "-id"], name="listing_note_of")]


class Submission(models.Model):
    """A batch that an account works on later: what it holds, and what came of it."""

    class State(models.TextChoices):
        WAITING = "waiting"
        DONE = "done"
        LOST = "lost"

    connection = models.ForeignKey(Connection, on_delete=models.CASCADE, related_name="submissions")
    sort = models.CharField(max_length=12)
    key = models.CharField(max_length=80, help_text="The account's own")
    state = models.CharField(max_length=8, choices=State.choices, default=State.WAITING)
    submitted_at = models.DateTimeField()
    ended_at = models.DateTimeField(null=True)

    objects: ClassVar[models.Manager["Submission"]] = owned("connection__company")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["connection", "key"], name="submission_once")]
        indexes = [models.Index(fields=["connection", "state", "id"], name="submission_state")]


class Publication(models.Model):
    """An item that is to become a listing: how it will look there, and how far it has come."""

    class State(models.TextChoices):
        PREPARED = "prepared"
        WAITING = "waiting"
        REFUSED = "refused"
        LISTED = "listed"

    connection = models.ForeignKey(Connection, on_delete=models.CASCADE, related_name="publications")
    item = models.ForeignKey("catalogue.Item", on_delete=models.CASCADE, related_name="publications")
    state = models.CharField(max_length=8, choices=State.choices, default=State.PREPARED)
    category = models.CharField(max_length=60, blank=True, help_text="The channel's own; empty: as the rules say")
    attributes = models.JSONField(default=dict)
    entry = models.CharField(max_length=80, blank=True, help_text="The channel's own catalogue entry it is attached to")
    said = models.CharField(max_length=300, blank=True)
    listing = models.OneToOneField(Listing, on_delete=models.CASCADE, null=True, related_name="publication")
    by = models.CharField(max_length=150)
    prepared_at = models.DateTimeField(auto_now_add=True)
    handed_in_at = models.DateTimeField(null=True)
    ended_at = models.DateTimeField(null=True)
    version = models.PositiveIntegerField(default=1)

    objects: ClassVar[models.Manager["Publication"]] = owned("connection__company")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["connection", "item"], name="publication_once")]
        indexes = [models.Index(fields=["connection", "state", "id"], name="publication_state")]


class SubmittedLine(models.Model):
    """One listing or publication in a batch: what it was to show then, and what the account said of it."""

    submission = models.ForeignKey(Submission, on_delete=models.CASCADE, related_name="lines")
    listing = models.ForeignKey(Listing, on_delete=models.CASCADE, null=True, related_name="submitted")
    publication = models.ForeignKey(Publication, on_delete=models.CASCADE, null=True, related_name="submitted")
    wanted = models.JSONField(default=dict)
    stamp = models.DateTimeField(help_text="When that was worked out; what is newer stays pending")
    taken = models.BooleanField(null=True)
    said = models.CharField(max_length=300, blank=True)
    made = models.CharField(max_length=80, blank=True, help_text="The listing that came of it")

    objects: ClassVar[models.Manager["SubmittedLine"]] = owned("submission__connection__company")

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["submission", "listing"], name="submitted_line_once"),
            models.UniqueConstraint(fields=["submission", "publication"], name="submitted_publication_once"),
            models.CheckConstraint(
                condition=models.Q(listing=None, publication__isnull=False) | models.Q(listing__isnull=False, publication=None),
                name="submitted_line_is_of_one",
            ),
        ]

    @property
    def key(self) -> str:
        """What it is called in the batch."""
        return self.listing.external_id if self.listing else f"p{self.publication_id}"


class OfferDay(models.Model):
    """The day that offers were last worked out for: some hang on it."""

    company = owner()
    day = models.DateField(null=True)

    objects: ClassVar[models.Manager["OfferDay"]] = owned()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["company"], name="offer_day_once")]


class OfferedPrice(models.Model):
    """A price that a listing is to show, and whether it does."""

    class State(models.TextChoices):
        PENDING = "pending"
        AGREED = "agreed"
        DRIFTING = "drifting"
        HELD = "held"

    currency = models.CharField(max_length=3)
    list = models.ForeignKey("pricing.PriceList", on_delete=models.SET_NULL, null=True, related_name="+")
    state = models.CharField(max_length=8, choices=State.choices)
    cause = models.CharField(max_length=120, blank=True)
    offered_at = models.DateTimeField()
    pushed_at = models.DateTimeField(null=True)
    agreed_at = models.DateTimeField(null=True)
    refusals = models.PositiveSmallIntegerField(default=0, help_text="In a row; each lengthens the pause")
    retry_at = models.DateTimeField(null=True, help_text="When a refused one is tried again; one below its floor never is")

    class Meta:
        abstract = True


class PriceOffer(OfferedPrice):
    """What everybody is to be shown, with the higher price before it. What is shown now is the listing's `price` and
    `previous_shown`."""

    listing = models.OneToOneField(Listing, on_delete=models.CASCADE, related_name="price_offer")
    price = models.DecimalField(**MONEY)
    previous = models.DecimalField(**MONEY, null=True)
    previous_shown = models.DecimalField(**MONEY, null=True)

    objects: ClassVar[models.Manager["PriceOffer"]] = owned("listing__connection__company")

    class Meta:
        constraints = [models.CheckConstraint(condition=models.Q(price__gte=0), name="offered_price_not_negative")]
        indexes = [models.Index(fields=["state", "listing"], name="price_offer_state")]


class ChannelGroup(models.Model):
    """A group of customers of an account, who it is here, and the list whose prices it is shown. Without either it sees
    what everybody does."""

    connection = models.ForeignKey(Connection, on_delete=models.CASCADE, related_name="groups")
    key = models.CharField(max_length=40)
    title = models.CharField(max_length=200)
    group = models.ForeignKey("sales.CustomerGroup", on_delete=models.PROTECT, null=True, related_name="channel_groups")
    price_list = models.ForeignKey("pricing.PriceList", on_delete=models.PROTECT, null=True, related_name="channel_groups")
    gone_at = models.DateTimeField(null=True, help_text="When the account was found not to have it any more")
    version = models.PositiveIntegerField(default=1)

    objects: ClassVar[models.Manager["ChannelGroup"]] = owned("connection__company")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["connection", "key"], name="channel_group_once")]

    def __str__(self) -> str:
        return f"{self.title} at {self.connection.name}"


class GroupPrice(OfferedPrice):
    """What a group of customers is to be shown for a listing, and what it is shown; no price: what everybody is."""

    group = models.ForeignKey(ChannelGroup, on_delete=models.CASCADE, related_name="prices")
    listing = models.ForeignKey(Listing, on_delete=models.CASCADE, related_name="group_prices")
    price = models.DecimalField(**MONEY, null=True)
    shown = models.DecimalField(**MONEY, null=True)

    objects: ClassVar[models.Manager["GroupPrice"]] = owned("listing__connection__company")

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["group", "listing"], name="group_price_once"),
            models.CheckConstraint(condition=models.Q(price__gte=0) | models.Q(price=None), name="group_price_not_negative"),
        ]
        indexes = [models.Index(fields=["state", "group"], name="group_price_state")]


class InboundMessage(models.Model):
    """What a channel told us, kept before it is acted on."""

    class State(models.TextChoices):
        NEW = "new"
        APPLIED = "applied"
        REPEATED = "repeated"
        SKIPPED = "skipped"
        SNAGGED = "snagged"

    connection = models.ForeignKey(Connection, on_delete=models.CASCADE, related_name="inbound")
    key = models.CharField(max_length=160, help_text="The same for the same version of the same thing")
    kind = models.CharField(max_length=20)
    via = models.CharField(max_length=10)
    body = models.JSONField()
    state = models.CharField(max_length=8, choices=State.choices, default=State.NEW)
    received_at = models.DateTimeField(auto_now_add=True)
    applied_at = models.DateTimeField(null=True)

    objects: ClassVar[models.Manager["InboundMessage"]] = owned("connection__company")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["connection", "key"], name="inbound_once")]
        indexes = [
            models.Index(fields=["state", "id"], name="inbound_state"),
            models.Index(fields=["connection", "received_at"], name="inbound_heard"),
        ]


class OutboundMessage(models.Model):
    """What we must tell a connection, once: a shipment, a ledger document, a purchase order."""

    class State(models.TextChoices):
        WAITING = "waiting"
        SENT = "sent"
        SNAGGED = "snagged"

    connection = models.ForeignKey(Connection, on_delete=models.CASCADE, related_name="outbound")
    kind = models.CharField(max_length=20)
    subject_id = models.BigIntegerField()
    state = models.CharField(max_length=8, choices=State.choices, default=State.WAITING)
    attempts = models.PositiveSmallIntegerField(default=0)
    next_try_at = models.DateTimeField()
    last_error = models.CharField(max_length=500, blank=True)
    answer = models.JSONField(default=dict)
    made_at = models.DateTimeField(auto_now_add=True)
    sent_at = models.DateTimeField(null=True)

    objects: ClassVar[models.Manager["OutboundMessage"]] = owned("connection__company")

    class Meta:
        constraints = [
            # What happened is told once; what is kept there is told to every ledger.
            models.UniqueConstraint(
                fields=["kind", "subject_id"],
                condition=~models.Q(kind__in=["ledger_contact", "ledger_item"]),
                name="outbound_once",
            ),
            models.UniqueConstraint(fields=["connection", "kind", "subject_id"], name="outbound_once_there"),
        ]
        indexes = [models.Index(fields=["state", "next_try_at"], name="outbound_due")]


class Run(models.Model):
    """One exchange with a connection and what came of it."""

    class Kind(models.TextChoices):
        """In the order in which they are told of."""

        ORDERS = "orders", "Orders in"
        PRICES_IN = "prices taken in", "Prices in"
        CLOSES = "closes", "Till counts in"
        ANSWERS = "answers", "Answers in"
        LISTINGS = "listings", "Listings in"
        PICTURES = "pictures", "Pictures in"
        SURVEY = "survey", "Look at what would come in"
        INTAKE = "intake", "First intake"
        PUBLISH = "publish", "New listings out"
        REFRESH = "refresh", "Titles and descriptions out"
        FEEDS = "feeds", "What came of batches"
        PUSH = "push", "Quantities out"
        PRICES = "prices", "Prices out"
        DELIVER = "deliver", "Messages out"
        CHECK_QUANTITIES = "check quantities", "Quantities compared"
        CHECK_PRICES = "check prices", "Prices compared"
        CHECK_ORDERS = "check orders", "Orders compared"
        CHECK_LEDGER = "check ledger", "Ledger compared"

    class State(models.TextChoices):
        RUNNING = "running"
        DONE = "done"
        FAILED = "failed"
        STOPPED = "stopped"

    connection = models.ForeignKey(Connection, on_delete=models.CASCADE, related_name="runs")
    kind = models.CharField(max_length=20, choices=Kind.choices)
    state = models.CharField(max_length=8, choices=State.choices, default=State.RUNNING)
    asked_by = models.CharField(max_length=150, blank=True, help_text="Empty: it came of itself")
    started_at = models.DateTimeField(auto_now_add=True)
    ended_at = models.DateTimeField(null=True)
    stop = models.BooleanField(default=False, help_text="Somebody asked it to stop")
    done = models.PositiveIntegerField(default=0)
    total = models.PositiveIntegerField(default=0)
    taken = models.PositiveIntegerField(default=0, help_text="New ones")
    changed = models.PositiveIntegerField(default=0)
    unchanged = models.PositiveIntegerField(default=0)
    failed = models.PositiveIntegerField(default=0)
    log = models.JSONField(default=list)

    objects: ClassVar[models.Manager["Run"]] = owned("connection__company")

    class Meta:
        indexes = [
            models.Index(fields=["connection", "-id"], name="run_newest"),
            models.Index(fields=["connection", "kind", "state", "-ended_at"], name="run_by_kind"),
            models.Index(fields=["state", "-id"], name="run_by_state"),
            models.Index(
                fields=["-id"],
                name="run_did_something",
                condition=models.Q(taken__gt=0) | models.Q(changed__gt=0) | models.Q(failed__gt=0) | ~models.Q(state="done"),
            ),
        ]


class Call(models.Model):
    """One call of a run: what was sent and what was answered, without secrets, kept for some days."""

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="calls")
    at = models.DateTimeField()
    method = models.CharField(max_length=8)
    path = models.CharField(max_length=500)
    status = models.PositiveSmallIntegerField(null=True, help_text="Empty: nobody answered")
    milliseconds = models.PositiveIntegerField()
    sent = models.TextField(blank=True)
    received = models.TextField(blank=True)
    fault = models.CharField(max_length=300, blank=True)

    objects: ClassVar[models.Manager["Call"]] = owned("run__connection__company")

    class Meta:
        indexes = [models.Index(fields=["at"], name="call_age")]


class Snag(models.Model):
    """Something that could not be carried out and waits for a decision or a retry."""

    class Kind(models.TextChoices):
        """What it is about."""

        ORDER = "order", "Orders not taken in"
        ORDER_STATE = "order_state", "Order states without a meaning"
        OFFER = "offer", "Quantities refused"
        TEXTS = "texts", "Texts not taken"
        PRICE = "price", "Prices held or refused"
        GROUP_PRICE = "group price", "Prices of groups held or refused"
        GROUP_GONE = "group gone", "Customer groups that are not there any more"
        PRICE_THERE = "price there", "Prices that cannot be read"
        TILL_COUNT = "till count", "Till counts not taken in"
        PRICES = "prices", "The account, pushing prices"
        PUSH = "push", "The account, pushing quantities"
        EXCHANGE = "exchange", "The account, asked for news"
        DELIVER = "deliver", "The account, sending messages"
        DELIVERY = "delivery", "Messages not delivered"
        FEEDS = "feeds", "Batches that were lost"
        LISTINGS = "listings", "Listings that cannot be read"
        ANSWER = "answer", "Answers to purchase orders"
        CHECK = "check", "Checks that failed"
        EVENT = "event", "What follows from an event"
        ROW = "row", "Rows that cannot be worked out"

    company = owner()
    connection = models.ForeignKey(Connection, on_delete=models.CASCADE, null=True, related_name="snags")
    kind = models.CharField(max_length=20, choices=Kind.choices)
    title = models.CharField(max_length=200)
    detail = models.CharField(max_length=1000)
    field = models.CharField(max_length=60, blank=True)
    inbound = models.ForeignKey(InboundMessage, on_delete=models.CASCADE, null=True)
    outbound = models.ForeignKey(OutboundMessage, on_delete=models.CASCADE, null=True)
    listing = models.ForeignKey(Listing, on_delete=models.CASCADE, null=True)
    order = models.ForeignKey("sales.SalesOrder", on_delete=models.CASCADE, null=True)
    made_at = models.DateTimeField(auto_now_add=True)
    resolved_at = models.DateTimeField(null=True)
    resolved_how = models.CharField(max_length=120, blank=True)

    objects: ClassVar[models.Manager["Snag"]] = owned()

    class Meta:
        indexes = [models.Index(fields=["resolved_at", "-id"], name="snag_open")]
