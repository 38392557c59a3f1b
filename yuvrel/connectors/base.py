"""What a connector is, and what all of them read with.

A kind implements the calls of its capabilities against the canonical messages and nothing else;
scheduling, paging, retries, idempotency and read-back belong to the engine in channels.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation
from typing import Any, ClassVar, TypeVar

from pydantic import ValidationError

from .capabilities import PROTOCOLS, Capability, Orders, OrderStates
from .http import Caller, NonsenseError
from .messages import Identity, Message, Page, Raw
from .sign_in import TOKEN, SignIn

M = TypeVar("M", bound=Message)
P = TypeVar("P")
MOST_PAGES = 20_000
ASK_AGAIN = 4


@dataclass(frozen=True)
class Account:
    """Where and as whom to call; `values`: what was entered to sign in."""

    address: str
    values: Mapping[str, str]
    allow_private: bool
    attempts: int = 3


class Connector(ABC):
    """One kind of outside system. What it can do follows from the protocols it inherits; `gives_no` names what somebody
    who sets it up may look for in vain."""

    kind: ClassVar[str]
    label: ClassVar[str]
    sign_in: ClassVar[SignIn] = TOKEN
    can: ClassVar[frozenset[Capability]] = frozenset()
    scopes: ClassVar[tuple[str, ...]]
    gives_no: ClassVar[tuple[str, ...]] = ()
    calls_per_second: ClassVar[float] = 20.0

    def __init_subclass__(cls) -> None:
        cls.can = frozenset(can for can, protocol in PROTOCOLS.items() if issubclass(cls, protocol))

    def __init__(self, account: Account) -> None:
        self.values = account.values
        self.caller = Caller(
            account.address,
            self.sign_in.signer(account.address, account.values),
            allow_private=account.allow_private,
            attempts=account.attempts,
            per_second=self.calls_per_second,
        )

    @abstractmethod
    def identify(self) -> Identity:
        """Who answers and what the token may do; what is missing is named."""

    def _identity(self, data: Any) -> Identity:
        found = read(Identity, data)
        return found.model_copy(update={"missing": [scope for scope in self.scopes if scope not in found.scopes]})


def order_states(kind: type[Connector]) -> Mapping[str, str]:
    """The states that orders of a kind can be in, with what each proposes here; none where it has no orders."""
    return kind.order_states if issubclass(kind, Orders) else {}


def told_states(kind: type[Connector]) -> tuple[str, ...]:
    """Its words for how an order stands here; none where it cannot be told."""
    return kind.told_states if issubclass(kind, OrderStates) else ()


def capable(connector: Connector, protocol: type[P]) -> P:
    """The connector as one that can do a thing. Raises NotImplementedError where its kind cannot."""
    if isinstance(connector, protocol):
        return connector
    raise NotImplementedError(f"A {connector.label.lower()} has no {protocol.__name__.lower()}.")


def read(kind: type[M], data: Any) -> M:
    """A message from what an account sent. Raises NonsenseError naming the first bad field."""
    try:
        return kind.model_validate(data)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        said = first["msg"].removeprefix("Value error, ")
        raise NonsenseError(f"{where}: {said}" if where else said, field=where[:60]) from error


def sound(kind: type[M], rows: Iterable[Any]) -> list[M]:
    """The rows that can be read; one that cannot is missing, and the caller sees which."""
    found = []
    for row in rows:
        try:
            found.append(kind.model_validate(row))
        except ValidationError:
            continue
    return found


def raw_rows(rows: Sequence[Any], at: str = "") -> list[Raw]:
    """Things of a page as they came; `at` names the field that holds the time of their change, if there is one."""
    return [Raw(body=row, at=str(row.get(at) or "")[:80] if at and isinstance(row, dict) else "") for row in rows]


def part(body: Any, name: str) -> Any:
    """A field of what should be an object. Raises NonsenseError when it is none, or lacks the field."""
    if not isinstance(body, dict):
        raise NonsenseError("It is not built as it should be.", field=name)
    if name not in body:
        raise NonsenseError(f"It lacks {name}.", field=name)
    return body[name]


def objects(body: Any, name: str) -> list[dict[str, Any]]:
    """A field that should be a list of objects; none is an empty one. Raises NonsenseError."""
    found = body.get(name) or [] if isinstance(body, dict) else None
    if not isinstance(found, list) or not all(isinstance(one, dict) for one in found):
        raise NonsenseError(f"{name} is not a list of objects.", field=name)
    return found


def number(value: Any, what: str) -> Decimal:
    """A finite decimal from what an account sent. Raises NonsenseError."""
    try:
        found = Decimal(str(value))
    except InvalidOperation as error:
        raise NonsenseError(f"{what} is not a number.", field=what) from error
    if not found.is_finite():
        raise NonsenseError(f"{what} is not a number.", field=what)
    return found


def pages(fetch: Callable[[str], Page], cursor: str = "") -> Iterator[Page]:
    """Every page from `cursor` (the first) to the last. A page that leads back to one already read is asked for again.

    Raises NonsenseError when the account keeps leading back, or never ends.
    """
    seen = {"", cursor}
    for _ in range(MOST_PAGES):
        for _ in range(ASK_AGAIN):
            page = fetch(cursor)
            if page.cursor not in seen or not page.cursor:
                break
        else:
            raise NonsenseError("The account gives the same page again and again.")
        yield page
        if not page.cursor:
            return
        cursor = page.cursor
        seen.add(cursor)
    raise NonsenseError(f"The account has more than {MOST_PAGES} pages.")
