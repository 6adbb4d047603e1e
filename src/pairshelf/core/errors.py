"""What can be wrong with a request, with the data a caller needs on the exception.

``code`` is stable, ``field`` says where; ``facts`` are the values the sentence is made of, so that nobody has to
read them back out of it. Every front (API, console, worker) says them in its own way.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import ClassVar, ParamSpec

P = ParamSpec("P")
Fact = str | int | float | None


class PairShelfError(Exception):
    """A request that cannot be met."""

    #: Used where an error is raised without a code of its own.
    usual_code: ClassVar[str] = "bad-input"

    def __init__(self, message: str, *, code: str | None = None, field: str | None = None, **facts: Fact) -> None:
        super().__init__(message)
        self.message = message
        self.code = code or self.usual_code
        self.field = field
        self.facts = facts


class BadInput(PairShelfError):
    """What was typed or sent cannot be understood or is out of range."""


class NotFound(BadInput):
    """What is named is not there."""

    usual_code = "not-found"

    def __init__(self, kind: str, ref: Fact = None, *, field: str | None = None, hint: str = "") -> None:
        said = f"There is no such {kind}." if ref is None or ref == "" else f"There is no {kind} {ref}."
        super().__init__(f"{said} {hint}".strip(), field=field, kind=kind, ref=ref)


class NameTaken(BadInput):
    """Something else has this name, and names of its kind are unique."""

    usual_code = "name-taken"

    def __init__(self, kind: str, name: str, *, field: str = "name", where: str = "") -> None:
        where = f" in {where}" if where else ""
        super().__init__(f"There is a {kind} named {name}{where} already.", field=field, kind=kind, name=name)


class Denied(PairShelfError):
    """This person may not do this."""

    usual_code = "denied"


class NotSignedIn(Denied):
    """Nobody knows who asks, or who asks has not proven to be who they say."""

    usual_code = "signed-out"


class NotNow(Denied):
    """Asked too often; later it may be asked again."""

    usual_code = "too-many-attempts"

    def __init__(self, message: str, *, code: str | None = None, retry_after: int | None = None) -> None:
        super().__init__(message, code=code, retry_after=retry_after)
        #: Seconds after which it may be tried again.
        self.retry_after = retry_after

    @classmethod
    def for_a_while(cls, seconds: float) -> NotNow:
        """Too many failed attempts."""
        left = max(1, math.ceil(seconds))
        said = f"{left} seconds" if left < 120 else f"{math.ceil(left / 60)} minutes"
        return cls(f"Too many failed attempts; wait {said} and try again.", retry_after=left)


class NotPossible(PairShelfError):
    """Understood, but the drives, the pool or the layout do not allow it."""

    usual_code = "not-possible"


def reason_of(require: Callable[P, None], *args: P.args, **kwargs: P.kwargs) -> str | None:
    """Why a requirement refuses, as one sentence, or None where it does not; a screen asks before the person does."""
    try:
        require(*args, **kwargs)
    except NotPossible as error:
        return error.message
    return None


class Gone(NotPossible):
    """What a sheet or a job is about is not there any more."""

    usual_code = "gone"

    def __init__(self, kind: str, ref: Fact = None, *, field: str | None = None) -> None:
        name = f"{kind[0].upper()}{kind[1:]} {ref}" if ref is not None else f"The {kind}"
        super().__init__(f"{name} is not there any more.", code=f"{kind}-gone", field=field, kind=kind, ref=ref)


class Busy(NotPossible):
    """Work is under way that does not go with it."""

    usual_code = "busy"

    def __init__(self, message: str, *, job: int | None, kind: str, code: str) -> None:
        super().__init__(message, code=code, job=job, kind=kind)


class NotServing(NotPossible):
    """A pool whose data cannot be reached now."""

    usual_code = "not-serving"

    def __init__(self, pool: str, state: str, then: str, *, field: str | None = None) -> None:
        super().__init__(f"Pool {pool} is {state}; {then}.", field=field, pool=pool, state=state)


class Locked(NotPossible):
    """An encrypted pool whose key is not open."""

    usual_code = "locked"

    def __init__(self, pool: str, *, then: str = "an administrator unlocks it first", field: str | None = None) -> None:
        super().__init__(f"Pool {pool} is locked; {then}.", field=field, pool=pool)


class NoRoom(NotPossible):
    """A pool or a volume has less room than is needed."""

    usual_code = "pool-full"

    def __init__(
        self, message: str, *, needed: int, left: int, code: str | None = None, field: str | None = "size"
    ) -> None:
        super().__init__(message, code=code, field=field, needed=needed, left=left)
        self.left = left
