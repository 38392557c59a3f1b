"""Setting values, and letting a level inherit again."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from django.db import transaction

from yuvrel.apart import rendered
from yuvrel.core.errors import BadInputError, NotFoundError, StaleError
from yuvrel.core.rules import Rung, Value, as_json
from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.ownership import company_id
from yuvrel.people.models import Company
from yuvrel.people.roles import Ability, Actor, audit

from . import queries
from .models import SettingChange, SettingValue
from .registry import CHECKS, SETTINGS, rungs_of, setting_of


def rung_at(way: str, key: str, level: str) -> Rung:
    """The rung of a level on a subject's way; of several categories the nearest. Raises NotFoundError."""
    for rung in rungs_of(way, key):
        if rung.level.value == level:
            return rung
    raise NotFoundError("Nothing can be set at that level here.", field="level")


def taken(rung: Rung, changes: Mapping[str, Any]) -> dict[str, Value]:
    """Changes checked: name to value, or INHERIT. Raises BadInputError naming the setting."""
    found: dict[str, Value] = {}
    for name, given in changes.items():
        setting = setting_of(name)
        if rung.level not in setting.levels or rung.given:
            raise BadInputError(f"{setting.label} cannot be set for a {rung.level.value}.", field=name)
        found[name] = queries.INHERIT if given is queries.INHERIT else setting.take(given, rendered)
    for check in CHECKS:
        check(rung, found)
    return found


@transaction.atomic
def change(actor: Actor, rung: Rung, changes: Mapping[str, Any], at: datetime, version: int | None = None) -> list[SettingChange]:
    """Set values at a level, or let it inherit again (INHERIT); what stays the same is no change.

    `version`: the newest change that was seen, or None not to look. Raises StaleError when there is a newer one,
    ForbiddenError, and BadInputError naming the setting.
    """
    values = taken(rung, changes)
    for name in values:
        actor.need(Ability(SETTINGS[name].ability))
    # What is set for the first time has no row yet that could be locked: changes take turns.
    Company.objects.select_for_update().get(pk=company_id())
    rows = {row.name: row for row in SettingValue.objects.filter(queries.on_rungs([rung]))}
    if version is not None and version != queries.versions_of([rung]).get(rung.key, 0):
        raise StaleError("Somebody changed these settings since you opened them.")
    made = [_put(actor, rung, name, value, rows.get(name), at) for name, value in values.items()]
    done = [change for change in made if change is not None]
    if done:
        record(Event.Kind.SETTING, [change.pk for change in done], f"rules of {rung.title}")
        before = {change.name: change.before.get("value", "inherited") for change in done}
        after = {change.name: change.after.get("value", "inherited") for change in done}
        audit(actor, "change settings", rung.level.value, rung.subject or None, before, after)
    return done


def _put(actor: Actor, rung: Rung, name: str, value: Value, row: SettingValue | None, at: datetime) -> SettingChange | None:
    key = {"level": rung.level.value, "subject": rung.subject, "within": rung.within, "kind": rung.kind}
    before = {} if row is None else {"value": row.value}
    after = {} if value is queries.INHERIT else {"value": as_json(value)}
    if before == after:
        return None
    if row is not None and not after:
        row.delete()
    elif row is not None:
        row.value = after["value"]
        row.save()
    else:
        SettingValue.objects.create(name=name, value=after["value"], **key)
    return SettingChange.objects.create(
        name=name, title=rung.title[:200], before=before, after=after, by=actor.name, at=at, **key
    )
