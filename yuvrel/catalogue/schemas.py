"""Wire types of the range."""

from __future__ import annotations

from datetime import datetime
from decimal import Decimal
from typing import Annotated, Any, Literal

from ninja import Schema
from pydantic import Field

from yuvrel.platform.wire import Id, Money, MoneyIn, Quantity, QuantityIn, SheetRow, UnitCost, words

from .models import Item

# How what a channel is to show stands: a quantity, a price.
OFFERS = ("pending", "agreed", "drifting", "held")


class PictureOut(Schema):
    """A picture of a product; its bytes are at `/pictures/{id}/full` and `/thumb`."""

    id: int
    alt: str
    item_id: int | None
    width: int
    height: int


class PictureIn(Schema):
    """A change of a picture: what it shows, and the item it shows; null: the whole product."""

    alt: str = Field("", max_length=200)
    item_id: Id | None = None


class PictureOrderIn(Schema):
    """A product's pictures in their order."""

    ids: list[Id] = Field(max_length=50)


class ItemRow(SheetRow):
    """One item of the range sheet."""

    id: int
    picture: int | None
    sku: str
    title: str
    category: str
    kind: Annotated[str, words(Item.Kind)]
    barcode: str
    price: Money
    average_cost: UnitCost | None
    on_hand: Quantity | None
    listings: int
    supplier: str


class ItemPage(Schema):
    """A page of items."""

    rows: list[ItemRow]
    next: str


class ComponentOut(Schema):
    """A part of a kit."""

    item_id: int
    sku: str
    title: str
    quantity: Quantity


class ListingBrief(Schema):
    """Where an item is shown."""

    id: int
    connection: str
    connection_id: int
    external_id: str
    shown: Quantity | None
    offered: Quantity | None
    state: Annotated[str, words(("", *OFFERS))]
    live: bool
    price: Money | None
    price_offered: Money | None
    price_currency: str
    price_state: Annotated[str, words(("", *OFFERS))]


class CostRow(Schema):
    """One change of an item's cost."""

    id: int
    at: datetime
    cause: str
    document: str
    link: str
    quantity: Quantity
    value: Money
    true_up: Money
    average_before: UnitCost
    average_after: UnitCost


class PlaceRow(Schema):
    """An item at a location."""

    location_id: int
    location: str
    on_hand: Quantity
    committed: Quantity
    available: Quantity
    backordered: Quantity
    incoming: Quantity


class LayerRow(Schema):
    """Units that came in together and are still there, the oldest first; `came`: the document with which they came."""

    came: str
    quantity: Quantity
    unit_cost: UnitCost
    value: Money


class ItemOut(Schema):
    """Everything about an item."""

    id: int
    pictures: list[PictureOut]
    version: int
    sku: str
    title: str
    product: str
    product_id: int
    active: bool
    category: str
    kind: Annotated[str, words(Item.Kind)]
    unit: str
    barcodes: list[str]
    price: Money
    expiry_tracked: bool
    description: str
    country: str
    shelf_life_days: int
    weight_grams: int
    length_mm: int
    width_mm: int
    height_mm: int
    average_cost: UnitCost | None
    last_cost: UnitCost | None
    value: Money | None
    places: list[PlaceRow]
    listings: list[ListingBrief]
    components: list[ComponentOut]
    costs: list[CostRow]
    layers: list[LayerRow] | None


class OptionIn(Schema):
    """An option and its values, in order."""

    name: str = Field(max_length=40)
    values: list[Annotated[str, Field(max_length=60)]] = Field(max_length=60)


class PreviewIn(Schema):
    """Options and a SKU pattern to try out."""

    options: list[OptionIn] = Field(default_factory=list, max_length=5)
    pattern: str = Field("", max_length=60)


class CombinationOut(Schema):
    """An item that options make: new, there already, or in clash with the SKU of another."""

    options: dict[str, str]
    sku: str
    state: Annotated[str, words(("new", "there", "clash"))]
    item_id: int | None


class ProductFacts(Schema):
    """What describes a product; what is left out stays."""

    title: str | None = Field(None, max_length=160)
    description: str | None = Field(None, max_length=20_000)
    brand: str | None = Field(None, max_length=60)
    category: str | None = Field(None, max_length=60)
    tags: list[Annotated[str, Field(max_length=40)]] | None = Field(None, max_length=40)
    note: str | None = Field(None, max_length=4_000)
    country: str | None = Field(None, max_length=2)
    shelf_life_days: Annotated[int, Field(ge=0, le=7_300)] | None = None
    tax_class_id: Id | None = None

    def facts(self) -> dict[str, Any]:
        """What was sent."""
        names = set(ProductFacts.model_fields)
        return {k: v for k, v in self.model_dump(exclude_unset=True).items() if k in names and v is not None}


class MakeProductIn(ProductFacts, PreviewIn):
    """A new product with its items."""

    kind: Literal["stocked", "service", "bundle"] = "stocked"
    price: MoneyIn = Field(Decimal(0), ge=0)
    expiry_tracked: bool = False
    decimals: int = Field(0, ge=0, le=3)


class ChangeProductIn(ProductFacts):
    """Changed facts, with the version that was seen."""

    version: int


class MoreItemsIn(PreviewIn):
    """Combinations that are to be there too."""

    version: int
    price: MoneyIn = Field(Decimal(0), ge=0)


class DuplicateIn(Schema):
    """A product like another."""

    title: str = Field(max_length=160)
    pattern: str = Field(max_length=60)


Millimetres = Annotated[int, Field(ge=0, le=100_000)]


class ItemFactsIn(Schema):
    """Changed facts of an item, with the version that was seen; what is left out stays."""

    version: int
    sku: str | None = Field(None, max_length=60)
    price: MoneyIn | None = Field(None, ge=0)
    barcodes: list[Annotated[str, Field(max_length=40)]] | None = Field(None, max_length=20)
    weight_grams: Annotated[int, Field(ge=0, le=10_000_000)] | None = None
    length_mm: Millimetres | None = None
    width_mm: Millimetres | None = None
    height_mm: Millimetres | None = None
    internal: bool | None = None
    unit: str | None = Field(None, min_length=1, max_length=12)


class ItemsIn(Schema):
    """Changes of several items by id: all are made, or none."""

    items: dict[Id, ItemFactsIn] = Field(max_length=500)


class PartIn(Schema):
    """A part of a bundle."""

    item_id: Id
    quantity: QuantityIn


class PartsIn(Schema):
    """What a bundle is made of; `percent_off`: it costs what its parts do less so many per cent, null: its own price."""

    version: int
    parts: list[PartIn] = Field(max_length=100)
    percent_off: Annotated[Decimal, Field(ge=0, lt=100, decimal_places=2)] | None = None


class SeenIn(Schema):
    """The version that was seen."""

    version: int


class ProductItem(Schema):
    """An item of a product, as it can be changed."""

    id: int
    version: int
    sku: str
    title: str
    options: dict[str, str]
    kind: Annotated[str, words(Item.Kind)]
    unit: str
    price: Money
    barcodes: list[str]
    weight_grams: int
    length_mm: int
    width_mm: int
    height_mm: int
    internal: bool
    active: bool
    percent_off_parts: Quantity | None
    components: list[ComponentOut]


class TraceOut(Schema):
    """Who changed what, when, from what to what."""

    id: int
    at: datetime
    actor: str
    action: str
    subject: str
    before: dict[str, Any]
    after: dict[str, Any]


class TaxClassOut(Schema):
    """A rate of sales tax."""

    id: int
    name: str
    percent: Quantity


class ProductTextOut(Schema):
    """What a product is called and described by in another language."""

    language: str
    title: str
    description: str


class ProductTextIn(Schema):
    """The same, as somebody types it; both empty: nothing is said in it any more. `version`: of the product."""

    version: int
    title: str = Field("", max_length=160)
    description: str = Field("", max_length=20_000)


class LanguageOut(Schema):
    """A language by its code and its English name."""

    code: str
    name: str


class SaidWordOut(Schema):
    """A word that recurs: an option's value (`sort` names the option), a category or a tag, and how it is said."""

    word: str
    sort: str
    items: int
    said: str


class SaidWordsIn(Schema):
    """How words are said; empty: as they are here."""

    words: dict[Annotated[str, Field(max_length=60)], Annotated[str, Field(max_length=60)]] = Field(max_length=2000)


class ProductOut(Schema):
    """A product as it can be changed, with its items and their history."""

    id: int
    version: int
    title: str
    description: str
    brand: str
    category: str
    tags: list[str]
    note: str
    country: str
    shelf_life_days: int
    tax_class_id: int | None
    option_names: list[str]
    items: list[ProductItem]
    texts: list[ProductTextOut]
    pictures: list[PictureOut]
    history: list[TraceOut]


class RangeChoices(Schema):
    """What can be chosen for a product."""

    categories: list[str]
    countries: list[str]
    languages: list[LanguageOut]
    tax_classes: list[TaxClassOut]


class ObstacleOut(Schema):
    """What stands in the way, and where it can be put right."""

    said: str
    link: str


class CategoryOut(Schema):
    """A category in the tree; `items` counts those of all that lie in it."""

    id: int
    name: str
    parent_id: int | None
    depth: int
    own: int
    items: int


class CategoryIn(Schema):
    """A category to be kept; what is left out stays. No parent: at the top."""

    name: str | None = Field(None, max_length=60)
    parent_id: Id | None = None

    def facts(self) -> dict[str, Any]:
        """What was given."""
        given = self.model_dump(exclude_unset=True)
        return {name: value for name, value in given.items() if value is not None or name == "parent_id"}


class MergeIn(Schema):
    """Into which category another goes."""

    into_id: Id
