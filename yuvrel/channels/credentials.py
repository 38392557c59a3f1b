"""From a connection's row to a connector that can call; tokens are sealed at rest."""

from __future__ import annotations

import json
from typing import TypeVar

from cryptography.fernet import Fernet, InvalidToken, MultiFernet
from django.conf import settings

from yuvrel.connectors.base import Account, Connector, capable
from yuvrel.connectors.capabilities import Capability
from yuvrel.connectors.registry import KINDS
from yuvrel.core.errors import BadInputError, YuvrelError

from .models import Connection

P = TypeVar("P")


def _box() -> MultiFernet:
    return MultiFernet([Fernet(key) for key in settings.SEAL_KEYS])


def seal(secret: str) -> str:
    """Encrypt a secret for the database; the newest key seals, every listed key opens."""
    return _box().encrypt(secret.encode()).decode() if secret else ""


def unseal(sealed: str) -> str:
    """The secret again. Raises YuvrelError when no key of this deployment opens it."""
    if not sealed:
        return ""
    try:
        return _box().decrypt(sealed.encode()).decode()
    except InvalidToken as error:
        raise YuvrelError("A stored secret cannot be opened with the keys of this deployment.") from error


def kinds_that(can: Capability) -> list[str]:
    """The kinds of connections that can do a thing."""
    return [name for name, kind in KINDS.items() if can in kind.can]


def kind_of(connection: Connection) -> type[Connector]:
    """The connector class. Raises BadInputError for a kind nobody knows."""
    try:
        return KINDS[connection.kind]
    except KeyError as error:
        raise BadInputError(f"There is no kind {connection.kind!r}.", field="kind") from error


def connector_for(connection: Connection, attempts: int = 3) -> Connector:
    """A connector that calls as this connection."""
    values = {**connection.account, **secrets_of(connection)}
    return kind_of(connection)(Account(connection.address, values, settings.ALLOW_PRIVATE_ADDRESSES, attempts))


def connector_as(connection: Connection, protocol: type[P]) -> P:
    """A connector that can do a thing. Raises NotImplementedError where its kind cannot."""
    return capable(connector_for(connection), protocol)


def secrets_of(connection: Connection) -> dict[str, str]:
    """The secrets entered to sign in, by name."""
    return json.loads(unseal(connection.secrets_sealed) or "{}")


def keep_sign_in(connection: Connection, values: dict[str, str]) -> None:
    """Put what was entered to sign in into the row: secrets sealed, the rest to be seen. An empty secret stays what it
    was. Raises BadInputError naming what is missing."""
    secrets, shown = secrets_of(connection), dict[str, str]()
    for entry in kind_of(connection).sign_in.entries:
        given = str(values.get(entry.name) or "").strip()
        before = secrets.get(entry.name) if entry.secret else connection.account.get(entry.name)
        if not (given or before or entry.optional):
            raise BadInputError(
                f"Enter the {entry.label[:1].lower()}{entry.label[1:]}. {entry.help}", field=f"sign_in.{entry.name}"
            )
        (secrets if entry.secret else shown)[entry.name] = given or str(before or "")
    connection.secrets_sealed, connection.account = seal(json.dumps(secrets)), shown
