"""What came of an approved sheet."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Outcome:
    """The pool it was about, and what is shown to the person once and kept nowhere."""

    pool_id: int | None = None
    passphrase: str | None = None
