"""One root exception; every refusal names the field it concerns, so that a screen can point at it."""

from __future__ import annotations


class YuvrelError(Exception):
    """Something could not be done."""

    status = 422

    def __init__(self, detail: str = "", *, field: str = "") -> None:
        self.detail = detail or (self.__doc__ or "").strip()
        self.field = field
        super().__init__(self.detail)


class RefusedError(YuvrelError):
    """The request breaks a rule of the business."""


class BadInputError(YuvrelError):
    """A value cannot be read or is out of range."""


class NotFoundError(YuvrelError):
    """There is no such thing here."""

    status = 404


class StaleError(YuvrelError):
    """Somebody changed this while you were looking at it. Load it again."""

    status = 409


class ForbiddenError(YuvrelError):
    """Your role does not allow this."""

    status = 403


class UnbalancedError(YuvrelError):
    """The lines of a journal entry do not add up to zero."""
