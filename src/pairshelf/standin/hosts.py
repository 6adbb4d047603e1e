"""Simulated hosts: each a folder tree with real files, scaled like the media (4 KiB stand for 1 GiB)."""

from __future__ import annotations

import hashlib
import os
import shutil
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import quote

from pairshelf.core.domain.estate import Entry
from pairshelf.core.errors import NotPossible
from pairshelf.standin.media import SCALE

#: A folder that is closed while its volume is away: nothing can be written underneath.
_CLOSED = 0o555
_OPEN = 0o755
#: Bytes of a path, and of one name in it, with room left for names of our own.
_LONGEST, _LONGEST_PART = 3500, 240


class Machines:
    """The own disks of all simulated hosts."""

    def __init__(self, folder: Path) -> None:
        self._root = folder / "hosts"

    def _path(self, host: str, path: str) -> Path:
        root = self._root / _name(host)
        found = root / path.strip("/")
        if len(os.fsencode(str(found))) > _LONGEST or any(len(os.fsencode(p)) > _LONGEST_PART for p in found.parts):
            raise NotPossible("This path is longer than a host can keep.", code="path-too-long")
        if not found.resolve().is_relative_to(root.resolve()):
            raise NotPossible(f"{path} leads out of {host}.", code="outside")
        return found

    def entries(self, host: str, path: str) -> tuple[Entry, ...] | None:
        """What lies in a folder, or None when it is not there; sizes as the host sees them."""
        folder = self._path(host, path)
        if not folder.is_dir():
            return None
        return tuple(
            Entry(e.name, _size(Path(e.path)), e.is_dir())
            for e in sorted(os.scandir(folder), key=lambda e: e.name)
            if not e.name.startswith(".part-")
        )

    def files(self, host: str, path: str) -> Iterator[str]:
        """All files below a folder, by their path inside it, in order."""
        folder = self._path(host, path)
        for found in sorted(p for p in folder.rglob("*") if p.is_file() and not p.name.startswith(".part-")):
            yield str(found.relative_to(folder))

    def make_folder(self, host: str, path: str) -> None:
        """A folder with those above it; one that is there stays as it is."""
        self._path(host, path).mkdir(parents=True, exist_ok=True)

    def move(self, host: str, path: str, to: str) -> None:
        """A folder or file to another name on the same disk; nothing if it has been moved already."""
        source, target = self._path(host, path), self._path(host, to)
        if source.exists() and not target.exists():
            source.rename(target)

    def remove_empty(self, host: str, path: str) -> None:
        """An empty folder."""
        folder = self._path(host, path)
        if folder.is_dir():
            folder.chmod(_OPEN)
            folder.rmdir()

    def close(self, host: str, path: str, *, closed: bool) -> None:
        """Close an empty folder against writing, or open it."""
        folder = self._path(host, path)
        if folder.is_dir():
            folder.chmod(_CLOSED if closed else _OPEN)

    def is_closed(self, host: str, path: str) -> bool:
        """Whether nothing can be written to a folder of the host's own disk."""
        folder = self._path(host, path)
        return folder.is_dir() and not folder.stat().st_mode & 0o200

    def read(self, host: str, path: str) -> bytes:
        """A file's bytes."""
        return self._path(host, path).read_bytes()

    def write(self, host: str, path: str, content: bytes) -> None:
        """A whole file, all of it or none; NotPossible where its folder is closed."""
        target = self._path(host, path)
        for folder in target.parents:
            if folder.is_dir() and not folder.stat().st_mode & 0o200:
                raise NotPossible(f"{path} on {host} cannot be written: the folder is closed while its volume is away.",
                                  code="closed")  # fmt: skip
            if folder == self._root:
                break
        target.parent.mkdir(parents=True, exist_ok=True)
        draft = target.with_name(f".part-{target.name}")
        with open(draft, "wb") as file:
            file.write(content)
            file.flush()
            os.fsync(file.fileno())
        draft.replace(target)

    def remove(self, host: str, path: str) -> None:
        """A file or a whole folder; nothing if it is not there."""
        found = self._path(host, path)
        if found.is_dir():
            shutil.rmtree(found)
        else:
            found.unlink(missing_ok=True)


def _name(host: str) -> str:
    """The folder of a host: by its name, where that can be one."""
    name = quote(host, safe="")
    return name if len(name) <= 200 and name.strip(".") else hashlib.sha256(host.encode()).hexdigest()


def _size(path: Path) -> int:
    if path.is_dir():
        return sum(p.stat().st_size for p in path.rglob("*") if p.is_file()) * SCALE
    return path.stat().st_size * SCALE
