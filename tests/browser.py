"""Which browser the tests, the benchmark and the screenshots drive: the one that setting up installs."""

from __future__ import annotations

import shutil

#: The one without windows does the same with a fifth less work; the other serves where that cannot be had.
_NAMES = ("chromium-headless-shell", "chromium")


def browser() -> str:
    """Its path."""
    found = next((path for name in _NAMES if (path := shutil.which(name))), None)
    assert found, "chromium is missing; make test installs it"
    return found
