"""Roles and what each may do. A refusal carries its reason."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from yuvrel.core.errors import ForbiddenError

from .models import AuditRow, User


class Role(StrEnum):
    """The five roles, and the system itself for background work."""

    MANAGER = "manager"
    BUYER = "buyer"
    STOCKKEEPER = "stockkeeper"
    BOOKKEEPER = "bookkeeper"
    VIEWER = "viewer"
    SYSTEM = "system"


class Ability(StrEnum):
    """One thing a role may do; reading needs none but READ."""

    READ = "read"
    CONNECT = "connect channels"
    EDIT_RANGE = "change the range"
    PRICE = "change prices"
    PAIR = "pair listings"
    ADJUST = "adjust stock"
    TRANSFER = "move stock between places"
    OPEN_STOCK = "take in opening stock"
    SHIP = "ship orders"
    CUSTOMERS = "keep customers"
    BUY = "buy"
    RECEIVE = "receive goods"
    KEEP_BOOKS = "keep the books"
    RESOLVE = "resolve snags and drifts"


ALLOWED: dict[Role, frozenset[Ability]] = {
    Role.MANAGER: frozenset(Ability),
    Role.SYSTEM: frozenset(Ability),
    Role.BUYER: frozenset(
        {Ability.READ, Ability.BUY, Ability.TRANSFER, Ability.EDIT_RANGE, Ability.PRICE, Ability.CUSTOMERS, Ability.PAIR}
    ),
    Role.STOCKKEEPER: frozenset({Ability.READ, Ability.ADJUST, Ability.TRANSFER, Ability.SHIP, Ability.RECEIVE, Ability.RESOLVE}),
    Role.BOOKKEEPER: frozenset({Ability.READ, Ability.KEEP_BOOKS, Ability.CUSTOMERS, Ability.OPEN_STOCK, Ability.RESOLVE}),
    Role.VIEWER: frozenset({Ability.READ}),
}


@dataclass(frozen=True)
class Actor:
    """Who acts: a person with a role, or the system."""

    name: str
    role: Role
    user_id: int | None = None
    # What the token of a program may be used for at most; None for a person.
    only: frozenset[Ability] | None = None

    @property
    def person(self) -> int:
        """The id of the person; 0, which nobody has, for the system."""
        return self.user_id or 0

    def may(self, ability: Ability) -> bool:
        """True when the role allows it, and the token where one is used."""
        return ability in ALLOWED[self.role] and (self.only is None or ability in self.only)

    def need(self, ability: Ability) -> None:
        """Raises ForbiddenError saying who may do it instead."""
        if self.only is not None and ability not in self.only and ability in ALLOWED[self.role]:
            raise ForbiddenError(f"This token may not {ability.value}. Give out one that may.")
        if not self.may(ability):
            who = [r.value for r in ALLOWED if ability in ALLOWED[r] and r is not Role.SYSTEM]
            raise ForbiddenError(f"As {self.role.value} you may not {ability.value}. Ask a {' or '.join(who)}.")


SYSTEM = Actor("Yuvrel", Role.SYSTEM)


def actor_of(user: User) -> Actor:
    """The actor behind a signed-in person; someone without a role may only look."""
    names = getattr(user, "group_names", None)  # as PeopleBackend read them
    if names is None:
        names = [group.name for group in user.groups.all()]
    role = next((role for role in Role if role.value in names), Role.VIEWER)
    return Actor(user.get_full_name() or user.username, role, user.pk)


def audit(
    actor: Actor,
    action: str,
    subject: str,
    subject_id: int | None,
    before: dict[str, Any] | None = None,
    after: dict[str, Any] | None = None,
) -> AuditRow:
    """Leave the row that says who did what; its id can number a document that has no other."""
    return AuditRow.objects.create(
        user_id=actor.user_id,
        actor=actor.name,
        action=action,
        subject=subject,
        subject_id=subject_id,
        before=before or {},
        after=after or {},
    )
