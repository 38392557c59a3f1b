"""Settings: declared once, set at levels, and the most specific value wins.

A value that is not set is inherited. *No limit* is a value of its own, written None. Every resolved value carries the
level that spoke, and its Working shows all of them.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from decimal import Decimal, InvalidOperation
from enum import StrEnum
from typing import Any, Literal

import numpy as np
import numpy.typing as npt

from .bounds import check_day, check_text
from .content import Say, check_template, check_value_template
from .errors import BadInputError
from .money import ZERO, spoken
from .schedule import clock
from .working import Step, Working

Type = Literal["quantity", "percent", "whole", "choice", "date", "time", "text", "template", "map"]
Value = Decimal | int | str | None
Ints = npt.NDArray[np.int64]
# Words in one map, and characters in one of them.
MOST_WORDS, MOST_WORD = 200, 80


class Level(StrEnum):
    """Where a value may be set, in the words of the screens."""

    LISTING = "listing"
    ITEM_AT_PLACE = "item at a place"
    ITEM = "item"
    PRODUCT = "product"
    CATEGORY_ON_CONNECTION = "category on a connection"
    CATEGORY = "category"
    CONNECTION = "connection"
    KIND = "kind of connection"
    PLACE = "place"
    SUPPLIER = "supplier"
    COMPANY = "company"
    DEFAULT = "default"


# The most specific first.
ON_CHANNELS = (
    Level.LISTING,
    Level.ITEM,
    Level.PRODUCT,
    Level.CATEGORY_ON_CONNECTION,
    Level.CATEGORY,
    Level.CONNECTION,
    Level.KIND,
    Level.COMPANY,
)
OF_PLACES = (Level.ITEM_AT_PLACE, Level.ITEM, Level.PRODUCT, Level.CATEGORY, Level.PLACE, Level.COMPANY)
OF_CONNECTIONS = (Level.CONNECTION, Level.KIND, Level.COMPANY)


@dataclass(frozen=True)
class Setting:
    """What can be set: bounds are inclusive, `places` the decimals kept; `limitless`: no limit is a value of it.

    `ability` names what a person must be allowed to do to change it; `only_with`: another setting and the values of
    which it must have one for this one to count. A date is kept as its ISO text, a time of day as HH:MM; `most`: characters
    of a text; `needs`: what a connection must be able to do for this to mean anything; `rehearsal`: what a change of it
    is tried out on first: what channels show, what is reordered, or nothing.

    A map says what an account's words of one sort (`words`) mean here: one of `choices`, or a short text where there
    are none. It is kept as JSON text with its words in order; a word that is missing means what the kind of account
    itself proposes, and `no_limit` says so where none is there; `templates`: what it means is a template, in which
    an option that an item does not have is empty. `nothing` is what an empty text is called.
    """

    name: str
    label: str
    help: str
    type: Type
    default: Value
    levels: tuple[Level, ...]
    group: str
    ability: str
    unit: str = ""
    low: Decimal = ZERO
    high: Decimal = Decimal(10**9)
    places: int = 0
    choices: tuple[tuple[str, str], ...] = ()
    limitless: bool = False
    no_limit: str = "no limit"
    nothing: str = "none"
    only_with: tuple[str, ...] = ()
    most: int = 160
    needs: str = ""
    rehearsal: Literal["", "shown", "reorder"] = ""
    words: str = ""
    templates: bool = False

    def take(self, given: Any, say: Say | None = None) -> Value:
        """A value as it is kept, from text or JSON; templates are tried by `say`. Raises BadInputError naming the setting."""
        if given is None:
            if self.limitless:
                return None
            raise BadInputError(f"{self.label} needs a value.", field=self.name)
        if self.type == "choice":
            # Choices that are known only when they are asked for are checked by who makes them known.
            if self.choices and given not in dict(self.choices):
                raise BadInputError(f"{self.label} must be one of {', '.join(dict(self.choices))}.", field=self.name)
            return str(given)
        if self.type == "map":
            return self._map(given, say)
        if self.type == "date":
            return self._day(given)
        if self.type == "time":
            return self._time(given)
        if self.type == "template":
            return check_template(str(given).strip(), self.name, say)
        if self.type == "text":
            return check_text(str(given).strip(), self.name, most=self.most)
        return self._number(given)

    def _map(self, given: Any, say: Say | None) -> str:
        try:
            found = json.loads(given) if isinstance(given, str) else given
        except ValueError as error:
            raise BadInputError(f"{self.label} must be words with their meanings.", field=self.name) from error
        if not isinstance(found, dict) or len(found) > MOST_WORDS:
            raise BadInputError(f"{self.label} must be at most {MOST_WORDS} words with their meanings.", field=self.name)
        known = dict(self.choices)
        for word, meaning in found.items():
            check_text(word, self.name, most=MOST_WORD)
            if not isinstance(meaning, str) or (known and meaning not in known):
                raise BadInputError(f"What {word} means must be one of {', '.join(known)}.", field=self.name)
            check_text(meaning, self.name, most=self.most)
            if self.templates:
                self._template_of(word, meaning, say)
        return json.dumps({word: found[word].strip() for word in sorted(found) if found[word].strip()}, ensure_ascii=False)

    def _template_of(self, word: str, meaning: str, say: Say | None) -> None:
        try:
            check_value_template(meaning, self.name, say)
        except BadInputError as error:
            raise BadInputError(f"{word}: {error.detail}", field=self.name) from error

    def _day(self, given: Any) -> str:
        try:
            return check_day(date.fromisoformat(str(given).strip()), self.name).isoformat()
        except ValueError as error:
            raise BadInputError(f"{self.label} must be a date.", field=self.name) from error

    def _time(self, given: Any) -> str:
        try:
            return f"{clock(str(given)):%H:%M}"
        except ValueError as error:
            raise BadInputError(f"{self.label} must be a time like 06:30.", field=self.name) from error

    def _number(self, given: Any) -> Value:
        try:
            value = Decimal(str(given).strip())
        except InvalidOperation as error:
            raise BadInputError(f"{self.label} must be a number.", field=self.name) from error
        places = 0 if self.type == "whole" else self.places
        if not value.is_finite() or not self.low <= value <= self.high:
            raise BadInputError(f"{self.label} must lie between {spoken(self.low)} and {spoken(self.high)}.", field=self.name)
        if value != round(value, places):
            raise BadInputError(f"{self.label} takes {f'at most {places}' if places else 'no'} decimals.", field=self.name)
        return int(value) if self.type == "whole" else value

    def said(self, value: Value) -> str:
        """A value as a person reads it."""
        if value is None:
            return self.no_limit
        if self.type == "map":
            told = [f"{word}: {dict(self.choices).get(meaning, meaning)}" for word, meaning in meanings(value).items()]
            return ", ".join(told) or self.no_limit
        if self.type in ("text", "template") and not value:
            return self.nothing
        if isinstance(value, str):
            return f"{date.fromisoformat(value):%-d %b %Y}" if self.type == "date" else dict(self.choices).get(value, value)
        unit = self.unit.removesuffix("s") if abs(Decimal(value)) == 1 else self.unit
        return f"{spoken(Decimal(value))} {unit}".strip()


def meanings(value: Value) -> dict[str, str]:
    """What each word of a map means."""
    found: dict[str, str] = json.loads(str(value or "{}"))
    return found


def as_json(value: Value) -> Any:
    """A value as it is kept: numbers as texts, so that nothing is rounded."""
    return str(value) if isinstance(value, Decimal) else value


@dataclass(frozen=True)
class Rung:
    """One place on the way from the most specific to the default: which subject, and how it is called.

    `within`: the connection of a category on it, the place of an item at it. `kind`: of a kind of connection.
    `given`: values, by name of the setting, that are kept elsewhere and cannot be set as settings.
    """

    level: Level
    title: str
    subject: int = 0
    within: int = 0
    kind: str = ""
    given: tuple[tuple[str, Value], ...] = ()

    @property
    def key(self) -> tuple[Level, int, int, str]:
        """What a value set here is kept under."""
        return (self.level, self.subject, self.within, self.kind)


@dataclass(frozen=True)
class Resolved:
    """The value that counts, and who spoke: None when it is the default."""

    setting: Setting
    value: Value
    rung: Rung | None
    given: tuple[tuple[Rung, Value], ...] = field(default=())

    @property
    def level(self) -> Level:
        """The level that spoke."""
        return self.rung.level if self.rung else Level.DEFAULT

    def working(self, rungs: Sequence[Rung], subject: str) -> Working:
        """All levels, which spoke, which were overruled."""
        given = {rung.key: value for rung, value in self.given}
        steps = []
        for rung in rungs:
            if rung.level not in self.setting.levels:
                continue
            if rung.key not in given:
                steps.append(Step(rung.title, "inherits", rung.level.value, kind="fact"))
            else:
                speaks = self.rung is not None and rung.key == self.rung.key
                note = rung.level.value if speaks else f"{rung.level.value}, overruled by a more specific one"
                steps.append(Step(rung.title, self.setting.said(given[rung.key]), note, kind="term" if speaks else "fact"))
        steps.append(Step("Default", self.setting.said(self.setting.default), "as it comes", kind="fact"))
        steps.append(Step(self.setting.label, self.setting.said(self.value), kind="result"))
        return Working(f"Where does {self.setting.label.lower()} come from?", subject, tuple(steps), self.setting.help)


def resolve(setting: Setting, rungs: Sequence[Rung], values: Mapping[tuple[Level, int, int, str], Value]) -> Resolved:
    """The value that counts on a way of rungs, the most specific first.

    Check (02-domain, buffer): company 0, connection 3, category 6, product 5, item 4, listing 2 -> 2; without the
    listing's 4; and so on down to the company's 0.
    """
    given = tuple((rung, values[rung.key]) for rung in rungs if rung.level in setting.levels and rung.key in values)
    if not given:
        return Resolved(setting, setting.default, None)
    rung, value = given[0]
    return Resolved(setting, value, rung, given)


@dataclass(frozen=True)
class Ladder:
    """Many subjects at once: for each level, the most specific first, the id that each of n subjects has there
    (0: none), as a column. A level may come several times: categories, the nearest first."""

    columns: tuple[tuple[Level, Ints], ...]
    count: int


def resolve_columns(setting: Setting, ladder: Ladder, values: Mapping[Level, Mapping[int, Value]]) -> tuple[list[Value], Ints]:
    """(different values, which of them counts for each of n subjects): `resolve` for all of them at once.

    `values`: by level, subject to what is set there; the first of the different values is the default.
    """
    found, which, _ = resolve_sources(setting, ladder, values)
    return found, which


def resolve_sources(
    setting: Setting, ladder: Ladder, values: Mapping[Level, Mapping[int, Value]]
) -> tuple[list[Value], Ints, list[tuple[Level, int]]]:
    """As `resolve_columns`, and for each of the different values the level and the subject that it is set for."""
    found: list[Value] = [setting.default]
    spoke: list[tuple[Level, int]] = [(Level.DEFAULT, 0)]
    which = np.zeros(ladder.count, np.int64)
    for level, ids in reversed(ladder.columns):
        given = values.get(level) or {}
        if level not in setting.levels or not given:
            continue
        keys = np.array(sorted(given), np.int64)
        at = np.minimum(np.searchsorted(keys, ids), len(keys) - 1)
        hit = keys[at] == ids
        which = np.where(hit, len(found) + at, which)
        found += [given[int(key)] for key in keys]
        spoke += [(level, int(key)) for key in keys]
    return found, which, spoke
