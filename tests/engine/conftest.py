"""What tests of the engine share."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.engine.scattered import Scattered

POOLS = [("copies-2", 4), ("copies-3", 5), ("parity-1:3", 5), ("parity-2:5", 7)]


@pytest.fixture(params=POOLS, ids=[name for name, _ in POOLS])
def spread(request: pytest.FixtureRequest, tmp_path: Path) -> Scattered:
    """A spread pool of each protection."""
    return Scattered(tmp_path, *request.param)
