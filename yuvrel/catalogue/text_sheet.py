"""Texts of products and recurring words in other languages as sheets: what a translator takes away and brings back."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from yuvrel.core.gtin import normal_sku
from yuvrel.core.intake import Column, Judge, Read, Wrong, words
from yuvrel.core.wording import folded
from yuvrel.intake.registry import Kind, declare
from yuvrel.people.roles import Ability, Actor

from .languages import LANGUAGES, MOST_TITLE, MOST_WORD, keep_text, keep_words, language_name, words_in
from .models import Item, Product, ProductText, Word
from .products import items_of
from .sheet import described

BETWEEN = "\t"


def language(text: str) -> str:
    """A language by its code or its English name."""
    said = text.strip().casefold().replace("_", "-")
    code = next((code for code, name in LANGUAGES.items() if said in (code, name.casefold())), said)
    language_name(code)
    return code


LANGUAGE = Column("language", "its code or its English name", "de", language, needed=True, folded=True)
TEXT_COLUMNS = (
    Column("sku", "of an item of the product", "SMK-S-ASH", words(60), needed=True),
    LANGUAGE,
    Column("title", "of the product in that language", "Räucherofen", words(MOST_TITLE), empty=""),
    Column(
        "description",
        "of the product; plain, or with the tags p, br, strong, em, h3, ul, ol, li and a",
        "<p>Brennt lange und kühl.</p>",
        described,
        empty="",
    ),
)
WORD_COLUMNS = (
    LANGUAGE,
    Column("word", "an option's value, a category or a tag", "ash", words(MOST_WORD), needed=True),
    Column("said", "in that language; empty: as it is here", "Esche", words(MOST_WORD), empty=""),
)


def _text_key(values: Mapping[str, Any]) -> str:
    return f"{normal_sku(values['sku'])}{BETWEEN}{values['language']}"


def _products() -> dict[str, int]:
    """The product of every SKU."""
    return {normal_sku(sku): product for sku, product in Item.objects.values_list("sku", "product_id")}


def _by_product() -> Callable[[str], str]:
    """A row is known by its product, whichever of its items it names."""
    products = _products()

    def known(key: str) -> str:
        sku, _, code = key.partition(BETWEEN)
        return f"{products[sku]}{BETWEEN}{code}" if sku in products else key

    return known


def _texts() -> Iterator[tuple[str, dict[str, str]]]:
    """What products are called in other languages, each by the first of its SKUs."""
    skus: dict[int, str] = {}
    for product, sku in Item.objects.order_by("pk").values_list("product_id", "sku"):
        skus.setdefault(product, sku)
    for row in ProductText.objects.order_by("language", "product_id").iterator(2000):
        if row.product_id in skus:
            told = {"sku": skus[row.product_id], "language": row.language, "title": row.title, "description": row.description}
            yield f"{row.product_id}{BETWEEN}{row.language}", told


def _text_judge() -> Judge:
    items = _products()
    titled = set(ProductText.objects.values_list("product_id", "language"))

    def wrong(values: Mapping[str, Any], is_new: bool) -> Wrong:
        product = items.get(normal_sku(values["sku"]))
        if product is None:
            return "is no item of the range"
        has = values["title"] if "title" in values else (product, values["language"]) in titled
        if values.get("description") and not has:
            return "title", "is needed where there is a description"
        return ""

    return wrong


def _take_texts(actor: Actor, rows: Sequence[Read]) -> None:
    items = {normal_sku(item.sku): item.product_id for item in items_of(row.values["sku"] for row in rows)}
    products = Product.objects.in_bulk(items.values())
    there = {(row.product_id, row.language): row for row in ProductText.objects.filter(product__in=products)}
    for row in rows:
        product = products[items[normal_sku(row.values["sku"])]]
        old = there.get((product.pk, row.values["language"]))
        title = row.values.get("title", old.title if old else "")
        description = row.values.get("description", old.description if old else "")
        # A title that goes takes its description along.
        text = (title, description if title else "")
        products[product.pk] = keep_text(actor, product.pk, product.version, row.values["language"], *text)


def _word_key(values: Mapping[str, Any]) -> str:
    return f"{values['language']}{BETWEEN}{folded(values['word'])}"


def _words() -> Iterator[tuple[str, dict[str, str]]]:
    """Every word in use, in each language in which anything is said: what lacks a word stands there to be filled in."""
    codes = {*ProductText.objects.values_list("language", flat=True), *Word.objects.values_list("language", flat=True)}
    for code in sorted(codes):
        for one in words_in(code):
            told = {"language": code, "word": one.word, "said": one.said}
            yield _word_key(told), told


def _take_words(actor: Actor, rows: Sequence[Read]) -> None:
    said: dict[str, dict[str, str]] = {}
    for row in rows:
        if "said" in row.values:
            said.setdefault(row.values["language"], {})[row.values["word"]] = row.values["said"]
    for code, told in said.items():
        keep_words(actor, code, told)


declare(
    Kind(
        "texts",
        "Texts in other languages",
        "Titles and descriptions of products, a row for each product and language",
        TEXT_COLUMNS,
        Ability.EDIT_RANGE,
        _texts,
        _take_texts,
        _text_key,
        _text_judge,
        _by_product,
        hollow=True,
    )
)
declare(
    Kind(
        "words",
        "Words in other languages",
        "Values of options, categories and tags, translated once for all products",
        WORD_COLUMNS,
        Ability.EDIT_RANGE,
        _words,
        _take_words,
        _word_key,
        hollow=True,
    )
)
