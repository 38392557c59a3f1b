"""Reading settings: what counts for one subject, and for many as columns."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from decimal import Decimal
from functools import reduce
from operator import or_
from typing import Any

from django.db.models import Max, Q

from yuvrel.core.rules import Level, Resolved, Rung, Setting, Value, as_json, resolve
from yuvrel.core.working import Working

from .models import SettingChange, SettingValue
from .registry import CHOICES, SETTINGS, rungs_of, setting_of
from .sql import values_on

Key = tuple[Level, int, int, str]


def kept(setting: Setting, value: Any) -> Value:
    """A value from JSON as the core takes it."""
    return Decimal(value) if setting.type in ("quantity", "percent") and value is not None else value


def on_rungs(rungs: Sequence[Rung]) -> Q:
    """The values set on any of these rungs."""
    conditions = [Q(level=r.level.value, subject=r.subject, within=r.within, kind=r.kind) for r in rungs]
    return reduce(or_, conditions, Q(pk=None))


def given_on(rungs: Sequence[Rung], names: Iterable[str] | None = None) -> dict[str, dict[Key, Value]]:
    """What is set on these rungs, by the setting's name and the rung's key."""
    found: dict[str, dict[Key, Value]] = defaultdict(dict)
    for name, level, subject, within, kind, value in values_on((rung.key for rung in rungs), names):
        if name in SETTINGS:
            found[name][Level(level), subject, within, kind] = kept(SETTINGS[name], value)
    for rung in rungs:
        for name, value in rung.given:
            found[name][rung.key] = value
    return found


def settled(rungs: Sequence[Rung], names: Iterable[str]) -> dict[str, Resolved]:
    """The values that count for one subject, in one query."""
    wanted = list(names)
    given = given_on(rungs, wanted)
    return {name: resolve(setting_of(name), rungs, given.get(name, {})) for name in wanted}


def by_level(names: Iterable[str], changed: Mapping[str, Mapping[Key, Value]] | None = None) -> dict[str, dict[Level, Any]]:
    """Everything that is set, for resolving many subjects: setting -> level -> (within, kind) -> subject -> value.

    `changed`: values to put in their place, as a rehearsal would; a key with the value INHERIT takes one away.
    """
    found: dict[str, dict[Level, Any]] = {name: defaultdict(lambda: defaultdict(dict)) for name in names}
    rows = SettingValue.objects.filter(name__in=list(found)).values_list("name", "level", "subject", "within", "kind", "value")
    for name, level, subject, within, kind, value in rows:
        found[name][Level(level)][within, kind][subject] = kept(SETTINGS[name], value)
    for name, values in (changed or {}).items():
        for (level, subject, within, kind), given in values.items():
            if name not in found:
                continue
            if given is INHERIT:
                found[name][level][within, kind].pop(subject, None)
            else:
                found[name][level][within, kind][subject] = given
    return found


def choices_of(setting: Setting) -> dict[str, str]:
    """What can be chosen, value to label, also where that is known only when it is asked for."""
    return dict(CHOICES.get(setting.name, lambda: setting.choices)())


def said(setting: Setting, value: Value, choices: Mapping[str, str]) -> str:
    """A value as a person reads it; `choices`: as `choices_of` gives them, asked for once for all its values."""
    if setting.type == "map" and choices:
        return replace(setting, choices=tuple(choices.items())).said(value)
    return choices.get(str(value), "") if setting.type == "choice" and str(value) in choices else setting.said(value)


class _Inherit:
    """Says that nothing is to be set."""


INHERIT: Any = _Inherit()


def sheet(way: str, key: str) -> dict[str, Any]:
    """All settings that can be set for a subject or above it, with what counts and where it comes from."""
    rungs = rungs_of(way, key)
    given = given_on(rungs)
    levels = {rung.level for rung in rungs}
    wanted = [s for s in SETTINGS.values() if levels & set(s.levels)]
    resolved = {s.name: resolve(s, rungs, given.get(s.name, {})) for s in wanted}
    versions = versions_of(rungs)
    return {
        "title": rungs[0].title,
        "rungs": [
            {"level": r.level.value, "title": r.title, "version": versions.get(r.key, 0), "elsewhere": bool(r.given)}
            for r in rungs
        ],
        "settings": [_told(resolved[s.name], rungs, given.get(s.name, {})) for s in wanted],
    }


def _told(found: Resolved, rungs: Sequence[Rung], given: Mapping[Key, Value]) -> dict[str, Any]:
    setting = found.setting
    choices = choices_of(setting)
    names = (
        "name",
        "label",
        "help",
        "type",
        "unit",
        "group",
        "limitless",
        "no_limit",
        "ability",
        "low",
        "high",
        "places",
        "needs",
        "rehearsal",
        "words",
    )
    return {
        **{name: getattr(setting, name) for name in names},
        "choices": [{"value": value, "label": label} for value, label in choices.items()],
        "only_with": list(setting.only_with) if setting.only_with else [],
        "value": as_json(found.value),
        "said": said(setting, found.value, choices),
        "level": found.level.value,
        "source": found.rung.title if found.rung else "the default",
        "rungs": [
            {
                "level": rung.level.value,
                "title": rung.title,
                "is_set": rung.key in given,
                "value": as_json(given.get(rung.key)),
                "said": said(setting, given[rung.key], choices) if rung.key in given else "",
                # What would count here if nothing were set at this level.
                "inherited": said(setting, inherited.value, choices),
                "inherited_value": as_json(inherited.value),
            }
            for at, rung in enumerate(rungs)
            if rung.level in setting.levels
            for inherited in (resolve(setting, rungs[at + 1 :], given),)
        ],
    }


def versions_of(rungs: Sequence[Rung]) -> dict[Key, int]:
    """The newest change of anything set on each rung that has one; what was seen before it is stale."""
    fields = ("level", "subject", "within", "kind")
    rows = SettingChange.objects.filter(on_rungs(rungs)).order_by().values_list(*fields).annotate(newest=Max("pk"))
    return {(Level(level), subject, within, kind): newest for level, subject, within, kind, newest in rows}


def history(way: str, key: str) -> list[dict[str, Any]]:
    """Changes of what counts for a subject, on all its rungs, newest first, as a person reads them."""
    rows = SettingChange.objects.filter(on_rungs(rungs_of(way, key)), name__in=SETTINGS).order_by("-pk")[:100]
    return [_change(row) for row in rows]


def said_of(row: SettingChange) -> tuple[str, str, str]:
    """What was changed, what it was and what it is, as a person reads it."""
    setting = SETTINGS.get(row.name)
    if setting is None:
        return row.name, "", ""

    choices = choices_of(setting)

    def told(side: dict[str, Any]) -> str:
        return said(setting, kept(setting, side["value"]), choices) if side else "inherited"

    return setting.label, told(row.before), told(row.after)


def _change(row: SettingChange) -> dict[str, Any]:
    names = ("id", "level", "title", "by", "at")
    label, before, after = said_of(row)
    return {**{name: getattr(row, name) for name in names}, "label": label, "before": before, "after": after}


def setting_working(way: str, key: str, name: str) -> Working:
    """Where the value that counts comes from. Raises NotFoundError."""
    rungs = rungs_of(way, key)
    found = settled(rungs, [name])[name]
    return found.working(rungs, rungs[0].title)
