"""What can be set, and who knows the subjects: rooms declare their settings and their ways here when they load."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from yuvrel.core.errors import NotFoundError
from yuvrel.core.rules import Rung, Setting, Value

SETTINGS: dict[str, Setting] = {}


@dataclass(frozen=True)
class Way:
    """How one kind of subject inherits: `rungs` gives, for its id or its several ids, its rungs with the most specific
    first.

    Raises NotFoundError where there is no such subject.
    """

    name: str
    rungs: Callable[..., list[Rung]]
    ids: int = 1


WAYS: dict[str, Way] = {}
# What must hold of values set together at one level; each raises BadInputError naming the setting.
Check = Callable[[Rung, Mapping[str, Value]], None]
CHECKS: list[Check] = []


def add_check(check: Check) -> Check:
    """Make known what must hold of values set together."""
    CHECKS.append(check)
    return check


# Values that can be chosen and are known only when they are asked for: (value, label).
Choices = Callable[[], list[tuple[str, str]]]
CHOICES: dict[str, Choices] = {}


def add_choices(name: str, choices: Choices) -> None:
    """Make known where the choices of a setting come from that its declaration cannot name."""
    CHOICES[name] = choices


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
    """The rungs of a subject; `key` is its id, or its ids with dashes between. Raises NotFoundError."""
    known, ids = WAYS.get(way), key.split("-")
    if known is None or len(ids) != known.ids or not all(one.isdigit() and len(one) <= 18 for one in ids):
        raise NotFoundError("There is nothing like that to set anything for.", field="way")
    return known.rungs(*map(int, ids))
