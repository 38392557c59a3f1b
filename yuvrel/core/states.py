"""Which states a document passes through: one table for each kind, and what is said when it does not allow a step."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from .errors import RefusedError


@dataclass(frozen=True)
class States:
    """`follows`: of each state the states that may come after it; one that may be
    given again names itself, and one that nothing else comes after is an end.

    `first` is the state that a new document has. Raises ValueError for a table that names a state it does not have, or
    that has one which no document could reach.
    """

    first: str
    follows: Mapping[str, tuple[str, ...]]

    def __post_init__(self) -> None:
        named = {self.first, *(state for after in self.follows.values() for state in after)}
        if unknown := named - self.follows.keys():
            raise ValueError(f"no such state: {', '.join(sorted(unknown))}")
        if lost := self.follows.keys() - self.reached(self.first):
            raise ValueError(f"never reached: {', '.join(sorted(lost))}")

    def reached(self, state: str) -> set[str]:
        """`state` and everything that may come of it."""
        found, ahead = {state}, [state]
        while ahead:
            for after in self.follows[ahead.pop()]:
                if after not in found:
                    found.add(after)
                    ahead.append(after)
        return found

    def may(self, state: str, to: str) -> bool:
        """Whether one state may follow another."""
        return to in self.follows[state]

    def ends(self) -> tuple[str, ...]:
        """The states that nothing else comes after."""
        return tuple(state for state, after in self.follows.items() if not set(after) - {state})

    def check(self, number: str, state: str, to: str) -> None:
        """Raises RefusedError, naming the document, where the step is not one of the table's."""
        if not self.may(state, to):
            raise RefusedError(f"{number} is {state}; it cannot become {to}.", field="state")
