"""Every refusal: at its field, by its code, and word by word as it was read (``refusals.txt``); and what just goes.

Where a text differs on purpose, ``python -m tests.core.refusals`` writes it anew; read what changed before keeping it.
"""

from __future__ import annotations

from typing import Any

import pytest

from pairshelf.core.changes.kinds import KINDS
from pairshelf.core.domain.estate import Estate
from tests.core.refusals import ALL, JUST_GOES, KEPT, refusal, said

READ = KEPT.read_text().splitlines()[2:]


def test_what_was_read_is_what_is_tried() -> None:
    assert len(READ) == len(ALL)
    assert {kind for kind, *_ in ALL} | {kind for kind, *_ in JUST_GOES} <= set(KINDS)


@pytest.mark.parametrize("number", range(len(ALL)))
def test_what_cannot_be_done_is_refused_at_its_field_with_its_reason(number: int) -> None:
    kind, request, one, field, code = ALL[number]
    error = refusal(kind, request, one)
    assert error is not None
    assert error.field == field and code in (None, error.code), error.message
    assert error.message.endswith((".", "?"))
    assert said(kind, request, error) == READ[number]


@pytest.mark.parametrize(("kind", "request_", "one"), JUST_GOES)
def test_what_just_goes_is_drawn_up(kind: str, request_: dict[str, Any], one: Estate) -> None:
    error = refusal(kind, request_, one)
    assert error is None, error and error.message
