"""Rules of many items as a sheet: a row for an item everywhere, or for it at one place or on one connection; a column
for each setting. What the columns are follows from what is declared."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from django.utils import timezone

from yuvrel.apart import rendered
from yuvrel.core.errors import BadInputError
from yuvrel.core.gtin import normal_sku
from yuvrel.core.intake import Column, Judge, Read, Wrong, words
from yuvrel.core.rules import Level, Rung, Setting, Value
from yuvrel.core.sheet_reading import decimal_of
from yuvrel.intake.registry import Kind, declare
from yuvrel.people.roles import Ability, Actor
from yuvrel.rules.actions import change, taken
from yuvrel.rules.models import SettingValue
from yuvrel.rules.queries import INHERIT, kept
from yuvrel.rules.registry import SETTINGS

from .models import Item
from .products import items_of

NONE = "none"
# Stands in no SKU and no name: no cell holds one.
BETWEEN = "\t"
MOST_RULE = 4_000


@dataclass(frozen=True)
class Beside:
    """What a row may name beside its item, and at which level its values are set then.

    `finder` makes, for some items (None: for all), what finds the rung of one (id, title) and a name, or says what is
    wrong with it;
    `named` tells (SKU, name) of what values are set for, by subject and within.
    """

    column: str
    words: str
    example: str
    level: Level
    finder: Callable[[Sequence[int] | None], Callable[[int, str, str], Rung | str]]
    named: Callable[[], Mapping[tuple[int, int], tuple[str, str]]]


def text_of(setting: Setting, value: Value) -> str:
    """A value as a cell says it; never empty, as an empty cell says nothing."""
    if value is None:
        return setting.no_limit
    return f"{value.normalize():f}" if isinstance(value, Decimal) else str(value) or NONE


def value_of(setting: Setting, text: str) -> Value:
    """What a cell says. Raises BadInputError."""
    said = text.strip()
    if setting.limitless and said.casefold() == setting.no_limit.casefold():
        return None
    if said.casefold() == NONE and setting.type in ("choice", "text", "template"):
        return setting.take("")
    return setting.take(decimal_of(said, setting.name) if setting.type in ("quantity", "percent", "whole") else said, rendered)


def _column(setting: Setting) -> Column:
    def read(text: str) -> str:
        return text_of(setting, value_of(setting, words(MOST_RULE)(text)))

    unit = f", in {setting.unit}" if setting.unit else ""
    choices = f" One of {', '.join(value or NONE for value, _ in setting.choices)}." if setting.choices else ""
    about = f"{setting.label}{unit}: {setting.help}{choices}"
    return Column(setting.name, about, text_of(setting, setting.default), read, empty="", many=True)


def declare_rules(name: str, title: str, about: str, settings: Sequence[Setting], ability: Ability, beside: Beside) -> None:
    """Make a sheet of these settings known: for items, and for items at or on what stands beside them."""
    sheet = _RuleSheet(tuple(setting.name for setting in settings), beside)
    columns = (
        Column("sku", "of the item; case does not matter", "SMK-S-ASH", words(60), needed=True),
        Column(beside.column, beside.words, beside.example, words(80), tells=True, folded=True),
        *(_column(setting) for setting in settings),
    )
    declare(
        Kind(
            name,
            title,
            about,
            columns,
            ability,
            sheet.standing,
            sheet.apply,
            sheet.key_of,
            sheet.judge,
            sheet.known_as,
            hollow=True,
        )
    )


@dataclass(frozen=True)
class _RuleSheet:
    names: tuple[str, ...]
    beside: Beside

    def key_of(self, values: Mapping[str, Any]) -> str:
        """An item, and what is named beside it."""
        return f"{normal_sku(values['sku'])}{BETWEEN}{str(values.get(self.beside.column, '')).strip().casefold()}"

    def standing(self) -> Iterator[tuple[str, dict[str, str]]]:
        """What is set of these, a row for each item and each item at or on what is named."""
        set_at = SettingValue.objects.filter(name__in=self.names, level__in=(Level.ITEM, self.beside.level))
        found: dict[tuple[Level, int, int], dict[str, str]] = {}
        for level, subject, within, name, value in set_at.order_by("pk").values_list(
            "level", "subject", "within", "name", "value"
        ):
            setting = SETTINGS[name]
            found.setdefault((Level(level), subject, within), {})[name] = text_of(setting, kept(setting, value))
        skus = dict(Item.objects.filter(pk__in=[s for level, s, _ in found if level == Level.ITEM]).values_list("pk", "sku"))
        named = self.beside.named()
        for (level, subject, within), texts in found.items():
            sku, name = (skus.get(subject, ""), "") if level == Level.ITEM else named.get((subject, within), ("", ""))
            if sku:
                yield _key(level, subject, within), {"sku": sku, self.beside.column: name, **texts}

    def known_as(self) -> Callable[[str], str]:
        """The rung of a row, however its item and its place are written."""
        find = self._find()

        def known(key: str) -> str:
            sku, _, name = key.partition(BETWEEN)
            rung = find(sku, name)
            return key if isinstance(rung, str | tuple) else _key(rung.level, rung.subject, rung.within)

        return known

    def judge(self) -> Judge:
        """The item and what is named beside it are there, and each value can be set at that level."""
        find = self._find()

        def wrong(values: Mapping[str, Any], is_new: bool) -> Wrong:
            rung = find(normal_sku(values["sku"]), values.get(self.beside.column, ""))
            if isinstance(rung, str | tuple):
                return rung
            try:
                taken(rung, self._changes(values, self.names))
            except BadInputError as error:
                return (error.field if error.field in self.names else "sku"), error.detail
            return ""

        return wrong

    def apply(self, actor: Actor, rows: Sequence[Read]) -> None:
        """Set what each row says; what it clears is inherited again."""
        find, now = self._find([row.values["sku"] for row in rows]), timezone.now()
        for row in rows:
            rung = find(normal_sku(row.values["sku"]), row.values.get(self.beside.column, ""))
            if isinstance(rung, str | tuple):
                raise BadInputError(f"{row.values['sku']} is there no more.", field="sku")
            changes = self._changes(row.values, row.changes)
            if changes:
                change(actor, rung, changes, now)

    def _changes(self, values: Mapping[str, Any], names: Any) -> dict[str, Any]:
        return {
            name: value_of(SETTINGS[name], values[name]) if values[name] else INHERIT
            for name in self.names
            if name in values and name in names
        }

    def _find(self, skus: Sequence[str] | None = None) -> Callable[[str, str], Rung | Wrong]:
        rows = (Item.objects.all() if skus is None else items_of(skus)).filter(active=True)
        items = {normal_sku(sku): (pk, title) for pk, sku, title in rows.values_list("pk", "sku", "title")}
        find = self.beside.finder(None if skus is None else [pk for pk, _ in items.values()])

        def rung(sku: str, name: str) -> Rung | Wrong:
            if sku not in items:
                return "is no item of the range"
            pk, title = items[sku]
            if not name.strip():
                return Rung(Level.ITEM, title, pk)
            found = find(pk, title, name.strip().casefold())
            return (self.beside.column, found) if isinstance(found, str) else found

        return rung


def _key(level: Level, subject: int, within: int) -> str:
    return f"#{level.value}:{subject}:{within}"
