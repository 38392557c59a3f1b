"""From a connection's row to a connector that can call; tokens are sealed at rest."""

from __future__ import annotations

from cryptography.fernet import Fernet, InvalidToken, MultiFernet
from django.conf import settings

from yuvrel.connectors.base import Account, Connector
from yuvrel.connectors.registry import KINDS
from yuvrel.core.errors import BadInputError, YuvrelError

from .models import Connection


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


def kind_of(connection: Connection) -> type[Connector]:
    """The connector class. Raises BadInputError for a kind nobody knows."""
    try:
        return KINDS[connection.kind]
    except KeyError as error:
        raise BadInputError(f"There is no kind {connection.kind!r}.", field="kind") from error


def connector_for(connection: Connection, attempts: int = 3) -> Connector:
    """A connector that calls as this connection."""
    account = Account(connection.address, unseal(connection.token_sealed), settings.ALLOW_PRIVATE_ADDRESSES, attempts)
    return kind_of(connection)(account)
