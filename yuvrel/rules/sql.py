"""All SQL of this app that the ORM does not write, named and commented."""

from __future__ import annotations

import json
from collections.abc import Iterable
from typing import Any

from django.db import connection

from yuvrel.core.rules import Level
from yuvrel.ownership import company_id

# Asked for several times for each order, so it is ready: for the ORM to put it together took longer than to answer it.
VALUES = """
    SELECT name, level, subject, within, kind, value FROM rules_settingvalue
    JOIN unnest(%(levels)s::text[], %(subjects)s::bigint[], %(withins)s::bigint[], %(kinds)s::text[])
        AS rung(level, subject, within, kind) USING (level, subject, within, kind)
    WHERE company_id = %(company)s AND (%(names)s::text[] IS NULL OR name = ANY(%(names)s::text[]))
"""


def values_on(
    keys: Iterable[tuple[Level, int, int, str]], names: Iterable[str] | None = None
) -> list[tuple[str, str, int, int, str, Any]]:
    """What is set on rungs of these keys, as (name, level, subject, within, kind, value); of some settings, or of all."""
    listed = sorted(set(keys))
    told: dict[str, Any] = {
        "levels": [level.value for level, *_ in listed],
        "subjects": [subject for _, subject, *_ in listed],
        "withins": [within for _, _, within, _ in listed],
        "kinds": [kind for *_, kind in listed],
        "company": company_id(),
        "names": None if names is None else list(names),
    }
    with connection.cursor() as cursor:
        cursor.execute(VALUES, told)
        return [(*key, None if value is None else json.loads(value)) for *key, value in cursor]
