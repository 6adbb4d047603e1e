"""What can be wrong with a request, with the data a caller needs on the exception."""

from __future__ import annotations


class PairShelfError(Exception):
    """A request that cannot be met: a stable code, a sentence, and the field it is about."""

    def __init__(self, message: str, *, code: str = "bad-input", field: str | None = None) -> None:
        super().__init__(message)
        self.message = message
        self.code = code
        self.field = field


class BadInput(PairShelfError):
    """What was typed or sent cannot be understood or is out of range."""


class NotPossible(PairShelfError):
    """Understood, but the drives, the pool or the layout do not allow it."""

    def __init__(self, message: str, *, code: str = "not-possible", field: str | None = None) -> None:
        super().__init__(message, code=code, field=field)
