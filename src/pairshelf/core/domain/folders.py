"""How a writing service lays its files into folders, and what its settings say."""

from __future__ import annotations

import datetime as dt
import re
from dataclasses import dataclass

from pairshelf.core.errors import BadInput


@dataclass(frozen=True, slots=True)
class FolderScheme:
    """A way to lay files into folders."""

    id: str
    about: str


FOLDER_SCHEMES: dict[str, FolderScheme] = {
    s.id: s
    for s in (
        FolderScheme("by-date", "A folder for each day: 2026/11/25."),
        FolderScheme("by-source", "A folder for each source and month: source-1/2026-11."),
        FolderScheme("by-number", "Numbered folders, a new one when the last is full: 000001."),
    )
}
#: Above this many entries in one folder, listing it becomes slow on any file system.
MOST_FILES = 100_000
_SOURCES = 4


def check_scheme(scheme: str, files_per_folder: int) -> None:
    """BadInput for an unknown scheme or a limit that makes no sense."""
    if scheme not in FOLDER_SCHEMES:
        raise BadInput(
            f"“{scheme}” is no folder scheme; choose one of {', '.join(FOLDER_SCHEMES)}.", field="folder_scheme"
        )
    if not 1 <= files_per_folder <= MOST_FILES:
        raise BadInput(f"A folder holds 1 to {MOST_FILES} files.", field="files_per_folder")


def folder_for(scheme: str | None, index: int, files_per_folder: int | None, day: dt.date) -> str:
    """The folder of the file with this running number (from 0) on this day.

    Where a folder would pass its limit, the next one gets ``-2``, ``-3`` and so on after its name.
    """
    limit = files_per_folder or MOST_FILES
    if scheme is None:
        return ""
    if scheme == "by-number":
        return f"{index // limit + 1:06d}"
    if scheme == "by-source":
        base, number = f"source-{index % _SOURCES + 1}/{day:%Y-%m}", index // _SOURCES
    else:
        base, number = f"{day:%Y/%m/%d}", index
    part = number // limit
    return f"{base}-{part + 1}" if part else base


_LINE = re.compile(r"^\s*folder\s*=\s*(\S+)\s*$", re.M)


def folder_in(settings: str) -> str | None:
    """The data folder that an application's settings name, or None."""
    match = _LINE.search(settings)
    return match[1] if match else None


def with_folder(settings: str, folder: str) -> str:
    """The settings with another data folder."""
    return _LINE.sub(f"folder = {folder}", settings, count=1)


def settings_text(name: str, owner: str, folder: str) -> str:
    """Settings of an application as they are first written."""
    return f"# settings of {name}\nowner = {owner}\nfolder = {folder}\n"
