"""Keeping the outcome of a comparison: what differs is a drift until it is gone."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from decimal import Decimal

from django.db import transaction
from django.utils import timezone

from yuvrel.channels.models import Connection
from yuvrel.core.agreement import Code

from .models import Check, Drift


@dataclass
class Finding:
    """One difference to keep as a drift."""

    key: str
    title: str
    expected: str
    found: str
    cause: str = ""
    refs: dict[str, int] = field(default_factory=dict)


def keep(
    code: Code,
    connection: Connection | None,
    left: Decimal,
    right: Decimal,
    compared: int,
    findings: Iterable[Finding],
) -> None:
    """Store the outcome: new drifts open, those still there are renewed, those gone are healed."""
    now = timezone.now()
    listed = {f"{connection.pk if connection else 0}:{f.key}"[:120]: f for f in findings}
    with transaction.atomic():
        Check.objects.update_or_create(
            code=code,
            connection=connection,
            defaults={"at": now, "left": left, "right": right, "compared": compared, "differing": len(listed)},
        )
        standing = {d.key: d for d in Drift.objects.select_for_update().filter(code=code, connection=connection, healed_at=None)}
        for key, drift in standing.items():
            if key not in listed:
                drift.healed_at = now
                drift.save(update_fields=["healed_at"])
        for key, finding in listed.items():
            row = standing.get(key) or Drift(code=code, key=key, connection=connection, since=now)
            row.title, row.expected, row.found = finding.title[:200], finding.expected[:80], finding.found[:80]
            row.cause, row.seen_at = finding.cause[:200], now
            for name, value in finding.refs.items():
                setattr(row, f"{name}_id", value)
            row.save()
