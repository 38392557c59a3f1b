"""What can be set, and who knows the subjects: rooms declare their settings and their ways here when they load."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from yuvrel.core.errors import NotFoundError
from yuvrel.core.rules import Rung, Setting

SETTINGS: dict[str, Setting] = {}


@dataclass(frozen=True)
class Way:
    """How one kind of subject inherits: `rungs` gives, for an id, its rungs with the most specific first.

    Raises NotFoundError where there is no such subject.
    """

    name: str
    rungs: Callable[[int], list[Rung]]


WAYS: dict[str, Way] = {}


def declare(*settings: Setting) -> None:
    """Make settings known; a name is declared once."""
    for setting in settings:
        if SETTINGS.setdefault(setting.name, setting) is not setting:
            raise ValueError(f"the setting {setting.name} is declared twice")


def add_way(way: Way) -> None:
    """Make known how a kind of subject inherits."""
    WAYS[way.name] = way


def setting_of(name: str) -> Setting:
    """The setting. Raises NotFoundError."""
    found = SETTINGS.get(name)
    if found is None:
        raise NotFoundError(f"There is no setting {name}.", field="name")
    return found


def rungs_of(way: str, key: str) -> list[Rung]:
    """The rungs of a subject; `key` is its id. Raises NotFoundError."""
    known = WAYS.get(way)
    if known is None or not key.isdigit() or len(key) > 18:
        raise NotFoundError("There is nothing like that to set anything for.", field="way")
    return known.rungs(int(key))
