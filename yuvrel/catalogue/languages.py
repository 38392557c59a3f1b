"""Texts of products in other languages, and the words that recur in all of them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from django.conf import global_settings
from django.db import transaction

from yuvrel.core.bounds import check_text
from yuvrel.core.errors import BadInputError
from yuvrel.core.wording import Wording, folded
from yuvrel.events.models import Event
from yuvrel.people.roles import Ability, Actor, audit
from yuvrel.platform.shared import record_for_all

from .models import Item, Product, ProductText, Word
from .products import locked_product
from .texts import formatted

# Codes as the web writes them (BCP 47, in small letters), with English names.
LANGUAGES: dict[str, str] = dict(sorted(global_settings.LANGUAGES, key=lambda one: one[1]))
MOST_TITLE, MOST_WORD = 200, 60


def language_name(code: str) -> str:
    """What a language is called. Raises BadInputError for one that is not known."""
    if code not in LANGUAGES:
        raise BadInputError(f"{code[:20]} is no language that is known here, as de or pt-br.", field="language")
    return LANGUAGES[code]


@transaction.atomic
def keep_text(actor: Actor, product_id: int, version: int, language: str, title: str, description: str) -> Product:
    """What a product is called and described by in a language; both empty: nothing is said in it any more.

    Raises StaleError when somebody changed the product since, BadInputError naming what cannot be.
    """
    actor.need(Ability.EDIT_RANGE)
    name = language_name(language)
    title, description = check_text(title.strip(), "title", MOST_TITLE), formatted(description.strip())
    if description and not title:
        raise BadInputError(f"A product with a description in {name} needs a title in it.", field="title")
    product = locked_product(product_id, version)
    old = product.texts.filter(language=language).first()
    was = (old.title, old.description) if old else ("", "")
    if was == (title, description):
        return product
    put_text(product, language, title, description)
    product.version += 1
    product.save(update_fields=["version"])
    pairs = zip(("title", "description"), was, (title, description), strict=True)
    moved = {f"{what} in {name}": (before, after) for what, before, after in pairs if before != after}
    before, after = ({what: both[at] for what, both in moved.items()} for at in (0, 1))
    audit(actor, "change product", "product", product.pk, before, after)
    record_for_all([Event.Kind.TEXT], _items([product.pk]), f"{product.title} is said otherwise in {name}")
    return product


def put_text(product: Product, language: str, title: str, description: str) -> None:
    """Write a product's text in a language, and nothing about it."""
    if title:
        both = {"title": title, "description": description}
        ProductText.objects.update_or_create(product=product, language=language, defaults=both)
    else:
        product.texts.filter(language=language).delete()  # type: ignore[attr-defined]


@transaction.atomic
def keep_words(actor: Actor, language: str, said: Mapping[str, str]) -> int:
    """Say words of ours in a language, for every product; empty: as they are here. Returns how many are other than before."""
    actor.need(Ability.EDIT_RANGE)
    name = language_name(language)
    there = dict(Word.objects.filter(language=language).values_list("key", "said"))
    wanted: dict[str, tuple[str, str]] = {}
    for word, text in said.items():
        word, text = check_text(word.strip(), "words", MOST_WORD), check_text(text.strip(), "words", MOST_WORD)
        if not 0 < len(folded(word)) <= MOST_WORD:
            raise BadInputError(f"A word has 1 to {MOST_WORD} characters: {word!r} is none.", field="words")
        if wanted.setdefault(folded(word), (word, text))[1] != text:
            raise BadInputError(f"{word} is translated in two ways.", field="words")
    moved = {key: both for key, both in wanted.items() if both[1] != there.get(key, "")}
    Word.objects.filter(language=language, key__in=[key for key, (_, text) in moved.items() if not text]).delete()
    Word.objects.bulk_create(
        [Word(language=language, key=key, word=word, said=text) for key, (word, text) in moved.items() if text],
        update_conflicts=True,
        unique_fields=["language", "key"],
        update_fields=["word", "said"],
    )
    if moved:
        before = {word: there.get(key, "") for key, (word, _) in moved.items()}
        audit(actor, f"say words in {name}", "language", 0, before, dict(moved.values()))
        products = list(ProductText.objects.filter(language=language).values_list("product_id", flat=True))
        record_for_all([Event.Kind.TEXT], _items(products), f"words are said otherwise in {name}")
    return len(moved)


def _items(products: Iterable[int]) -> list[int]:
    return list(Item.objects.filter(product_id__any_of=list(products)).values_list("pk", flat=True))


def wording(language: str, products: Iterable[int]) -> Wording:
    """How some products are said in a language; empty: in ours."""
    if not language:
        return Wording()
    texts = ProductText.objects.filter(language=language, product_id__any_of=sorted(set(products)))
    return Wording(
        language_name(language),
        {product: (title, description) for product, title, description in texts.values_list("product", "title", "description")},
        dict(Word.objects.filter(language=language).values_list("key", "said")),
    )


@dataclass(frozen=True)
class SaidWord:
    """A word that recurs: what it is, how many items have it, and how it is said; empty where nobody said it."""

    word: str
    sort: str
    items: int
    said: str


def words_in(language: str) -> list[SaidWord]:
    """Every option value, category and tag of items in use, but plain numbers, and those that were said once, in the order
    of the words.

    Raises BadInputError for a language that is not known.
    """
    language_name(language)
    said = {row.key: row for row in Word.objects.filter(language=language)}
    found: dict[str, tuple[str, str, int]] = {}

    def count(word: str, sort: str) -> None:
        # Numbers are the same everywhere.
        if len(folded(word)) <= MOST_WORD and any(letter.isalpha() for letter in word):
            first, was, items = found.get(folded(word), (word, sort, 0))
            found[folded(word)] = first, was, items + 1

    rows = Item.objects.filter(active=True).order_by("pk")
    for options, category, tags in rows.values_list("options", "product__category__name", "product__tags").iterator(5000):
        for name, value in options.items():
            count(str(value), name)
        count(category or "", "Category")
        for tag in tags:
            count(tag, "Tag")
    for key, row in said.items():
        found.setdefault(key, (row.word, "not in use", 0))
    return [
        SaidWord(word, sort, items, said[key].said if key in said else "") for key, (word, sort, items) in sorted(found.items())
    ]
