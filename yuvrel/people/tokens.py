"""Tokens for programs: what each may do at most, and until when."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Sequence
from datetime import datetime, timedelta

from django.conf import settings
from django.db import transaction
from django.utils import timezone

from yuvrel.core.errors import BadInputError, NotFoundError, RefusedError

from .models import ApiToken, User
from .roles import ALLOWED, Ability, Actor, audit

MOST_DAYS, MOST_TOKENS = 366, 20


def digest_of(token: str) -> str:
    """What is kept of a token."""
    return hashlib.sha256(token.encode()).hexdigest()


@transaction.atomic
def give_out(actor: Actor, name: str, days: int, abilities: Sequence[Ability], at: datetime) -> tuple[ApiToken, str]:
    """A new token of one's own, and its text, which is shown this once. Without abilities it may only read.

    Raises BadInputError naming what cannot be, RefusedError where there are too many.
    """
    if actor.user_id is None or actor.only is not None:
        raise RefusedError("Sign in to give out a token.")
    name = " ".join(name.split())
    if not name:
        raise BadInputError("Say what it is for.", field="name")
    if not 1 <= days <= MOST_DAYS:
        raise BadInputError(f"A token is good for 1 to {MOST_DAYS} days.", field="days")
    beyond = [one.value for one in abilities if one not in ALLOWED[actor.role]]
    if beyond:
        raise BadInputError(
            f"As {actor.role.value} you may not {beyond[0]}, so a token of yours may not either.", field="abilities"
        )
    live = ApiToken.objects.filter(user_id=actor.person, revoked_at=None, expires_at__gt=at)
    if live.count() >= MOST_TOKENS:
        raise RefusedError(f"You have {MOST_TOKENS} tokens. Revoke one first.")
    token = "yv_" + secrets.token_urlsafe(32)
    row = ApiToken.objects.create(
        user_id=actor.user_id,
        name=name,
        digest=digest_of(token),
        expires_at=at + timedelta(days=days),
        abilities=sorted({Ability.READ.value, *(one.value for one in abilities)}),
    )
    audit(actor, "gave out a token", "token", row.pk, after={"name": name, "days": days, "abilities": row.abilities})
    return row, token


@transaction.atomic
def revoke(actor: Actor, token_id: int, at: datetime) -> None:
    """Take a token of one's own back. Raises NotFoundError."""
    row = ApiToken.objects.select_for_update().filter(user_id=actor.person, pk=token_id, revoked_at=None).first()
    if row is None:
        raise NotFoundError("There is no such token of yours.")
    row.revoked_at = at
    row.save(update_fields=["revoked_at"])
    audit(actor, "revoked a token", "token", row.pk, before={"name": row.name})


def owner_of(token: str) -> tuple[User, frozenset[Ability] | None] | None:
    """The person behind a token that is good now, and what it may be used for at most (None: whatever the person may)."""
    at = timezone.now()
    row = ApiToken.objects.select_related("user").filter(digest=digest_of(token), revoked_at=None).first()
    if row is None or not row.user.is_active or (row.expires_at is not None and row.expires_at <= at):
        return None
    if not settings.READ_ONLY:
        ApiToken.objects.filter(pk=row.pk).update(last_used_at=at)
    return row.user, None if row.abilities is None else frozenset(Ability(one) for one in row.abilities)
