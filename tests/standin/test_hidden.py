"""What simulated drives keep out of reach of ordinary reads and writes."""

from __future__ import annotations

from pathlib import Path

import pytest

from pairshelf.core.disposal.facts import Command
from pairshelf.core.domain.device import Area, DeviceError, Presence, Stalled
from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.units import GIB
from pairshelf.standin.hidden import drawn
from pairshelf.standin.world import World

SIZE = 20 * GIB + GIB // 2


def areas(world: World, serial: str) -> dict[str, Area]:
    return {a.name: a for a in world.laboratory(serial, SIZE)}


def whole(area: Area) -> bytes:
    return area.read(0, area.cells)


def test_a_drive_is_the_same_whenever_it_is_asked(tmp_path: Path) -> None:
    world = World(tmp_path)
    first = world.open("S1", SIZE).identify(Kind.SSD)
    assert first == World(tmp_path).open("S1", SIZE).identify(Kind.SSD) and first.spare
    kinds = {drawn(f"S{i}", kind, 100).identity() for i in range(60) for kind in Kind}
    assert len({i.commands for i in kinds}) > 5 and any(i.protected for i in kinds) and any(i.reassigned for i in kinds)


def test_what_could_not_be_read_stays_behind_when_it_is_written_anew(tmp_path: Path) -> None:
    world = World(tmp_path)
    world.be("S1", SIZE, Kind.HDD, reassigned=[], protected=0, commands=[])
    drive = world.open("S1", SIZE)
    drive.write(3, b"s" * 4096)
    world.lose_extents("S1", [3])
    drive.write(3, bytes(4096))
    assert drive.read(3, 1) == bytes(4096) and drive.identify().reassigned == 1
    assert whole(areas(world, "S1")["reassigned"]) == b"s" * 4096
    # Overwriting all it shows does not reach that.
    drive.write(0, bytes(20 * 4096))
    assert whole(areas(world, "S1")["reassigned"]) == b"s" * 4096


def test_flash_keeps_older_copies_in_its_spare_area(tmp_path: Path) -> None:
    world = World(tmp_path)
    world.be("S1", SIZE, Kind.SSD)
    drive = world.open("S1", SIZE)
    drive.write(5, b"a" * 4096)
    drive.write(5, b"b" * 4096)
    assert b"a" * 4096 in whole(areas(world, "S1")["spare"])


def test_protected_capacity_is_shown_when_it_is_opened(tmp_path: Path) -> None:
    world = World(tmp_path)
    world.be("S1", SIZE, Kind.HDD, protected=4, reassigned=[], commands=[])
    drive = world.open("S1", SIZE)
    with pytest.raises(ValueError, match="outside"):
        drive.read(20, 1)
    assert any(whole(areas(world, "S1")["protected"])) and drive.open_protected() == 4
    drive.write(18, b"z" * 4096 * 6)
    assert drive.read(17, 7)[4096:] == b"z" * 4096 * 6
    assert whole(areas(world, "S1")["protected"]) == b"z" * 4096 * 4


@pytest.mark.parametrize("command", [Command.BLOCK_ERASE, Command.CRYPTO_ERASE, Command.SANITIZE_OVERWRITE])
def test_its_own_commands_reach_everything(tmp_path: Path, command: Command) -> None:
    world = World(tmp_path)
    world.be("S1", SIZE, Kind.SSD, commands=[command.value], protected=3, reassigned=[1, 2], spare=8)
    drive = world.open("S1", SIZE)
    before = {name: whole(a) for name, a in areas(world, "S1").items()}
    assert set(before) == {"held back", "shown", "protected", "reassigned", "spare"}
    if command is Command.SANITIZE_OVERWRITE:
        drive.overwrite_cells(0, drive.cells, bytes(4096))
    else:
        drive.erase_all(command)
    for name, area in areas(world, "S1").items():
        after = whole(area)
        blocks = [after[i : i + 4096] for i in range(0, len(after), 4096)]
        assert name == "held back" or not set(blocks) & {
            before[name][i : i + 4096] for i in range(0, len(after), 4096) if any(before[name][i : i + 4096])
        }
        assert name == "held back" or any(after) == (command is Command.CRYPTO_ERASE)
    drive.clear_held_back()
    assert not any(whole(areas(world, "S1")["held back"]))
    for other in {Command.BLOCK_ERASE, Command.FORMAT} - {command}:
        with pytest.raises(NotImplementedError):
            drive.erase_all(other)


def test_drives_stall_slow_down_and_die_in_the_middle(tmp_path: Path) -> None:
    world = World(tmp_path)
    world.be("S1", SIZE, Kind.HDD, stalls=True)
    drive = world.open("S1", SIZE)
    with pytest.raises(Stalled):
        drive.write(0, bytes(4096))
    world.be("S1", SIZE, Kind.HDD, stalls=False, slowness=4.0, dies_after=2)
    assert drive.slowness == 4
    drive.write(0, bytes(4096))
    drive.write(1, bytes(4096))
    with pytest.raises(DeviceError):
        drive.write(2, bytes(4096))
    assert world.presence("S1") is Presence.FAILED
