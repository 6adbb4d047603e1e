"""How a process of a story begins. By itself, since a forked process imports the module of what it begins with, and
those of tests take half a second, three times a story."""

from __future__ import annotations

import importlib
import os
import sys
from pathlib import Path
from typing import Any


def log_of(module: str) -> Path:
    """The log of a process of the story at hand."""
    return Path(os.environ["PAIRSHELF_DEVICES"]).with_name(f"{module}.log")


def begin(module: str, words: list[str], surroundings: dict[str, str], given: dict[str, Any]) -> None:
    """``python -m MODULE WORDS`` in this process; what it writes to its log stands beside its devices."""
    from pairshelf.api import app
    from tests.server import forget_connections
    from tests.ui import warm

    os.environ.update(surroundings)
    os.dup2(os.open(log_of(module), os.O_WRONLY | os.O_CREAT | os.O_APPEND), 1)
    sys.argv = [module, *words]
    app.create_app = warm.ready
    forget_connections()
    importlib.import_module(module).main(**given)
