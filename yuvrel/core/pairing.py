"""Which item a listing is: exact SKU, exact barcode, then likeness of title and options."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal

from rapidfuzz import fuzz, utils

from .errors import BadInputError
from .gtin import normal_gtin, normal_sku

SIMILAR_FROM = 55.0


@dataclass(frozen=True)
class ListingFacts:
    """What a channel says of a listing."""

    sku: str
    barcode: str
    title: str
    options: str = ""


@dataclass(frozen=True)
class ItemFacts:
    """What the range says of an item. `gtins` are fourteen digits long; former ones match where nothing is called so now."""

    id: int
    sku: str
    gtins: tuple[str, ...]
    title: str
    options: str = ""
    former_skus: tuple[str, ...] = ()
    former_gtins: tuple[str, ...] = ()


@dataclass(frozen=True)
class Candidate:
    """An item that may be meant, with why; `score` from 0 to 100."""

    item_id: int
    score: float
    reason: str


@dataclass(frozen=True)
class Verdict:
    """`linked` is set only for a unique exact match; `clash` says why it must not link by itself."""

    linked: int | None
    reason: str
    candidates: tuple[Candidate, ...]
    clash: str = ""


# A price that is this many times the other, or more, is not the same thing's.
FAR_OFF = Decimal("1.5")
# "tray of 24", "box of 6", "12 x", "24-pack": how many there are in one.
_PACK = re.compile(r"\b(?:tray|box|pack|case|set|carton)s? of (\d+)|\b(\d+)[ -]?(?:pack|pcs|x\b|×)", re.IGNORECASE)


@dataclass(frozen=True)
class Side:
    """One side of a pair, as it is sold: price with tax, None where there is none."""

    title: str
    price: Decimal | None
    options: Mapping[str, str]
    gtins: tuple[str, ...] = ()


def doubts(there: Side, here: Side) -> list[str]:
    """What speaks against a listing and an item being the same thing: prices far apart, another number in the pack,
    another value of one option, another barcode. Empty where nothing does."""
    found = []
    if there.price and here.price and max(there.price, here.price) >= FAR_OFF * min(there.price, here.price):
        found.append(f"price {there.price:.2f} there, {here.price:.2f} here")
    packs = [_pack(side.title) for side in (there, here)]
    # Where the other side names the number without a word for it (an option, the end of a title), it is the same.
    if packs[0] != packs[1] and not (packs[0] in _numbers(here) or packs[1] in _numbers(there)):
        found.append(f"{_packed(packs[0])} there, {_packed(packs[1])} here")
    ours = {name.strip().casefold(): value for name, value in here.options.items()}
    for name, value in there.options.items():
        other = ours.get(name.strip().casefold())
        if other is not None and other.strip().casefold() != value.strip().casefold():
            found.append(f"{name} {value} there, {other} here")
    if there.gtins and here.gtins and not set(there.gtins) & set(here.gtins):
        found.append("another barcode")
    return found


def units_of(there: Side, here: Side) -> int:
    """Of how many units of the item one of the listing seems to be made: a tray of 12 of what is sold here one by one; 1
    where the packs are the same, or do not go into each other."""
    theirs, ours = _pack(there.title), _pack(here.title)
    if ours in _numbers(there) or theirs in _numbers(here) or theirs % ours:
        return 1
    return theirs // ours


def _pack(title: str) -> int:
    match = _PACK.search(title)
    return int(match[1] or match[2]) if match else 1


def _numbers(side: Side) -> set[int]:
    """The whole numbers above one that a side names."""
    text = " ".join([side.title, *side.options.values()])
    return {int(one) for one in re.findall(r"\d{1,6}", text)} - {1}


def _packed(count: int) -> str:
    return "a single one" if count == 1 else f"a pack of {count}"


class PairingIndex:
    """The range, prepared for pairing many listings against it."""

    def __init__(self, items: Sequence[ItemFacts]) -> None:
        self._items = list(items)
        self._by_sku: dict[str, list[int]] = {}
        self._by_gtin: dict[str, list[int]] = {}
        for item in items:
            if item.sku.strip():
                self._by_sku.setdefault(normal_sku(item.sku), []).append(item.id)
            for gtin in item.gtins:
                self._by_gtin.setdefault(gtin, []).append(item.id)
        self._former: set[tuple[int, str]] = set()
        for now, name in ((self._by_sku, "former_skus"), (self._by_gtin, "former_gtins")):
            once: dict[str, list[int]] = {}
            for item in items:
                for code in getattr(item, name):
                    if code not in now:
                        once.setdefault(code, []).append(item.id)
                        self._former.add((item.id, code))
            now |= once
        self._texts = {item.id: _text(item.title, item.options) for item in items}

    def verdict(self, listing: ListingFacts, most: int = 5) -> Verdict:
        """Link, clash or up to `most` ranked suggestions for one listing; 0: whether it links by itself is all that is
        asked, and nothing similar is looked for, which takes as long as the range is large."""
        by_sku = self._by_sku.get(normal_sku(listing.sku), []) if listing.sku.strip() else []
        by_gtin, gtin_fault = self._barcode_matches(listing.barcode)
        exact = [Candidate(i, 100.0, self._said(i, "SKU", normal_sku(listing.sku))) for i in by_sku]
        exact += [Candidate(i, 99.0, self._said(i, "barcode", _gtin(listing.barcode))) for i in by_gtin if i not in by_sku]
        clash = ""
        if by_sku and by_gtin and not set(by_sku) & set(by_gtin):
            clash = "The SKU names one item and the barcode another."
        elif len(by_sku) > 1 or (not by_sku and len(by_gtin) > 1):
            clash = "More than one item matches."
        similar = self._similar(listing, {c.item_id for c in exact}, most) if most else []
        candidates = tuple((exact + similar)[:most])
        if exact and not clash:
            best = exact[0]
            both = best.item_id in by_sku and best.item_id in by_gtin
            return Verdict(best.item_id, "same SKU and barcode" if both else best.reason, candidates)
        return Verdict(None, clash or gtin_fault or "no exact match", candidates, clash)

    def _said(self, item_id: int, what: str, code: str) -> str:
        return f"{'former' if (item_id, code) in self._former else 'same'} {what}"

    def _barcode_matches(self, barcode: str) -> tuple[list[int], str]:
        if not barcode.strip():
            return [], ""
        try:
            return self._by_gtin.get(normal_gtin(barcode), []), ""
        except BadInputError as error:
            return [], error.detail

    def _similar(self, listing: ListingFacts, seen: set[int], most: int) -> list[Candidate]:
        text = _text(listing.title, listing.options)
        if not text:
            return []
        scored = []
        for item_id, other in self._texts.items():
            if item_id in seen:
                continue
            score = 0.6 * fuzz.token_sort_ratio(text, other) + 0.4 * fuzz.token_set_ratio(text, other)
            if score >= SIMILAR_FROM:
                scored.append(Candidate(item_id, min(98.0, round(score, 1)), "similar title"))
        return sorted(scored, key=lambda c: (-c.score, c.item_id))[:most]


def _gtin(barcode: str) -> str:
    try:
        return normal_gtin(barcode)
    except BadInputError:
        return ""


def _text(title: str, options: str) -> str:
    return utils.default_process(f"{title} {options}")
