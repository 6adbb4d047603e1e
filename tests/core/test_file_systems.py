"""The estimates, held against what the real formatters leave free on a sparse file."""

from __future__ import annotations

import re
import shutil
import subprocess
from pathlib import Path

import pytest

from pairshelf.core.domain.file_systems import overhead
from pairshelf.core.domain.units import GIB

_PATH = "/sbin:/usr/sbin:/bin:/usr/bin"


def _run(*command: str) -> str:
    program = shutil.which(command[0], path=_PATH)
    assert program, f"{command[0]} is missing; make test installs it"
    return subprocess.run([program, *command[1:]], capture_output=True, text=True, check=True).stdout


def _field(text: str, name: str) -> int:
    found = re.search(name + r"\D+(\d+)", text)
    assert found, name
    return int(found[1])


def _ext4(image: str) -> int:
    _run("mkfs.ext4", "-q", "-F", image)
    said = _run("dumpe2fs", "-h", image)
    return (_field(said, "Free blocks:") - _field(said, "Reserved block count:")) * _field(said, "Block size:")


def _xfs(image: str) -> int:
    _run("mkfs.xfs", "-q", "-f", image)
    return _field(_run("xfs_db", "-r", "-c", "sb 0", "-c", "p fdblocks", image), "fdblocks") * 4096


def _ntfs(image: str) -> int:
    _run("mkntfs", "-Q", "-F", "-q", image)
    said = _run("ntfsinfo", "-f", "-m", image)
    return _field(said, "Free Clusters:") * _field(said, "Cluster Size:")


def _btrfs(image: str) -> int:
    said = _run("mkfs.btrfs", "-f", image)
    kept = re.findall(r"(?:Metadata|System):\s+DUP\s+([\d.]+)(MiB|GiB)", said)
    return Path(image).stat().st_size - sum(int(2 * float(n) * (2**20 if u == "MiB" else 2**30)) for n, u in kept)


@pytest.mark.parametrize("size", [GIB, 37 * GIB, 1000 * GIB, 4095 * GIB, 4096 * GIB, 15 * 1024 * GIB])
@pytest.mark.parametrize(("name", "left_free"), [("ext4", _ext4), ("xfs", _xfs), ("ntfs", _ntfs), ("btrfs", _btrfs)])
def test_within_one_percent_of_the_formatter(name: str, left_free: object, size: int, tmp_path: Path) -> None:
    image = tmp_path / "image"
    with open(image, "wb") as file:
        file.truncate(size)
    real = left_free(str(image))  # type: ignore[operator]
    image.unlink()
    assert abs((size - overhead(name, size)) - real) <= size * 0.01
