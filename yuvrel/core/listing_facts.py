"""What a channel says of its goods, as facts of a product and an item here; and whose word counts where both have changed.

Three sides are compared, as when two people edited one text: what is here, what the channel says now, and what it
said when both were last settled.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from decimal import Decimal, InvalidOperation
from fnmatch import fnmatchcase
from typing import Any, Literal

import iso3166

from .content import plain

# What an attribute of a channel can be here, in the words of the screens.
FIELDS = (
    ("brand", "brand"),
    ("country", "country of origin"),
    ("weight_grams", "weight"),
    ("length_mm", "length"),
    ("width_mm", "width"),
    ("height_mm", "height"),
    ("shelf_life_days", "days it keeps"),
    ("tag", "a tag"),
    ("named_tag", "a tag with its name"),
    ("note", "a line of the note"),
)
LABELS = {
    "title": "Title",
    "description": "Description",
    "tags": "Tags",
    "note": "Note",
    **{name: label.capitalize() for name, label in FIELDS if name not in ("tag", "named_tag", "note")},
}
OF_ITEM = ("weight_grams", "length_mm", "width_mm", "height_mm")
MOST = {"brand": 60, "tags": 40, "title": 200, "weight_grams": 10**8, "shelf_life_days": 32_767}
MOST_SIZE = 10**6
# What a number is multiplied by to be in grams, millimetres or days.
_UNITS = {
    "weight_grams": {"": 1, "g": 1, "kg": 1000},
    "shelf_life_days": {"": 1, "d": 1, "days": 1, "weeks": 7, "months": 30},
    **{name: {"": 1, "mm": 1, "cm": 10, "m": 1000} for name in ("length_mm", "width_mm", "height_mm")},
}
_MEASURE = re.compile(r"\s*(\d+(?:[.,]\d+)?)\s*([a-zA-Z]*)\s*")
Verdict = Literal["empty here", "changed there", "changed here and there", "differs"]


@dataclass(frozen=True)
class Told:
    """What a channel says of a listing beside its codes, options and price; `attributes` by its own names."""

    title: str = ""
    description: str = ""
    brand: str = ""
    weight_grams: int = 0
    tags: tuple[str, ...] = ()
    attributes: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Difference:
    """A fact that is one thing here and another there."""

    field: str
    ours: Any
    theirs: Any
    verdict: Verdict


def measure(name: str, text: str) -> int:
    """A weight in grams, a size in mm or a time in days: 0.25 kg is 250, 12 cm is 120. Rounded to the nearest, half up.

    Raises ValueError for what is no such measure.
    """
    found = _MEASURE.fullmatch(text)
    factor = _UNITS[name].get(found[2].lower()) if found else None
    if found is None or factor is None:
        raise ValueError(f"{text} is no measure of {LABELS[name].lower()}")
    try:
        value = int((Decimal(found[1].replace(",", ".")) * factor + Decimal("0.5")) // 1)
    except InvalidOperation as error:
        raise ValueError(f"{text} is too large") from error
    if value > MOST.get(name, MOST_SIZE):
        raise ValueError(f"{text} is too large")
    return value


def country_code(text: str) -> str:
    """A country by its two or three letters or its English name, as two letters (ISO 3166-1). Raises ValueError."""
    wanted = text.strip().upper()
    by = (iso3166.countries_by_alpha2, iso3166.countries_by_alpha3, iso3166.countries_by_name)
    found = next((table[wanted] for table in by if wanted in table), None)
    if found is None:
        raise ValueError(f"{text} is no country")
    return found.alpha2


def word(name: str, value: str) -> str:
    """How one value of an attribute is called in a map of values."""
    return f"{name}: {value}"


def facts(told: Told, fields: Mapping[str, str], values: Mapping[str, str]) -> tuple[dict[str, Any], list[str]]:
    """Facts here of what a channel says, and what could not be read of it.

    `fields`: what an attribute is here (FIELDS), `values`: what one of its values is called here. An attribute that
    somebody gave a meaning goes before what the channel says in a field of its own.
    """
    found: dict[str, Any] = {}
    for name in ("title", "description", "brand", "weight_grams"):
        if getattr(told, name):
            found[name] = getattr(told, name)
    meant, tags, lines, odd = _meant(told.attributes, fields, values)
    found |= meant
    if "brand" in found:
        found["brand"] = str(found["brand"])[: MOST["brand"]]
    tags = [tag[: MOST["tags"]].strip() for tag in (*told.tags, *tags)]
    if any(tags):
        found["tags"] = list(dict.fromkeys(tag for tag in tags if tag))
    if lines:
        found["note"] = "\n".join(lines)
    return found, odd


def _meant(
    attributes: Mapping[str, str], fields: Mapping[str, str], values: Mapping[str, str]
) -> tuple[dict[str, Any], list[str], list[str], list[str]]:
    """(facts, tags, lines of the note, what could not be read) of attributes that mean something here."""
    found: dict[str, Any] = {}
    tags, lines, odd = list[str](), list[str](), list[str]()
    for name, given in attributes.items():
        means, text = fields.get(name, ""), values.get(word(name, given), given).strip()
        if not means or not text:
            continue
        try:
            if means in ("tag", "named_tag"):
                tags.append(text if means == "tag" else word(name, text))
            elif means == "note":
                lines.append(word(name, text))
            else:
                found[means] = _read(means, text)
        except ValueError as error:
            odd.append(f"{name}: {error}.")
    return found, tags, lines, odd


def _read(meant: str, text: str) -> Any:
    if meant == "country":
        return country_code(text)
    return measure(meant, text) if meant in _UNITS else text


def same(name: str, ours: Any, theirs: Any) -> bool:
    """Whether a fact says the same: a description however it is formatted, tags and notes that are among ours."""
    if name == "tags":
        return {tag.casefold() for tag in theirs or ()} <= {tag.casefold() for tag in ours or ()}
    if name == "note":
        return set(str(theirs or "").splitlines()) <= set(str(ours or "").splitlines())
    if name == "description":
        return plain(ours or "").split() == plain(theirs or "").split()
    return bool(ours == theirs)


def joined(name: str, ours: Any, theirs: Any) -> Any:
    """What stands here once theirs is taken over: tags and lines of a note join ours, everything else takes its place."""
    if name == "tags":
        known = {tag.casefold() for tag in ours or ()}
        return [*(ours or ()), *(tag for tag in theirs if tag.casefold() not in known)]
    if name == "note":
        lines = str(ours or "").splitlines()
        return "\n".join([*lines, *(line for line in str(theirs).splitlines() if line not in lines)])
    return theirs


def differences(ours: Mapping[str, Any], theirs: Mapping[str, Any], settled: Mapping[str, Any]) -> list[Difference]:
    """Where a channel says something else than we do, and has changed it since both were settled.

    `settled`: what it said then. A title is told apart only where it was known before: channels word theirs as they like.
    """
    found = []
    for name, said in theirs.items():
        mine, known = ours.get(name), name in settled
        if same(name, mine, said) or (known and same(name, settled[name], said)) or (name == "title" and not known):
            continue
        verdict: Verdict = (
            "empty here"
            if not mine
            else "differs"
            if not known
            else "changed there"
            if same(name, mine, settled[name]) and same(name, settled[name], mine)
            else "changed here and there"
        )
        found.append(Difference(name, mine, said, verdict))
    return found


def taken(rule: str, found: Difference) -> bool:
    """Whether a difference is taken over by itself: by *fill* what is empty here, by *follow* also what was changed there
    and not here."""
    by = {"fill": ("empty here",), "follow": ("empty here", "changed there")}
    return found.verdict in by.get(rule, ())


def sku_for(pattern: str, parts: Mapping[str, str]) -> str:
    """The SKU that a pattern gives a listing: WEB-{id} with id tv31 is WEB-tv31; runs of spaces become a hyphen.

    At most 60 characters. Unknown places stay empty.
    """
    filled = re.sub(r"\{([^{}]*)\}", lambda one: parts.get(one[1].strip().lower(), ""), pattern)
    return re.sub(r"\s+", "-", filled.strip())[:60]


def is_chosen(only: str, codes: Iterable[str]) -> bool:
    """Whether one of a listing's codes is among those chosen: apart by commas, spaces or lines, however they are written;
    * stands for any rest, as in SMK-*. Everything is, where none are chosen."""
    wanted = [one.casefold() for one in re.split(r"[,;\s]+", only) if one]
    known = [code.strip().casefold() for code in codes if code.strip()]
    return not wanted or any(fnmatchcase(code, one.replace("[", "[[]")) for one in wanted for code in known)


def spoken(name: str, value: Any) -> str:
    """A fact as it is shown; empty where there is none."""
    if not value:
        return ""
    if name == "tags":
        return ", ".join(value)
    if name == "description":
        return plain(value)
    unit = {"weight_grams": " g", "shelf_life_days": " days"}.get(name, " mm" if name in OF_ITEM else "")
    return f"{value}{unit}"
