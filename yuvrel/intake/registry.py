"""Kinds of sheets that can be sent in: each room declares the columns of its own and says how a row is taken in."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from yuvrel.core.errors import NotFoundError
from yuvrel.core.intake import Column, Judge, Read, sku_key
from yuvrel.people.roles import Ability, Actor

Texts = Mapping[str, Mapping[str, str]]


def _nothing_wrong() -> Judge:
    return lambda values, is_new: ""


def _as_it_is() -> Callable[[str], str]:
    return str


@dataclass(frozen=True)
class Kind:
    """A kind of sheet.

    `standing`: what is there now, key to column to text; `apply` takes in
    rows that are new or changed, inside one transaction; `judge` makes, for one file, what core.intake.check_rows asks
    about each row; `known_as` likewise tells the key of a row from whatever else it
    may be known by. `hollow`: what a new row names was there before, and empty: undoing it clears it again.
    """

    name: str
    title: str
    words: str
    columns: tuple[Column, ...]
    ability: Ability
    standing: Callable[[], Iterator[tuple[str, dict[str, str]]]]
    apply: Callable[[Actor, Sequence[Read]], None]
    key_of: Callable[[Mapping[str, Any]], str] = sku_key
    judge: Callable[[], Judge] = _nothing_wrong
    known_as: Callable[[], Callable[[str], str]] = _as_it_is
    hollow: bool = False

    @property
    def needed(self) -> list[str]:
        """Columns a file must have."""
        return [column.name for column in self.columns if column.needed]


KINDS: dict[str, Kind] = {}


def declare(kind: Kind) -> None:
    """Make a kind of sheet known."""
    KINDS[kind.name] = kind


def kind_of(name: str) -> Kind:
    """The kind. Raises NotFoundError."""
    found = KINDS.get(name)
    if found is None:
        raise NotFoundError("There is no such sheet.", field="kind")
    return found
