"""What may go wrong with an outside account, by name."""

from __future__ import annotations


class ConnectorError(Exception):
    """The account did not do what was asked."""

    passing = False
    # Nothing else on this connection can work either, until somebody or time puts it right.
    whole_connection = False

    def __init__(self, detail: str = "", *, status: int | None = None, field: str = "", wait: float = 0.0) -> None:
        super().__init__(detail or (self.__doc__ or "").strip())
        self.status = status
        self.field = field
        self.wait = wait


class UnreachableError(ConnectorError):
    """Nothing answers at this address."""

    passing = True
    whole_connection = True


class BusyError(ConnectorError):
    """The account asks us to wait, or is out of order for the moment."""

    passing = True
    whole_connection = True


class HeldError(ConnectorError):
    """Nothing is sent just now."""

    passing = True
    whole_connection = True


class AccessError(ConnectorError):
    """The account does not accept the token."""

    whole_connection = True


class AddressError(ConnectorError):
    """This address may not be called."""

    whole_connection = True


class RefusedThereError(ConnectorError):
    """The account understood and refused."""


class NonsenseError(ConnectorError):
    """The answer cannot be read."""

    passing = True
